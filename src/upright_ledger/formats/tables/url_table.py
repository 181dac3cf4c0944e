"""Tables of any origin: where the header is, what the columns mean, and what each row says of an
old URL.
"""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Callable, Iterable, Iterator, Mapping
from dataclasses import dataclass, field
from itertools import chain, islice
from pathlib import Path

from upright_ledger.core.inventory.evidence import BAD_REDIRECT, SOFT_404, Figure
from upright_ledger.core.inventory.noise import AsideClass
from upright_ledger.core.inventory.units import (
    IN_TABLES,
    LISTED,
    PER_PERIOD,
)
from upright_ledger.core.url.repair import mend
from upright_ledger.errors import InputError
from upright_ledger.formats.detection import FileKind
from upright_ledger.formats.records import Aside, Item, Reading, ReadOptions, Record, Reject
from upright_ledger.formats.tables import column_mapping as col
from upright_ledger.formats.tables.cells import (
    NO_ADDRESS,
    day_of,
    linked_address,
    looks_like_address,
    number,
    status_code,
)
from upright_ledger.formats.tables.header_words import side_of
from upright_ledger.formats.tables.rows import Row, RowWidth, rows_of

_NO_TITLE = frozenset(
    {"(not set)", "(not provided)", "-", "n/a", "none", "null"}
)  # how exports say nothing
_TOTAL = re.compile(
    r"\W*(?:grand |sub)?(?:total|totals|sum|summe|gesamt|insgesamt|overall|total "
    r"g\S+|totale|somme|suma)\b",
    re.IGNORECASE,
)
_DOUBTFUL = frozenset("#-*=\u2014 " + "tsgoiTSGOI")  # totals and comments begin so
_NOWHERE = 1 << 30
_NONE: dict[str, float] = {}
_SAMPLE = 400
_HEADER_WITHIN = 60  # rows; what stands above a header is never longer


@dataclass
class Table:
    """A table with its header.

    columns: meaning → column number. above: rows before the header. rows: (line in the file,
    cells), without the header. doubts: meaning → header of columns that may speak of another page,
    and were not taken. width: that its rows may have.
    """

    header: list[str]
    columns: dict[str, int]
    above: list[Row]
    rows: Iterator[Row]
    month_first: bool = False
    notes: list[str] = field(default_factory=list)
    doubts: Mapping[str, str] = field(default_factory=dict)
    width: RowWidth = field(default_factory=RowWidth)

    def cell(self, row: list[str], meaning: str) -> str:
        """What a row says about a meaning; empty when the column or the cell is missing."""
        at = self.columns.get(meaning)
        return row[at].strip() if at is not None and at < len(row) else ""

    def is_sum(self, row: list[str]) -> bool:
        """Whether a row holds totals, or says that there is no address."""
        written = self.cell(row, col.URL)
        return not written or written.lower() in NO_ADDRESS or bool(_TOTAL.match(written))

    @property
    def unused(self) -> list[str]:
        """Headers of columns that mean nothing here."""
        return [
            h.strip()
            for at, h in enumerate(self.header)
            if h.strip() and at not in self.columns.values()
        ]

    @property
    def mapping(self) -> dict[str, str]:
        """Meaning → header as written, or the number of a column without one."""
        return {
            meaning: self.header[at].strip()
            if at < len(self.header) and self.header[at].strip()
            else f"column {at + 1}"
            for meaning, at in sorted(self.columns.items(), key=lambda item: item[1])
        }


def read_table(path: Path, options: ReadOptions, kind: str = FileKind.TABLE) -> Table:
    """Open a table and find its columns. Raises InputError when it has no rows or no column with
    addresses.
    """
    notes: list[str] = []
    rows = rows_of(path, kind, options.encoding, notes, options.sheet)
    first = list(islice(rows, _SAMPLE))
    at, columns = _find_header(path, first, options)
    header = first[at][1] if at is not None else []
    body = first[at + 1 :] if at is not None else first
    above = first[:at] if at is not None else []
    table = Table(header, columns, above, chain(body, rows), notes=notes)
    table.doubts = col.doubtful_columns(header, columns, options.columns)
    table.width = RowWidth.of(kind, header, (cells for _, cells in body if cells))
    days = [table.cell(cells, col.LAST_SEEN) for _, cells in body]
    table.month_first = any(re.match(r"\d{1,2}/(?:1[3-9]|2\d|3[01])/\d{4}", d) for d in days)
    return table


def _find_header(
    path: Path, rows: list[Row], options: ReadOptions
) -> tuple[int | None, dict[str, int]]:
    """The index of the header row (None where there is none), and the columns."""
    filled = [(n, cells) for n, (_, cells) in enumerate(rows) if cells]
    if not filled:
        raise InputError(f"{path} has no rows", "export it again")
    width = Counter(len(cells) for _, cells in filled).most_common(1)[0][0]
    top = next(n for n, cells in filled if len(cells) == width)
    before = next((n - 1 for n, cells in filled if any(map(looks_like_address, cells))), -1)
    if before >= 0 and not _are_words(rows[before][1]):
        before = -1
    missing = ""
    best: tuple[int, int, dict[str, int]] | None = None
    for n, cells in filled[:_HEADER_WITHIN]:
        body = [c for _, c in rows[n + 1 :] if c][:200]
        if any(looks_like_address(c) for c in cells):
            break  # rows have begun
        try:
            columns = col.map_columns(cells, body, options.columns, options.hosts)
        except KeyError as error:
            missing = missing or str(error.args[0])
            continue
        known = sum(
            1
            for h in cells
            if side_of(h) or any(col.bare(h) in names for names in col.NAMES.values())
        )
        figure = known * 10 + sum(1 for c in cells if c.strip()) + 5 * len(options.columns)
        if not known and not options.columns and n not in {top, before}:
            continue  # nothing but its place could make this a header
        if col.URL in columns and (best is None or figure > best[0]):
            best = (figure, n, columns)
    if best is not None:
        return best[1], best[2]
    names = [h.strip() for h in max((c for _, c in filled[:_HEADER_WITHIN]), key=len) if h.strip()]
    if missing or any(options.columns.values()):
        raise InputError(
            f"{path} has no column {missing or next(filter(None, options.columns.values()), '')!r}",
            f"its columns are: {', '.join(names)[:500]}",
        )
    columns = col.map_columns([], [cells for _, cells in filled], {}, options.hosts)
    if col.URL not in columns:
        raise InputError(
            f"{path} has no column of URLs",
            f"name one, as in --column url='…'; its columns are: {', '.join(names)[:500]}",
        )
    return None, columns


def _are_words(cells: list[str]) -> bool:
    """Whether cells are names of columns rather than values."""
    return len(cells) > 1 and all(
        number(c) is None and not re.search(r"[./]\w", c) for c in cells if c.strip()
    )


def read_table_urls(path: Path, options: ReadOptions) -> Reading:
    """Old URLs with their evidence from delimited text."""
    return _reading(read_table(path, options, FileKind.TABLE))


def read_sheet_urls(path: Path, options: ReadOptions) -> Reading:
    """Old URLs with their evidence from a workbook."""
    return _reading(read_table(path, options, FileKind.SHEET))


def read_json_urls(path: Path, options: ReadOptions) -> Reading:
    """Old URLs with their evidence from JSON Lines."""
    return _reading(read_table(path, options, FileKind.JSON))


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


def _items(table: Table) -> Iterator[Item]:
    for line, cells in table.above:
        yield Aside(
            line,
            AsideClass.SUMMARY if cells else AsideClass.BLANK,
            " | ".join(c for c in cells if c.strip())[:500],
        )
    record = _recorder(table)
    url = table.columns[col.URL]
    for line, row in table.rows:
        if not row:
            yield Aside(line, AsideClass.BLANK)
            continue
        if len(row) > table.width.most and (fault := table.width.fault(row)):
            yield Reject(line, fault, " | ".join(row))
            continue
        written = row[url].strip() if url < len(row) else ""
        if written[:1] == "=":
            written = linked_address(written)
        if (
            not written
            or written.lower() in NO_ADDRESS
            or (
                written[0] in _DOUBTFUL
                and (_TOTAL.match(written) or (written[0] == "#" and not any(row[1:])))
            )
        ):
            yield _no_url(line, row, written)
            continue
        yield record(line, row, written)


def _no_url(line: int, row: list[str], written: str) -> Item:
    """A row without URL: totals, or a mistake."""
    text = " | ".join(row)
    words = [c for c in row if c.strip() and number(c) is None]
    if written or not words or any(_TOTAL.match(c) for c in words):
        return Aside(line, AsideClass.SUMMARY, text[:500])
    return Reject(line, "its URL cell is empty", text)


def _recorder(table: Table) -> Callable[[int, list[str], str], Record]:
    """A function that makes the record of a row from its line, cells and URL cell.

    It runs a million times, so what does not change from row to row is looked up here.
    """
    figures_at = [(unit, table.columns[unit]) for unit in IN_TABLES if unit in table.columns]
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
    # One row a link: the pages and sites that link are counted, where no column does.
    is_link = col.REFERRER in table.columns and not any(unit in table.columns for unit in IN_TABLES)
    texts_at = [table.columns.get(meaning, _NOWHERE) for meaning in texts]
    listed = (Figure(LISTED, 1.0),)

    def record(line: int, row: list[str], written: str) -> Record:
        width = len(row)
        figures = []
        for unit, at in figures_at:
            if at < width and (cell := row[at]) and (amount := number(cell)):
                figures.append(Figure(unit, amount))
        told = [row[at].strip() if at < width else "" for at in texts_at]
        title, status, day, anchor, language, led, source, item, heading, reason = told
        url = mend(written)
        led = led or source
        return Record(
            line,
            url.text,
            figures=figures or listed,
            status=status_code(status) if status else 0,
            day=(day_of(day, month_first=table.month_first) if day else "") or url.day,
            title=(heading if not title or title.lower() in _NO_TITLE else title)[:MAX_TITLE],
            anchor=anchor,
            language=language,
            item=item,
            referrers={led: 1.0} if led else _NONE,
            mends=url.mends,
            failure=failure_in(reason or status) if reason or status else "",
            is_link=is_link and looks_like_address(led),
        )

    return record


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
