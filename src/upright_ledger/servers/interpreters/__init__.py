"""Servers' languages, executed: what written files do with a request, by the servers' own rules.

Nothing here knows how our writers write. Each module reads as much of a language as rule files use,
takes anything else for a fault, and says what comes back to a request. Texts are bytes spelled in
Latin-1.
"""

from __future__ import annotations

import re
import warnings
from collections.abc import Mapping
from dataclasses import dataclass, field
from functools import lru_cache
from typing import NamedTuple, Protocol


class NotUnderstoodError(ValueError):
    """A server would refuse the files, or they hold what rule files do not; the message says
    where.
    """


class DeclinedError(Exception):
    """The server answers a request by itself, with 400."""


@dataclass(frozen=True, slots=True)
class ServerRequest:
    """What a client sends. scheme: of the connection; headers: by names in lower case, besides
    Host.
    """

    host: str
    target: str
    scheme: str = "http"
    headers: Mapping[str, str] = field(default_factory=dict)

    @property
    def raw(self) -> str:
        """The target's bytes."""
        return in_bytes(self.target)


class ServerResponse(NamedTuple):
    """What comes back. location, cache: of these headers, empty where there is none."""

    status: int
    location: str = ""
    cache: str = ""


class Interpreter(Protocol):
    """Files that were read. Reading them raises NotUnderstoodError."""

    def answer(self, request: ServerRequest) -> ServerResponse | None:
        """What the rules answer, or None where they leave a request alone. Raises DeclinedError."""


def in_bytes(text: str) -> str:
    """A text as its bytes in UTF-8, one character each."""
    return text if text.isascii() else text.encode("utf-8", "surrogateescape").decode("latin-1")


def unescaped(text: str) -> str:
    """The bytes that percent escapes stand for. Raises DeclinedError for a broken one."""
    if "%" not in text:
        return text
    if re.search("%(?![0-9A-Fa-f]{2})", text):
        raise DeclinedError
    return re.sub("%(..)", lambda m: chr(int(m[1], 16)), text)


def resolved(path: str, *, above_root: bool = False) -> str:
    """A decoded path with slashes merged and dot segments taken out.

    Raises DeclinedError where it leads above the root, unless that is let pass.
    """
    out: list[str] = []
    parts = path.split("/")[1:]
    for part in parts:
        if part == "..":
            if not out and not above_root:
                raise DeclinedError
            del out[-1:]
        elif part not in {"", "."}:
            out.append(part)
    return "/" + "/".join(out) + ("/" if out and parts[-1] in {"", ".", ".."} else "")


@lru_cache(maxsize=1 << 14)
def regex(pattern: str, *, fold: bool = False) -> re.Pattern[str]:
    """A regular expression of the PCRE family over bytes. Raises NotUnderstoodError."""
    spelled = re.sub(r"\(\?<(?![=!])", "(?P<", pattern)
    spelled = re.sub(r"\\k<(\w+)>", r"(?P=\1)", spelled)
    return compiled(spelled, re.ASCII | (re.IGNORECASE if fold else 0))


def compiled(pattern: str, flags: int = 0) -> re.Pattern[str]:
    """A regular expression. Raises NotUnderstoodError."""
    try:
        with warnings.catch_warnings():
            warnings.simplefilter(
                "ignore", FutureWarning
            )  # "[[]" may come to mean something else here, and nowhere else
            return re.compile(pattern, flags)
    except re.error as error:
        raise NotUnderstoodError(f"{pattern!r} is no regular expression: {error}") from None
