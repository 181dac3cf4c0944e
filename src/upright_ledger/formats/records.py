"""What every reader of old URLs yields, and the protocol behind which readers stand."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import Protocol


@dataclass(slots=True)
class Record:
    """One mention of an old URL.

    line: 1-based line (or item) of the file. url: as written; in a log, the request target as sent.
    sent: True when the target is what a client sent, so that nothing in it may be mended.
    host: the host a log names, or empty. amounts: unit → figure. status: 0 when not said. day:
    YYYY-MM-DD or empty. bot: None when nobody asked. referrer: the page that links here or led here.
    """

    line: int
    url: str
    sent: bool = False
    host: str = ""
    amounts: Mapping[str, float] = field(default_factory=dict)
    status: int = 0
    day: str = ""
    bot: bool | None = None
    title: str = ""
    language: str = ""
    referrer: str = ""


@dataclass(frozen=True, slots=True)
class Reject:
    """A line that could not be understood, with the reason and its text as it stood."""

    line: int
    reason: str
    text: str


@dataclass(frozen=True, slots=True)
class Aside:
    """A line that is understood and is no old URL of interest; `kind` is a class of core.traffic."""

    line: int
    kind: str
    text: str = ""


Item = Record | Reject | Aside


@dataclass(frozen=True, slots=True)
class ReadOptions:
    """What a user may say about a file. columns: meaning → header text."""

    encoding: str = ""
    columns: Mapping[str, str] = field(default_factory=dict)


class Reader(Protocol):
    """Reads one kind of file. Raises InputError for a file it cannot read at all."""

    def __call__(self, path: Path, options: ReadOptions) -> Iterator[Item]: ...
