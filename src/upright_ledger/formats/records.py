"""What every reader of old URLs yields, and the protocol behind which readers stand."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Protocol

from upright_ledger.core.inventory.evidence import Figure
from upright_ledger.core.rules.imported.rule import ImportedRule
from upright_ledger.formats.server_config.rules_read import NOTHING_SAID, ServerSetup

BLOCK = 20_000
"""Rows that are looked at together."""

FEW = 500
"""Rows up to which they are looked at one by one, as loading what has columns would take longer."""


@dataclass(slots=True)
class Record:
    """One mention of an old URL, or all that a log says of one request.

    line: 1-based line (or row, or item) of the file. url: as written; in a log, the request target
    as sent. lines: how many lines of the file this stands for. sent: True when the target is what a
    client sent, so that nothing in it may be mended. real: whether a log says that the old site
    answered it without an error, or a list names it. host: the host a log names, or empty. status:
    0 when not said. day: YYYY-MM-DD or empty. item: its number in the shop or the catalogue.
    referrers: the pages that link here or led here, with their number. mends: what was mended in
    the text. failure: the class of failure that a list of errors tells in words. is_link: it is one
    link of one of the `referrers`, to be counted. askers: how many people a log shows who asked for
    it in vain.
    """

    line: int
    url: str
    lines: int = 1
    sent: bool = False
    real: bool = True
    host: str = ""
    figures: Sequence[Figure] = ()
    status: int = 0
    day: str = ""
    title: str = ""
    anchor: str = ""
    language: str = ""
    item: str = ""
    referrers: Mapping[str, float] = field(default_factory=dict)
    mends: Iterable[str] = ()
    failure: str = ""
    is_link: bool = False
    askers: int = 0


@dataclass(frozen=True, slots=True)
class Reject:
    """A line that could not be understood, with the reason and its text as it stood."""

    line: int
    reason: str
    text: str


@dataclass(frozen=True, slots=True)
class Aside:
    """Lines that are understood and are no old URL of interest; `kind` is a class of
    core.inventory.noise.
    """

    line: int
    kind: str
    text: str = ""
    lines: int = 1


@dataclass(frozen=True, slots=True)
class RecordBlock:
    """Rows of a table, as columns.

    item: the number of a row, from 0 → what it says, read by itself. All others have a value a row,
    as a Record has it; where that is no record whose address is written as it is meant, they mean
    nothing. urls: without blanks around. figures: unit → amounts, 0 where a row gives none. led:
    the page that links here or led here, or empty.
    """

    item: Callable[[int], Item]
    lines: Sequence[int]
    urls: Sequence[str]
    figures: Mapping[str, Sequence[float]]
    status: Sequence[int]
    day: Sequence[str]
    title: Sequence[str]
    anchor: Sequence[str]
    language: Sequence[str]
    number: Sequence[str]
    led: Sequence[str]

    def items(self) -> Iterator[Item]:
        """What each row says."""
        return map(self.item, range(len(self.lines)))


Item = Record | Reject | Aside


def one_by_one(items: Iterable[Item | RecordBlock]) -> Iterator[Item]:
    """Items, each by itself."""
    for item in items:
        if isinstance(item, RecordBlock):
            yield from item.items()
        else:
            yield item


def without_small(items: Iterable[Item | RecordBlock]) -> Iterator[Item | RecordBlock]:
    """Items, those of small blocks each by itself."""
    for item in items:
        if isinstance(item, RecordBlock) and len(item.lines) <= FEW:
            yield from item.items()
        else:
            yield item


def _no_lines(_method: str) -> Mapping[str, Sequence[bytes]]:
    return {}


@dataclass(frozen=True, slots=True)
class ReadOptions:
    """What a user may say about a file, and what the ledger knows.

    kind: what the file is; empty where its content tells. log_format: of a log, as the server's
    configuration has it. host: the old host of paths that name
    none. columns: meaning → header text; empty where no column has that meaning. sheet: of a
    workbook.
    hosts: the hosts of the old sites, by which the column of old URLs is told from others. noise:
    kind → names (a regular expression) of parameters that are left out of what a log says, because
    they tell nothing of the page. live: times (UTC) at which builds went live, where days of logs
    are taken apart. known_lines: method → day → digests of log lines that count already; see
    `LogLines`. around: what is known of the server that a file of rules is for.
    """

    encoding: str = ""
    columns: Mapping[str, str] = field(default_factory=dict)
    hosts: frozenset[str] = frozenset()
    noise: Mapping[str, str] = field(default_factory=dict)
    live: tuple[str, ...] = ()
    known_lines: Callable[[str], Mapping[str, Sequence[bytes]]] = _no_lines
    sheet: str = ""
    around: ServerSetup = NOTHING_SAID
    kind: str = ""
    host: str = ""
    log_format: str = ""


@dataclass
class Reading:
    """A file being read: its items, and what is found out on the way.

    mapping: meaning → header, for tables. notes: what else a user should know. neighbours:
    addresses of other files that this one names. days: first and last day of a log. rules: redirect
    rules, in the order in which they are asked. lines: the identity of a log's lines, or None for
    other kinds. folded: what was left out of addresses, by kind, in lines.
    """

    items: Iterator[Item | RecordBlock] = field(default_factory=lambda: iter(()))
    mapping: dict[str, str] = field(default_factory=dict)
    notes: list[str] = field(default_factory=list)
    neighbours: list[str] = field(default_factory=list)
    days: tuple[str, str] = ("", "")
    lines: LogLines | None = None
    rules: Sequence[ImportedRule] = ()
    folded: Counter[str] = field(default_factory=Counter)


@dataclass
class LogLines:
    """The lines of a log as digests of 64 bits, so that one that stands in two files counts once.

    method: which digest this is. known: day → digests (8 bytes each) of lines counted before; an
    empty one stands for lines that were counted and are not kept any more, so that no line of that
    day counts. let_go: such a day → lines left out. found: day → digests of the lines of this log,
    filled while it is read. repeated: lines left out as known.
    """

    method: str = ""
    known: Mapping[str, Sequence[bytes]] = field(default_factory=dict)
    found: dict[str, bytes] = field(default_factory=dict)
    repeated: int = 0
    let_go: Counter[str] = field(default_factory=Counter)


class Reader(Protocol):
    """Reads one kind of file. Raises InputError for a file it cannot read at all, at once or while
    items are read.
    """

    def __call__(self, path: Path, options: ReadOptions) -> Reading: ...
