"""What a line of a log says, and what a format of logs is: a module of its own, and a line of
`formats.logs.log_formats`.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from enum import IntEnum
from typing import NamedTuple
from urllib.parse import quote

MONTHS = {
    m: f"{n:02}"
    for n, m in enumerate(
        ["Jan", "Feb", "Mar", "Apr", "May", "Jun", "Jul", "Aug", "Sep", "Oct", "Nov", "Dec"], 1
    )
}


class LogLine(NamedTuple):
    """What a line says of a request, as it stands in the log.

    request: method, target and protocol. day: YYYY-MM-DD, or empty where the line tells none.
    agent: None where the format has none. clock: HH:MM:SS, or empty where that is not read.
    client: who asked; it is never kept.
    """

    request: str
    status: str
    day: str
    agent: str | None
    referrer: str
    host: str
    clock: str = ""
    client: str = ""


NO_REQUEST = frozenset(["-", "", "<BADREQ>"])
"""What servers write where a client sent nothing that is a request."""
UNDATED = "undated"
"""What stands for the day of a line in a log that tells no days."""


class NotALineError(ValueError):
    """A line that does not fit; the message says why."""


Parser = Callable[[str], LogLine | str]
"""Reads one line; a text names the class in which it is set aside. Raises NotALineError."""


class Likeness(IntEnum):
    """How much the first lines of a file look like a format."""

    NONE = 0
    SOME = 1
    SURE = 2


@dataclass(frozen=True)
class LogFormat:
    """A format of logs. sniff: told by the first lines of a file that are not empty. new_parser:
    makes a reader of lines from these first lines and the hosts of the old sites; it may keep what
    directives among them say. minutes_ahead: of the
    log's clock before UTC, by its first lines; None where the time of day is not read. in_columns:
    lines come apart at their quotes, so that they are read many thousands at a time. by_line: a
    line is read in the same way whatever stands before it.
    """

    sniff: Callable[[Sequence[str]], Likeness]
    new_parser: Callable[[Sequence[str], frozenset[str]], Parser]
    minutes_ahead: Callable[[Sequence[str]], int] | None = None
    in_columns: bool = False
    by_line: bool = False


def most(texts: Sequence[str], test: Callable[[str], object], tenths: int = 5) -> bool:
    """Whether at least half of some texts, or so many tenths of them, stand a test."""
    return bool(texts) and sum(1 for t in texts if test(t)) * 10 >= len(texts) * tenths


_HEX = re.compile(rb"\\x([0-9A-Fa-f]{2})")
_VISITOR = re.compile(
    r"\b\d{1,3}(?:\.\d{1,3}){1,3}\b|(?:[0-9A-Fa-f]{0,4}:){5,}[0-9A-Fa-f]{0,4}|"
    r"[0-9A-Fa-f:]*::[0-9A-Fa-f:]*"
)
_VHOST = re.compile(r"^[A-Za-z0-9.-]+\.[A-Za-z][A-Za-z0-9-]*(?::\d+)?$")


def is_status(text: str) -> bool:
    """Whether a text is the three digits of a status."""
    return len(text) == 3 and text.isdecimal()


def host_name(text: str) -> str:
    """A virtual host as a log names it, or an empty text where it is none."""
    return text if _VHOST.match(text) else ""


def unescape(text: str) -> str:
    """Undo what servers do to bytes they do not write bare: \\\\xHH, \\\\" and \\\\\\\\."""
    if "\\" not in text:
        return text
    raw = _HEX.sub(lambda m: bytes((int(m[1], 16),)), text.encode("utf-8", "surrogateescape"))
    return raw.decode("utf-8", "surrogateescape").replace('\\"', '"').replace("\\\\", "\\")


def with_escapes(text: str) -> str:
    """A request whose letters beyond ASCII are escapes, as the client sent them: what writes them
    bare had decoded them, and bytes that came bare are written as \\xHH.
    """
    return text if text.isascii() else _BEYOND_ASCII.sub(lambda m: quote(m[0]), text)


_BEYOND_ASCII = re.compile("[\x80-\ud7ff\ue000-\U0010ffff]+")


def without_visitor(line: str) -> str:
    """A line without what may name a visitor: addresses, and the word it begins with."""
    first, blank, rest = _VISITOR.sub("[visitor]", line).partition(" ")
    return f"{'[visitor]' if '.' in first else first}{blank}{rest}"


_QUOTED_REQUEST = re.compile(r'.{6,300}"[A-Z]{3,10} [^\s"]{1,2000} HTTP/\d(?:\.\d)?" \d{3}\b')


def is_quoted_request(value: object) -> bool:
    """Whether a value is a line of a server, with its request in quotes."""
    return isinstance(value, str) and _QUOTED_REQUEST.match(value) is not None
