"""Tables with a header: CSV with commas, semicolons, tabs or bars."""

from __future__ import annotations

import csv
import io
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

from upright_ledger.core.evidence import CLICKS, HITS, IMPRESSIONS, LINKING_DOMAINS, LINKING_PAGES, LISTED, VISITS
from upright_ledger.core.traffic import BLANK
from upright_ledger.errors import InputError
from upright_ledger.formats import columns as col
from upright_ledger.formats.reading import delimiter_of, read_text
from upright_ledger.formats.records import Aside, Item, ReadOptions, Record, Reject

_AMOUNTS = (HITS, VISITS, CLICKS, IMPRESSIONS, LINKING_DOMAINS, LINKING_PAGES)
MAX_CELL = 1 << 17
_NO_TITLE = frozenset({"(not set)", "(not provided)", "-", "n/a", "none", "null"})  # how exports say nothing


@dataclass(slots=True)
class Table:
    """A table with its header.

    columns: meaning → column number. rows: (line in the file, cells), without the header.
    """

    header: list[str]
    columns: dict[str, int]
    rows: list[tuple[int, list[str]]]

    def cell(self, row: list[str], meaning: str) -> str:
        """What a row says about a meaning; empty when the column or the cell is missing."""
        at = self.columns.get(meaning)
        return row[at].strip() if at is not None and at < len(row) else ""


def read_table(path: Path, options: ReadOptions) -> Table:
    """Read a table whole. Raises InputError when it has no rows or no column with addresses."""
    rows = read_rows(path, options.encoding)
    header = rows[0][1]
    try:
        found = col.map_columns(header, options.columns)
    except KeyError as error:
        named = ", ".join(h.strip() for h in header if h.strip())
        raise InputError(f"{path} has no column {error.args[0]!r}", f"its columns are: {named}") from None
    sample = [cells for _, cells in rows[1:60]]
    if col.URL not in found:
        at = col.url_column(sample)
        if at is None:
            named = ", ".join(h.strip() for h in header if h.strip())
            raise InputError(
                f"{path} has no column of URLs", f"name one, as in --column url='…'; its columns are: {named}"
            )
        found = {k: v for k, v in found.items() if v != at} | {col.URL: at}
    if col.looks_like_address(header[found[col.URL]] if found[col.URL] < len(header) else ""):
        return Table([], {col.URL: found[col.URL]}, rows)
    return Table(header, found, rows[1:])


def read_rows(path: Path, encoding: str) -> list[tuple[int, list[str]]]:
    """All rows of a delimited file with the line each begins on; blank ones keep their place as []."""
    text = read_text(path, encoding)
    lines = [line for line in text[:200_000].splitlines() if line.strip()][:20]
    delimiter = delimiter_of(lines) or ","
    csv.field_size_limit(MAX_CELL)
    reader = csv.reader(io.StringIO(text, newline=""), delimiter=delimiter)
    rows: list[tuple[int, list[str]]] = []
    line = 1
    try:
        for cells in reader:
            rows.append((line, cells if any(c.strip() for c in cells) else []))
            line = reader.line_num + 1
    except csv.Error as error:
        raise InputError(f"{path} line {line:,} cannot be read as a table: {error}", "check its quotes") from None
    while rows and not rows[0][1]:
        rows.pop(0)
    return rows


def read_table_urls(path: Path, options: ReadOptions) -> Iterator[Item]:
    """Read old URLs with their evidence from a table."""
    table = read_table(path, options)
    for line, row in table.rows:
        if not row:
            yield Aside(line, BLANK)
            continue
        url = table.cell(row, col.URL)
        if not url:
            yield Reject(line, "its URL cell is empty", " | ".join(row))
            continue
        figures = {unit: col.number(table.cell(row, unit)) for unit in _AMOUNTS if unit in table.columns}
        amounts = {unit: n for unit, n in figures.items() if n}
        yield Record(
            line,
            url,
            amounts={LISTED: 1.0, **amounts},
            status=col.status_code(table.cell(row, col.STATUS)),
            day=table.cell(row, col.LAST_SEEN)[:10],
            title="" if table.cell(row, col.TITLE).lower() in _NO_TITLE else table.cell(row, col.TITLE),
            language=table.cell(row, col.LANGUAGE),
            referrer=table.cell(row, col.REFERRER),
        )
