"""Rows of tables, whatever holds them: delimited text, workbooks, JSON Lines."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Iterator, Sequence
from itertools import chain, islice, zip_longest
from pathlib import Path
from typing import NamedTuple

from upright_ledger.errors import InputError
from upright_ledger.formats.delimiters import MAX_COLUMNS
from upright_ledger.formats.detection import OF_ROWS, FileKind
from upright_ledger.formats.tables.cells import Row, begins_a_sum, looks_like_address
from upright_ledger.formats.tables.column_names import is_heading
from upright_ledger.formats.tables.header_words import side_of
from upright_ledger.formats.tables.lines.delimited_rows import delimited_rows
from upright_ledger.formats.tables.rows.column_file_rows import column_file_rows
from upright_ledger.formats.tables.rows.database_rows import database_rows
from upright_ledger.formats.tables.rows.json_rows import json_rows
from upright_ledger.formats.tables.rows.named_rows import named_rows
from upright_ledger.formats.tables.rows.page_rows import page_rows
from upright_ledger.formats.tables.rows.sql_rows import sql_rows
from upright_ledger.formats.tables.rows.workbook_rows import sheet_rows
from upright_ledger.formats.tables.rows.xml_rows import xml_rows

_MOST_NAMES = 30
"""Rows of a table on its side."""


class RowWidth(NamedTuple):
    """How many cells a row may fill. A row of delimited text that fills more was torn, at a comma
    that no quotes protect, say: what its cells mean is not known.
    """

    most: int = MAX_COLUMNS

    @classmethod
    def of(cls, kind: str, header: Sequence[str], rows: Iterable[Sequence[str]]) -> RowWidth:
        """That of a table with a header, or, where it has none, of most rows."""
        if kind in OF_ROWS and kind != FileKind.TABLE:
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
    elif kind == FileKind.COLUMNS:
        rows = column_file_rows(path)
    elif kind == FileKind.RECORDS:
        rows = named_rows(path, encoding)
    elif kind == FileKind.JSON:
        rows = json_rows(path, encoding)
    elif kind == FileKind.XML:
        rows = xml_rows(path, notes)
    elif kind == FileKind.PAGE_TABLE:
        rows = page_rows(path)
    elif kind == FileKind.SQL:
        rows = sql_rows(path, encoding, notes)
    elif kind == FileKind.DATABASE:
        rows = database_rows(path, notes)
    else:
        rows = delimited_rows(path, encoding, notes)
    return _of_sane_width(path, _upright(rows))


def _upright(rows: Iterator[Row]) -> Iterator[Row]:
    """Rows, those of a table on its side by its columns: headings stand in its first column, and
    addresses beside one of them.
    """
    first = list(islice(rows, _MOST_NAMES + 1))
    filled = [cells for _, cells in first if any(cells)]
    if len(filled) > 1 and len(first) <= _MOST_NAMES and _are_on_their_side(filled):
        columns = zip_longest(*filled, fillvalue="")
        yield from ((n, list(cells)) for n, cells in enumerate(columns, 1))
    else:
        yield from chain(first, rows)


def _are_on_their_side(rows: Sequence[Sequence[str]]) -> bool:
    names = [cells[0] for cells in rows]
    if not is_heading(names) and not {"old", "new"} <= {side_of(name) for name in names}:
        return False
    return any(all(map(_is_page, cells[1:])) for cells in rows if cells[2:])


def _is_page(cell: str) -> bool:
    return looks_like_address(cell) or begins_a_sum(cell)


def _of_sane_width(path: Path, rows: Iterator[Row]) -> Iterator[Row]:
    for row in rows:
        if len(row[1]) <= MAX_COLUMNS:
            yield row
            continue
        if len([cell for cell in row[1] if cell]) > MAX_COLUMNS:
            raise InputError(
                f"{path} line {row[0]:,} has {len(row[1]):,} columns, and tables have at most "
                f"{MAX_COLUMNS:,} here",
                "keep the columns that are needed",
            )
        yield row[0], row[1][:MAX_COLUMNS]
