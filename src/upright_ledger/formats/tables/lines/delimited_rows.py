"""Delimited text as rows, with what writers of such files do otherwise than RFC 4180 says: quotes
behind a backslash, delimiters in an address that no quotes protect, cells between bars or blanks.
"""

from __future__ import annotations

import csv
import re
from collections import Counter
from collections.abc import Iterable, Iterator, Sequence
from itertools import chain, islice
from pathlib import Path
from typing import Any

from upright_ledger.errors import InputError
from upright_ledger.formats.delimiters import delimiter_of
from upright_ledger.formats.files.text import MIXED, USUAL, encoding_of, first_misfit, fits, open_in
from upright_ledger.formats.tables.cells import Row, looks_like_address
from upright_ledger.formats.tables.column_names import is_heading
from upright_ledger.formats.tables.lines.drawn_tables import (
    Parting,
    are_counts,
    are_types,
    between_bars,
    is_datum,
    is_drawn,
    numbered,
    parting_of,
    with_plain_bars,
)
from upright_ledger.formats.tables.lines.heading_encodings import encoding_of_headings
from upright_ledger.formats.tables.lines.markup_rows import markup_rows_of
from upright_ledger.formats.tables.meanings.address_cells import linked_address
from upright_ledger.formats.tables.meanings.figures import number

MAX_CELL = 1 << 24  # characters; a page's text in a cell is long, and more than this is damage
_SAMPLE = 60
_NEARLY_ALL = 0.8
_ESCAPED = {"escapechar": "\\", "doublequote": False}


def delimited_rows(path: Path, encoding: str, notes: list[str]) -> Iterator[Row]:
    """The rows, header included. notes: gets what a user should know of the encoding, with the
    first row. Raises InputError.
    """
    csv.field_size_limit(MAX_CELL)
    name = encoding_of(path, encoding)
    if name == USUAL and not encoding:
        why, found = "it is not in UTF-8", encoding_of_headings(path)
        if found and fits(path, found):
            name = found
            notes.append(f"read as {name}: its headings are words in it, and {why}")
        else:
            notes.append(f"read as Windows-1252: {why}")
    elif name == MIXED:
        notes.append(
            f"read as UTF-8, and bytes that are none as Windows-1252: line {first_misfit(path):,} "
            "is the first to hold one"
        )
    with open_in(path, name, strict=bool(encoding)) as file:
        lines = map(with_plain_bars, file)
        first = list(islice(lines, 500))
        filled = [line for line in first if line.strip()][:_SAMPLE]
        if (marked := markup_rows_of(first)) is not None:
            yield from marked(enumerate(chain(first, lines), 1))
            return
        delimiter = delimiter_of(filled)
        # A figure's commas part no cells.
        parts = bool(delimiter) and _hold_addresses(filled, delimiter)
        if not parts and (parting := parting_of(filled)) is not None:
            if are_counts(filled):
                yield 0, ["hits", "url"]
            rows = [parting(line) for line in filled if not is_drawn(line)]
            yield from _apart(chain(first, lines), parting, numbered=numbered(rows))
            return
        delimiter = delimiter or delimiter_of(filled[:1]) or ","
        how = _quoting(filled, delimiter)
        width = _width(filled, delimiter, how)
        framed = delimiter == "|" and between_bars(filled)
        linked = _hold_links(filled, delimiter, how)
        reader = csv.reader(chain(first, lines), delimiter=delimiter, **how)
        line = 1
        try:
            for told in reader:
                cells = _printed(told, framed=framed) if delimiter == "|" else told
                if len(cells) > width and delimiter in ",;":
                    cells = _rejoined(_ended(cells, width), width, delimiter)
                if linked:
                    cells = [linked_address(cell.strip()) for cell in cells]
                yield line, cells if any(map(str.strip, cells)) else []
                line = reader.line_num + 1
        except csv.Error as error:
            raise InputError(
                f"{path} line {line:,} cannot be read as a table: {error}", "check its quotes"
            ) from None


def _hold_addresses(lines: Sequence[str], delimiter: str) -> bool:
    told = map(linked_address, _sample_of(lines, delimiter, {}))
    return any(looks_like_address(cell) and " " not in cell for cell in told)


def _hold_links(lines: Sequence[str], delimiter: str, how: dict[str, Any]) -> bool:
    """Whether cells are links as pages, wikis and text processors write them."""
    return any(linked_address(text) != text for text in _sample_of(lines, delimiter, how))


def _sample_of(lines: Sequence[str], delimiter: str, how: dict[str, Any]) -> list[str]:
    """What the cells of some lines say; nothing where their quotes cannot be read."""
    try:
        rows = list(csv.reader(lines, delimiter=delimiter, **how))
    except csv.Error:
        return []
    return [cell.strip() for row in rows for cell in row]


def _widths(lines: Iterable[str], delimiter: str, how: dict[str, Any]) -> Counter[int]:
    """How many rows have so many cells."""
    try:
        return Counter(len(row) for row in csv.reader(lines, delimiter=delimiter, **how))
    except csv.Error:
        return Counter([0])


def _width(lines: Sequence[str], delimiter: str, how: dict[str, Any]) -> int:
    """How many cells a row has: as many as most, or as the heading names."""
    if not lines:
        return 0
    heading = next(iter(csv.reader(lines[:1], delimiter=delimiter, **how)), [])
    named = len(heading) if is_heading(heading) else 0
    return max(_widths(lines, delimiter, how).most_common(1)[0][0], named)


def _quoting(lines: Sequence[str], delimiter: str) -> dict[str, Any]:
    """Which quotes stand around cells, and how they are written within: doubled, unless more rows
    are alike where a backslash stands before them.
    """
    between = f"'{delimiter}'"
    if sum(line[:1] == "'" and between in line for line in lines) > _NEARLY_ALL * len(lines):
        return {"quotechar": "'"}
    if not any('\\"' in line for line in lines):
        return {}
    alike = [_widths(lines, delimiter, how).most_common(1)[0][1] for how in ({}, _ESCAPED)]
    widths = [len(_widths(lines, delimiter, how)) for how in ({}, _ESCAPED)]
    sign = re.escape(delimiter)
    amid, doubled = re.compile(rf'\\"[^{sign}\s]'), re.compile(rf'[^\\{sign}]""[^{sign}\s]')
    hint = any(map(amid.search, lines)) and not any(map(doubled.search, lines))
    return _ESCAPED if (alike[1], -widths[1], hint) > (alike[0], -widths[0], False) else {}


def _ended(cells: list[str], width: int) -> list[str]:
    """A row without the empty cells at its end that are more than it has columns."""
    end = len(cells)
    while end > width and not cells[end - 1].strip():
        end -= 1
    return cells[:end]


def _rejoined(cells: list[str], width: int, delimiter: str) -> list[str]:
    """A row whose address was torn at delimiters that no quotes protect; as it is where other cells
    may have been torn as well: a figure at the commas of its thousands, words at theirs.
    """
    at = next((n for n, cell in enumerate(cells) if looks_like_address(cell)), None)
    if at is None or width < 2:
        return cells
    end = at + len(cells) - width + 1
    parts, others = cells[at:end], cells[:at] + cells[end:]
    whole = all(part and not re.search(r"\s", part) for part in parts)
    whole = whole and number(parts[-1]) is None
    if not whole or not all(not cell.strip() or is_datum(cell.strip()) for cell in others):
        return cells
    return [*cells[:at], delimiter.join(parts), *cells[end:]]


def _apart(lines: Iterable[str], parting: Parting, *, numbered: bool) -> Iterator[Row]:
    """Rows whose cells blanks keep apart. numbered: the heading has no name for their numbers."""
    for at, line in enumerate(lines, 1):
        cells = parting(line) if line.strip() and not is_drawn(line) else []
        if cells and numbered:
            cells, numbered = ["", *cells], False
        yield at, cells


def _printed(cells: list[str], *, framed: bool) -> list[str]:
    """A row of a table with bars between its cells, as programs print them."""
    if is_drawn("|".join(cells)) or are_types(cells):
        return []
    return [cell.strip() for cell in (cells[1:-1] if framed else cells)]
