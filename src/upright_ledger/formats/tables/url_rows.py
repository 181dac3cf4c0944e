"""What each row of a table says of an old URL: many rows at a time, as columns, or one by one."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import replace
from itertools import chain, islice
from pathlib import Path
from typing import TypeVar

from upright_ledger.core.inventory.agents import asker_of
from upright_ledger.core.inventory.evidence import BAD_REDIRECT, SOFT_404, Figure, status_class
from upright_ledger.core.inventory.noise import AsideClass
from upright_ledger.core.inventory.packed import pack_days
from upright_ledger.core.inventory.units import HITS, IN_TABLES, LISTED, PER_PERIOD
from upright_ledger.core.url.repair import mend
from upright_ledger.formats.detection import FileKind
from upright_ledger.formats.records import (
    BLOCK,
    Aside,
    Item,
    Reading,
    ReadOptions,
    Record,
    RecordBlock,
    Reject,
)
from upright_ledger.formats.tables import column_names as col
from upright_ledger.formats.tables.cells import (
    NO_ADDRESS,
    Row,
    begins_a_sum,
    host_of,
    looks_like_address,
    status_code,
)
from upright_ledger.formats.tables.meanings.address_cells import fault_of
from upright_ledger.formats.tables.meanings.days import day_of, day_told
from upright_ledger.formats.tables.meanings.figures import number
from upright_ledger.formats.tables.meanings.odd_cells import OddCells
from upright_ledger.formats.tables.url_table import Table, read_table

T = TypeVar("T")
_NO_TITLE = frozenset(
    {"(not set)", "(not provided)", "-", "n/a", "none", "null"}
)  # how exports say nothing
_DOUBTFUL = frozenset("#-*= tsgoircyTSGOIRCY")  # totals and comments begin so, or with
_WORDS = re.compile(r"[^\W\d_]+(?: [^\W\d_]+)*:?\Z")
_ASCII = "\x7f"  # a letter beyond these
_NOWHERE = 1 << 30
_NONE: dict[str, float] = {}


def read_table_urls(path: Path, options: ReadOptions, kind: str = FileKind.TABLE) -> Reading:
    """Old URLs with their evidence from rows, in whatever kind of file they are."""
    return _reading(read_table(path, options, kind))


def _reading(table: Table) -> Reading:
    reading = Reading(_items(table), table.mapping, table.notes)
    reading.days = period_in([" ".join(cells) for _, cells in table.above])
    grown = [unit for unit in IN_TABLES if unit in PER_PERIOD and unit in table.columns]
    if grown and not any(reading.days):
        table.notes.append(
            f"for how many days its {' and '.join(grown)} count is not said (--period FROM..TO): "
            "they are taken as of 30 days"
        )
    for meaning, header in table.doubts.items():
        table.notes.append(
            f"does {header!r} speak of the page that links, or of ours? It is not taken; if of "
            "ours, gather it again with "
            f"--column {f'{meaning}={header}'!r}"
        )
    unused = [header for header in table.unused if header not in table.doubts.values()]
    if unused:
        more = f" and {len(unused) - 8:,} more" if len(unused) > 8 else ""
        table.notes.append(
            f"columns that are not used: {', '.join(unused[:8])}{more} (--column MEANING=HEADER "
            "settles one)"
        )
    return reading


_TWO_DAYS = re.compile(
    r"(?P<a>\d{4}-\d\d-\d\d|\d{1,2}[./]\d{1,2}[./]\d{4}|\d{8}|\d{1,2}\.? [^\W\d]+ "
    r"\d{4}|[^\W\d]+\.? \d{1,2}, \d{4})"
    r"\s*(?:-|–|—|\.\.+|to|bis|until|through|au|al|hasta|tot|a)\s*"
    r"(?P<b>\d{4}-\d\d-\d\d|\d{1,2}[./]\d{1,2}[./]\d{4}|\d{8}|\d{1,2}\.? [^\W\d]+ "
    r"\d{4}|[^\W\d]+\.? \d{1,2}, \d{4})",
    re.IGNORECASE,
)


def period_in(texts: Iterable[str]) -> tuple[str, str]:
    """The first two days with "to" between them that words above a table name; empty where they
    name none.
    """
    for text in texts:
        if match := _TWO_DAYS.search(text):
            month_first = any(
                int(d.split("/")[1]) > 12
                for d in match.groups()
                if re.fullmatch(r"\d+/\d+/\d{4}", d)
            )
            first, last = (day_of(d, month_first=month_first) for d in match.groups())
            if first and last and first <= last:
                return first, last
    return "", ""


def _items(table: Table) -> Iterator[Item | RecordBlock]:
    for line, cells in table.above:
        yield Aside(
            line,
            AsideClass.SUMMARY if cells else AsideClass.BLANK,
            " | ".join(c for c in cells if c.strip())[:500],
        )
    reader = _RowReader(table)
    while rows := list(islice(table.rows, BLOCK)):
        if table.languages:
            yield from chain.from_iterable(map(reader.in_each_language, rows))
        elif reader.by_itself:
            yield from map(reader.item, rows)
        else:
            yield reader.block(rows)
    table.notes += reader.notes


class _RowReader:
    """Reads the rows of a table.

    It runs a million times, so what does not change from row to row is looked up here.
    """

    def __init__(self, table: Table) -> None:
        columns = table.columns
        self._table = table
        self._url = columns[col.URL]
        self._host, self._query = columns.get(col.HOST), columns.get(col.QUERY)
        self._figures_at = [(unit, columns[unit]) for unit in IN_TABLES if unit in columns]
        texts = (
            col.TITLE,
            col.STATUS,
            col.LAST_SEEN,
            col.ANCHOR,
            col.LANGUAGE,
            col.REFERRER,
            col.TRAFFIC_SOURCE,
            col.ITEM,
            col.HEADING,
            col.REASON,
        )
        # One row a request, of which an agent and a time are told.
        self._agent = _NOWHERE if self._figures_at else columns.get(col.AGENT, _NOWHERE)
        is_request = self._agent != _NOWHERE and col.LAST_SEEN in columns
        # One row a link: the pages and sites that link are counted, where no column does.
        self.is_link = col.REFERRER in columns and not self._figures_at and not is_request
        self.by_itself = self.is_link or is_request
        self._texts_at = [columns.get(meaning, _NOWHERE) for meaning in texts]
        self._odd = OddCells()

    @property
    def notes(self) -> list[str]:
        """What stands where figures and days do, and is none."""
        return self._odd.notes

    def _amounts(self, unit: str, cells: Sequence[str], lines: Sequence[int]) -> list[float]:
        """The figures of a column."""
        known = {cell: number(cell) for cell in set(cells)}
        self._odd.add(unit, cells, lines, {c for c, amount in known.items() if amount is None})
        return [known[cell] or 0.0 for cell in cells]

    def _days(self, cells: Sequence[str], lines: Sequence[int]) -> list[str]:
        """The days of a column."""
        known = {cell: self._day(cell) for cell in set(cells)}
        self._odd.add(col.LAST_SEEN, cells, lines, {c for c, day in known.items() if not day})
        return [*map(known.__getitem__, cells)]

    def item(self, row: Row) -> Item:
        """What a row says."""
        line, cells = row
        if not cells:
            return Aside(line, AsideClass.BLANK)
        width = self._table.width
        if len(cells) > width.most and (fault := width.fault(cells)):
            return Reject(line, fault, " | ".join(cells))
        written = self._table.address(cells)
        if written[:1] == "/":
            host, query = (_cell(cells, at) for at in (self._host, self._query))
            written = _whole(host, written, query)
        if (
            not written
            or (self._table.is_whole and _is_no_address(written))
            or written.lower() in NO_ADDRESS
            or self._table.repeats(cells, self._table.header)
            or (
                (written[0] in _DOUBTFUL or written[0] > _ASCII)
                and (begins_a_sum(written) or (written[0] == "#" and not any(cells[1:])))
            )
        ):
            return _no_url(line, cells, written)
        if fault := fault_of(written):
            return Reject(line, fault, " | ".join(cells))
        return self._record(line, cells, written)

    def in_each_language(self, row: Row) -> Iterator[Item]:
        """What a row says of the addresses of a page in several languages, each by itself."""
        line, cells = row
        told = {at: lang for at, lang in self._table.languages.items() if any(cells[at : at + 1])}
        for at, language in told.items():
            item = self.item((line, _moved(cells, at, self._url)))
            yield replace(item, language=language) if isinstance(item, Record) else item
        if not told:
            yield self.item(row)

    def _record(self, line: int, row: list[str], written: str) -> Record:
        width = len(row)
        figures = []
        for unit, at in self._figures_at:
            if at < width and (cell := row[at]) and (amount := number(cell)):
                figures.append(Figure(unit, amount))
        told = [row[at].strip() if at < width else "" for at in self._texts_at]
        title, status, day, anchor, language, led, source, item, heading, reason = told
        url = mend(written)
        led = led or source
        seen = (self._day(day) if day else "") or url.day
        if seen and self._agent < width and (agent := row[self._agent].strip()):
            kind = status_class(status_code(status)) if status else ""
            figures = [Figure(HITS, 1.0, kind, asker_of(agent), pack_days({seen: 1.0}))]
        return Record(
            line,
            url.text,
            figures=figures or _LISTED,
            status=status_code(status) if status else 0,
            day=seen,
            title=_title(title, heading),
            anchor=anchor,
            language=language,
            item=item,
            referrers=dict.fromkeys(_each_page(led), 1.0) if led else _NONE,
            mends=url.mends,
            failure=failure_in(reason or status) if reason or status else "",
            is_link=self.is_link and looks_like_address(led),
        )

    def _day(self, cell: str) -> str:
        return day_told(cell, month_first=self._table.month_first)

    def block(self, rows: Sequence[Row]) -> RecordBlock:
        """What rows say, as columns."""
        lines, cells = zip(*rows, strict=True)
        width = 1 + max([self._url, *(at for _, at in self._figures_at), *self._placed()])
        most = self._table.width.most
        if set(map(len, cells)) != {width} or width > most:
            cells = tuple(_of_width(row, width, most) for row in cells)
        columns = list(zip(*cells, strict=True))
        texts = [
            [*map(str.strip, columns[at])] if at != _NOWHERE else [""] * len(rows)
            for at in self._texts_at
        ]
        title, status, day, anchor, language, led, source, item, heading, _ = texts
        urls = [*map(str.strip, columns[self._url])]
        if self._host is not None or self._query is not None:
            parts = ([_cell(row, at) for row in cells] for at in (self._host, self._query))
            urls = [
                _whole(host, url, query) if url[:1] == "/" else url
                for url, host, query in zip(urls, *parts, strict=True)
            ]
        if any(led) and any(source):
            led = [a or b for a, b in zip(led, source, strict=True)]
        return RecordBlock(
            lambda n: self.item(rows[n]),
            lines,
            urls,
            {unit: self._amounts(unit, columns[at], lines) for unit, at in self._figures_at},
            _each(status_code, status),
            self._days(day, lines),
            [*map(_title, title, heading)] if any(title) or any(heading) else title,
            anchor,
            language,
            item,
            led if any(led) else source,
        )

    def _placed(self) -> list[int]:
        parts = [at for at in (self._host, self._query) if at is not None]
        return parts + [at for at in self._texts_at if at != _NOWHERE]


def _moved(cells: Sequence[str], at: int, to: int) -> list[str]:
    """Cells with one of them in another's place, too."""
    return [*cells[:to], *[""] * (to - len(cells)), cells[at], *cells[to + 1 :]]


def _each_page(cell: str) -> list[str]:
    """The pages that a cell names, which may be several, one below or beside the other."""
    pages = _NEXT_PAGE.split(cell)
    return pages if len(pages) > 1 else [cell]


_NEXT_PAGE = re.compile(r"[\s,;|]+(?=https?://)")


def _is_no_address(written: str) -> bool:
    """Whether a cell among whole addresses holds words, a figure or a day."""
    if _WORDS.match(written):
        return True
    return written[0].isdecimal() and (
        number(written) is not None or day_of(written) != "" or bool(_SHORT_DAY.match(written))
    )


_SHORT_DAY = re.compile(r"\d{1,2}([/.-])\d{1,2}\1\d\d\Z")  # which of them is the day is not known


def _cell(row: Sequence[str], at: int | None) -> str:
    return row[at].strip() if at is not None and at < len(row) else ""


def _whole(host: str, path: str, query: str) -> str:
    """An address that is told in parts; its host may be missing, or its query."""
    if query and query.lower() not in NO_ADDRESS and "?" not in path:
        path = f"{path}?{query.removeprefix('?')}"
    return f"http://{host}{path}" if host_of(host) == host.lower() != "" else path


def _of_width(row: list[str], width: int, most: int) -> list[str]:
    """A row with as many cells as are looked at; one that is no whole row is empty."""
    if not row or len(row) > most:
        return [""] * width
    return row[:width] + [""] * (width - len(row))


def _each(what: Callable[[str], T], cells: Sequence[str]) -> list[T]:
    """What each of these cells says, asked once for those that are the same."""
    known = {cell: what(cell) for cell in set(cells)}
    return [*map(known.__getitem__, cells)]


def _title(title: str, heading: str) -> str:
    return (heading if not title or title.lower() in _NO_TITLE else title)[:MAX_TITLE]


_LISTED = (Figure(LISTED, 1.0),)


def _no_url(line: int, row: list[str], written: str) -> Item:
    """A row without URL: totals, or a mistake."""
    text = " | ".join(row)
    words = [c for c in row if c.strip() and number(c) is None]
    if written or not words or any(map(begins_a_sum, words)):
        return Aside(line, AsideClass.SUMMARY, text[:500])
    return Reject(line, "its URL cell is empty", text)


MAX_TITLE = 2_000  # characters
_FAILURES = (
    (SOFT_404, r"soft\W*404|weicher? 404|soft error"),
    (
        BAD_REDIRECT,
        r"redirect|weiterleitung|umleitung|redirection|redirecci|reindirizz|doorverwijz",
    ),
    ("410", r"\b410\b|\bgone\b"),
    ("404", r"\b404\b|not found|nicht gefunden|introuvable|no encontrad|non trovat|niet gevonden"),
    (
        "5xx",
        (
            r"\b5\d\d\b|5xx|server error|serverfehler|erreur (?:du )?serveur|error del "
            r"servidor|errore del server|serverfout"
        ),
    ),
)


def failure_in(text: str) -> str:
    """The class of failure that a list of errors tells in words: "Soft 404", "Not found (404)",
    "Redirect error"; or an empty text.
    """
    low = text.lower()
    return next((kind for kind, pattern in _FAILURES if re.search(pattern, low)), "")
