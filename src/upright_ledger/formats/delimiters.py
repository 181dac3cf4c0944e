"""The sign that parts the cells of a text, and whether there is one: addresses and sentences hold
the same signs.
"""

from __future__ import annotations

import csv
import re
from collections import Counter
from collections.abc import Sequence

from upright_ledger.formats.tables.cells import cells_of, looks_like_address
from upright_ledger.formats.tables.column_names import is_heading
from upright_ledger.formats.tables.lines.drawn_tables import is_drawn
from upright_ledger.formats.tables.meanings.address_cells import linked_address, names_address

_DELIMITERS = ",;\t|"
_ODD_DELIMITERS = "^~\x01\x1f"
"""Signs that part cells here and there, and may stand in addresses: only a heading tells them."""
MAX_COLUMNS = 1000
"""Of a table: exports have some hundreds at most, and a line of more is prose, or made to be
slow.
"""
FIGURE = re.compile(r"\d+(?:\.\d+)?\Z")
_WORD = re.compile(r"[^\W\d][\w-]*\Z")
BARE_URL = re.compile(r"^\s*(?:https?://|/)\S*$")
_FEWEST = 2


def _is_punctuation(delimiter: str, lines: list[str]) -> bool:
    """Whether a sign stands before a blank or a line's end, as in sentences, rather than between
    cells.
    """
    marks = sum(line.count(delimiter) for line in lines)
    loose = sum(line.count(f"{delimiter} ") + line.endswith(delimiter) for line in lines)
    return delimiter in ",;" and loose * 2 > marks and not _are_rows(lines, delimiter)


def _are_rows(lines: Sequence[str], delimiter: str) -> bool:
    """Whether lines have equally many cells, below the first addresses in one column, and something
    in each of another.
    """
    below = columns_behind(lines[1:], delimiter, first=0) if len(lines) > _FEWEST else []
    addresses = [sum(map(_names_address, cells)) for cells in below]
    whole = [n > 0.6 * (len(lines) - 1) for n in addresses]
    others = [cells for cells, n in zip(below, addresses, strict=True) if not n]
    return whole.count(True) == 1 and any(all(map(str.strip, cells)) for cells in others)


def _names_address(cell: str) -> bool:
    """Whether a cell holds an address, or a link as pages, wikis and text processors write it."""
    return looks_like_address(linked_address(cell.strip()))


def _widths(lines: list[str], delimiter: str) -> Counter[int]:
    """Cells of a row → in how many lines; a cell may go on over several."""
    found: Counter[int] = Counter()
    reader, before = csv.reader(lines, delimiter=delimiter), 0
    for row in reader:
        found[len(row)] += reader.line_num - before
        before = reader.line_num
    return found


def delimiter_of(lines: list[str]) -> str:
    """The character that splits most lines into the same number of two or more cells, or an empty
    string.

    Words above a table and totals below it may be of other widths.
    """
    best, most = "", 0
    lines = [line for line in lines if not line.startswith("#") and not is_drawn(line)]
    for delimiter in _DELIMITERS + _ODD_DELIMITERS if lines else ():
        if is_heading(cells_of(lines[0], delimiter)):
            return delimiter
    for delimiter in _DELIMITERS:
        if _is_punctuation(delimiter, lines):
            continue
        try:
            widths = _widths(lines, delimiter)
        except csv.Error:
            continue
        width, alike = max(
            ((w, n) for w, n in widths.items() if 2 <= w <= MAX_COLUMNS),
            key=lambda x: x[1],
            default=(0, 0),
        )
        if alike * 2 > len(lines) and alike * width > most:
            best, most = delimiter, alike * width
    return best or next((d for d in _ODD_DELIMITERS if _parts_by(d, lines)), "")


def _parts_by(odd: str, lines: Sequence[str]) -> bool:
    """Whether a sign that may stand in addresses parts cells: below words of equally many."""
    if len(lines) <= _FEWEST or any(odd not in line for line in lines):
        return False
    heading = cells_of(lines[0], odd)
    alike = len(heading) == len(cells_of(lines[1], odd)) and not any(map(_names_address, heading))
    if not alike and odd.isprintable():
        return False
    below = columns_behind(lines[1:], odd, first=0)
    of_addresses = sum(all(map(_names_address, cells)) for cells in below)
    return of_addresses > 1 or _are_rows(lines, odd)


def is_bare_list(lines: Sequence[str], delimiter: str) -> bool:
    """Whether lines are addresses that happen to hold commas or semicolons."""
    if not all(map(BARE_URL.match, lines)):
        return False
    pairs = sum(line.count("://") > 1 for line in lines)
    return pairs * 2 < len(lines) and not _stand_apart(lines, delimiter)


def columns_behind(lines: Sequence[str], delimiter: str, first: int = 1) -> list[tuple[str, ...]]:
    """The columns behind a first one that hold anything; none where lines come apart into various
    numbers of cells.
    """
    rows = [cells_of(line, delimiter) for line in lines]
    width = len(rows[0])
    columns = list(zip(*rows, strict=True))[first:] if all(len(r) == width for r in rows) else []
    return [cells for cells in columns if any(cells)]


def _stand_apart(lines: Sequence[str], delimiter: str) -> bool:
    """Whether what stands behind addresses is no part of them: figures in one column, and words in
    another.
    """
    columns = columns_behind(lines, delimiter)
    figures = sum(all(map(FIGURE.match, cells)) for cells in columns)
    words = sum(all(map(_WORD.match, cells)) for cells in columns)
    return delimiter in "\t|" or (figures > 0 and words > 0 and figures + words == len(columns))


def are_words(lines: list[str], delimiter: str) -> bool:
    """Whether lines are words with addresses amid them, or addresses in one line, rather than
    cells.
    """
    rows = csv.reader((f"{line}\n" for line in lines), delimiter=delimiter)
    cells = [line.strip() for row in rows for cell in row for line in cell.splitlines()]
    if len(lines) == 1 and all(map(_names_address, filter(None, cells))):
        return True
    if is_heading(cells_of(lines[0], delimiter)):
        return False
    if any(map(_names_address, cells)) or not any("://" in line for line in lines):
        return False
    return not _have_figures(lines, delimiter)


def _have_figures(lines: Sequence[str], delimiter: str) -> bool:
    """Whether lines hold, below the first, an address each in one column, with words around it,
    and a figure in another.
    """
    below = columns_behind(lines[1:], delimiter, first=0) if len(lines) > _FEWEST else []
    told = [sum(map(names_address, cells)) * 2 > len(cells) for cells in below]
    return any(told) and any(all(map(FIGURE.match, cells)) for cells in below)
