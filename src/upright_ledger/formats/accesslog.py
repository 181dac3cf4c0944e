"""Access logs in the Common and Combined Log Format, with or without a virtual host in front."""

from __future__ import annotations

import re
from collections.abc import Iterator
from pathlib import Path

from upright_ledger.core.evidence import HITS
from upright_ledger.core.traffic import BLANK, NOT_A_PAGE_REQUEST, is_declared_bot
from upright_ledger.formats.reading import log_lines
from upright_ledger.formats.records import Aside, Item, ReadOptions, Record, Reject

_QUOTED = r'"((?:[^"\\]|\\.)*)"'
_LINE = re.compile(
    r"^(?:(?P<vhost>[^\s\[\"]+) )?(?P<client>[^\s\[\"]+) [^\s\[\"]+ [^\[\"]*?"
    r"\[(?P<day>\d{2})/(?P<month>[A-Z][a-z]{2})/(?P<year>\d{4}):\d{2}:\d{2}:\d{2} [+-]\d{4}\] "
    rf"{_QUOTED.replace('(', '(?P<request>', 1)} (?P<status>\d{{3}}) (?:\d+|-)"
    rf"(?: {_QUOTED.replace('(', '(?P<referrer>', 1)} {_QUOTED.replace('(', '(?P<agent>', 1)})?",
)
_MONTHS = {
    m: f"{n:02}"
    for n, m in enumerate(["Jan", "Feb", "Mar", "Apr", "May", "Jun", "Jul", "Aug", "Sep", "Oct", "Nov", "Dec"], 1)
}
_HEX = re.compile(rb"\\x([0-9A-Fa-f]{2})")
_VISITOR = re.compile(
    r"\b\d{1,3}(?:\.\d{1,3}){1,3}\b|(?:[0-9A-Fa-f]{0,4}:){5,}[0-9A-Fa-f]{0,4}|[0-9A-Fa-f:]*::[0-9A-Fa-f:]*"
)
_HOST = re.compile(r"^[A-Za-z0-9.-]+\.[A-Za-z][A-Za-z0-9-]*(?::\d+)?$")


def read_access_log(path: Path, options: ReadOptions) -> Iterator[Item]:
    """Read the requests of a log. No visitor address leaves this function."""
    del options
    for number, line in log_lines(path):
        if not line.strip():
            yield Aside(number, BLANK)
            continue
        match = _LINE.match(line)
        if match is None:
            yield Reject(number, "not a line of the Common or Combined Log Format", _without_visitor(line))
            continue
        parts = match["request"].split(" ")
        if len(parts) != 3 or not parts[2].startswith("HTTP/") or match["month"] not in _MONTHS:
            if match["request"] in {"-", ""}:
                yield Aside(number, NOT_A_PAGE_REQUEST, match["request"])
            else:
                yield Reject(number, "the request is damaged", _without_visitor(line))
            continue
        method, target = parts[0], _unescape(parts[1])
        if method not in {"GET", "HEAD"} or not target.startswith(("/", "http://", "https://")):
            yield Aside(number, NOT_A_PAGE_REQUEST, match["request"])
            continue
        agent = match["agent"]
        vhost = match["vhost"] or ""
        yield Record(
            number,
            target,
            sent=True,
            host=vhost if _HOST.match(vhost) else "",
            amounts={HITS: 1.0},
            status=int(match["status"]),
            day=f"{match['year']}-{_MONTHS[match['month']]}-{match['day']}",
            bot=is_declared_bot(agent) if agent is not None else False,
            referrer=_unescape(match["referrer"] or "").removeprefix("-"),
        )


def _unescape(text: str) -> str:
    """Undo what servers do to bytes they do not write bare: \\xHH, \\" and \\\\."""
    if "\\" not in text:
        return text
    raw = _HEX.sub(lambda m: bytes((int(m[1], 16),)), text.encode("utf-8", "surrogateescape"))
    return raw.decode("utf-8", "surrogateescape").replace('\\"', '"').replace("\\\\", "\\")


def _without_visitor(line: str) -> str:
    """A line without what may name a visitor: addresses, and the word it begins with."""
    first, blank, rest = _VISITOR.sub("[visitor]", line).partition(" ")
    return f"{'[visitor]' if '.' in first else first}{blank}{rest}"
