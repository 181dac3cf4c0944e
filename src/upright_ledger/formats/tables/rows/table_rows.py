"""Rows of tables, whatever holds them: delimited text, workbooks, JSON Lines."""

from __future__ import annotations

import csv
import re
from collections import Counter
from collections.abc import Iterable, Iterator, Sequence
from itertools import chain, islice
from pathlib import Path
from typing import NamedTuple

from upright_ledger.errors import InputError
from upright_ledger.formats.detection import (
    MAX_COLUMNS,
    FileKind,
    delimiter_of,
)
from upright_ledger.formats.files.text import open_text
from upright_ledger.formats.tables.cells import Row
from upright_ledger.formats.tables.rows.drawn_tables import (
    are_counts,
    between_bars,
    gap_between_cells,
    is_drawn,
)
from upright_ledger.formats.tables.rows.json_rows import json_rows
from upright_ledger.formats.tables.rows.page_rows import page_rows
from upright_ledger.formats.tables.rows.sql_rows import sql_rows
from upright_ledger.formats.tables.rows.workbook_rows import sheet_rows
from upright_ledger.formats.tables.rows.xml_rows import xml_rows

MAX_CELL = 1 << 24  # characters; a page's text in a cell is long, and more than this is damage
_SAMPLE = 60


class RowWidth(NamedTuple):
    """How many cells a row may fill. A row of delimited text that fills more was torn, at a comma
    that no quotes protect, say: what its cells mean is not known.
    """

    most: int = MAX_COLUMNS

    @classmethod
    def of(cls, kind: str, header: Sequence[str], rows: Iterable[Sequence[str]]) -> RowWidth:
        """That of a table with a header, or, where it has none, of most rows."""
        if kind != FileKind.TABLE:
            return cls()
        return cls(len(header) or Counter(map(len, rows)).most_common(1)[0][0])

    def fault(self, cells: Sequence[str]) -> str:
        """Why a row cannot be used, or an empty text."""
        if len(cells) <= self.most or not any(map(str.strip, cells[self.most :])):
            return ""
        return (
            f"it has {len(cells):,} cells in a table of {self.most:,} columns; put quotes around a "
            "cell that holds a comma or a semicolon"
        )


def rows_of(
    path: Path, kind: str, encoding: str = "", notes: list[str] | None = None, sheet: str = ""
) -> Iterator[Row]:
    """The rows of a table, header included. Raises InputError, at once or on the way, with the line
    that is damaged.

    notes: gets what a user should know of a delimited file's encoding, with the first row. sheet:
    of a workbook; the fullest one where none is named.
    """
    notes = [] if notes is None else notes
    if kind == FileKind.SHEET:
        rows = sheet_rows(path, sheet)
    elif kind == FileKind.JSON:
        rows = json_rows(path, encoding)
    elif kind == FileKind.XML:
        rows = xml_rows(path, notes)
    elif kind == FileKind.PAGE_TABLE:
        rows = page_rows(path)
    elif kind == FileKind.SQL:
        rows = sql_rows(path, encoding, notes)
    else:
        rows = _delimited(path, encoding, notes)
    return _of_sane_width(path, rows)


def _of_sane_width(path: Path, rows: Iterator[Row]) -> Iterator[Row]:
    for row in rows:
        if len(row[1]) > MAX_COLUMNS and len([cell for cell in row[1] if cell]) > MAX_COLUMNS:
            raise InputError(
                f"{path} line {row[0]:,} has {len(row[1]):,} columns, and tables have at most "
                f"{MAX_COLUMNS:,} here",
                "keep the columns that are needed",
            )
        yield row[0], row[1][:MAX_COLUMNS]


def _delimited(path: Path, encoding: str, notes: list[str]) -> Iterator[Row]:
    csv.field_size_limit(MAX_CELL)
    with open_text(path, encoding) as file:
        if file.encoding == "cp1252" and not encoding:
            notes.append("read as Windows-1252: it is not in UTF-8")
        first = list(islice(file, 500))
        filled = [line for line in first if line.strip()][:_SAMPLE]
        delimiter = delimiter_of(filled)
        if not delimiter and (gap := gap_between_cells(filled)) is not None:
            if are_counts(filled):
                yield 0, ["hits", "url"]
            yield from _apart(chain(first, file), gap)
            return
        delimiter = delimiter or delimiter_of(filled[:1]) or ","
        framed = delimiter == "|" and between_bars(filled)
        reader = csv.reader(chain(first, file), delimiter=delimiter)
        line = 1
        try:
            for told in reader:
                cells = _printed(told, framed=framed) if delimiter == "|" else told
                yield line, cells if any(map(str.strip, cells)) else []
                line = reader.line_num + 1
        except csv.Error as error:
            raise InputError(
                f"{path} line {line:,} cannot be read as a table: {error}", "check its quotes"
            ) from None


def _apart(lines: Iterable[str], gap: re.Pattern[str]) -> Iterator[Row]:
    """Rows whose cells blanks keep apart."""
    for number, line in enumerate(lines, 1):
        text = line.strip()
        yield number, gap.split(text) if text and not is_drawn(text) else []


def _printed(cells: list[str], *, framed: bool) -> list[str]:
    """A row of a table with bars between its cells, as programs print them."""
    if is_drawn("|".join(cells)):
        return []
    return [cell.strip() for cell in (cells[1:-1] if framed else cells)]
