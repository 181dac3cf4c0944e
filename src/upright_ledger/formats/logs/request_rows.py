"""Requests that stand in the rows of workbooks, databases, files of columns and documents, as the
lines of a log.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from itertools import chain, islice
from pathlib import Path

from upright_ledger.core.inventory.units import IN_TABLES
from upright_ledger.errors import InputError
from upright_ledger.formats.detection import OF_ROWS, FileKind
from upright_ledger.formats.files.compressed import read_head
from upright_ledger.formats.logs.forms.request_tables import are_request_rows
from upright_ledger.formats.records import ReadOptions
from upright_ledger.formats.tables.cells import Row, tells_address
from upright_ledger.formats.tables.column_names import NAMES, bare
from upright_ledger.formats.tables.rows.table_rows import rows_of

_SAMPLE = 200  # rows
_ABOVE = 12  # rows above a heading
_NO_TEXTS = frozenset([FileKind.SHEET, FileKind.COLUMNS, FileKind.DATABASE])
_OF_REQUESTS = re.compile(rb"mozilla/|\bGET\b|agent|method|status", re.IGNORECASE)
_FIGURES = frozenset(name for unit in IN_TABLES for name in NAMES[unit])
_BREAKS = re.compile(r"[\t\r\n\v\f\x85\u2028\u2029]")


def request_lines(path: Path, kind: str, options: ReadOptions) -> Iterator[bytes] | None:
    """The rows of a file of such a kind as lines of a table of requests, its heading first; None
    where the first ones tell of no requests, or sum them up. Raises InputError, on the way only.
    """
    if kind not in OF_ROWS or options.columns:
        return None
    if kind not in _NO_TEXTS and not _OF_REQUESTS.search(read_head(path)):
        return None
    try:
        rows = rows_of(path, kind, options.encoding, sheet=options.sheet)
        first = list(islice(rows, _SAMPLE))
    except InputError:
        return None  # its reader says so
    width = max((len(cells) for _, cells in first), default=0)
    filled = [(at, _line(row, width)) for at, row in enumerate(first) if any(row[1])]
    told = [line for _, line in filled]
    # No heading stands below rows; what stands above one may name an address, too.
    of_pages = (n for n, (at, _) in enumerate(filled) if any(map(tells_address, first[at][1])))
    last = next(islice(of_pages, 1, None), len(told))
    begin = next((n for n in range(min(_ABOVE, last)) if are_request_rows(told[n:])), -1)
    if begin < 0 or _FIGURES.intersection(map(bare, first[filled[begin][0]][1])):
        return None
    above = [(at, list[str]()) for at, _ in first[: filled[begin][0]]]
    whole = chain(above, first[filled[begin][0] :], rows)
    return (f"{_line(row, width)}\n".encode() for row in whole)


def _line(row: Row, width: int) -> str:
    cells = row[1] + [""] * (width - len(row[1])) if row[1] else []
    return "\t".join(map(_cell, cells))


def _cell(text: str) -> str:
    plain = _BREAKS.sub(" ", text).strip()
    return '"' + plain.replace('"', '""') + '"' if '"' in plain else plain
