"""Tables of item numbers: old ones, and the new ones in their place."""

from __future__ import annotations

from itertools import chain
from pathlib import Path

from upright_ledger.errors import InputError
from upright_ledger.formats.detection import OF_ROWS, FileKind, recognise
from upright_ledger.formats.tables.cells import looks_like_address
from upright_ledger.formats.tables.header_words import side_of
from upright_ledger.formats.tables.rows.table_rows import rows_of

_COLUMNS = 2


def read_item_numbers(path: Path) -> dict[str, str]:
    """Old item number → the new one; see `item_rows`. Raises InputError where it names two new
    numbers for one old.
    """
    found: dict[str, str] = {}
    for line, one, other in item_rows(path):
        if found.setdefault(one, other) != other:
            raise InputError(
                f"{path}, line {line}: {one} has two new numbers, {found[one]} and {other}",
                "leave one of them",
            )
    return found


def item_rows(path: Path) -> list[tuple[int, str, str]]:
    """(line, old item number, new one) of a table whose headers say which is which, or else of its
    first two columns. Raises InputError where it has no two columns, names addresses, or nothing.
    """
    kind = recognise(path)
    rows = rows_of(path, kind if kind in OF_ROWS else FileKind.TABLE)
    filled = ((line, cells) for line, cells in rows if any(c.strip() for c in cells))
    head = next(filled, (0, []))
    sides = [_side(cell) for cell in head[1]]
    old, new = (sides.index(side) if side in sides else -1 for side in ("old", "new"))
    has_header = old >= 0 or new >= 0 or not any(c.isdigit() for c in "".join(head[1]))
    if old < 0 or new < 0:
        old = old if old >= 0 else 0 if new != 0 else 1
        new = new if new >= 0 else 1 if old != 1 else 0
    found, widest = [], len(head[1])
    # A sheet of addresses is given up at its first row, however long it is.
    for line, cells in filled if has_header else chain([head], filled):
        widest = max(widest, len(cells))
        one, other = (cells[at].strip() if at < len(cells) else "" for at in (old, new))
        if looks_like_address(one) or looks_like_address(other):
            raise InputError(f"{path} names addresses", "two columns of item numbers are needed")
        if one and other:
            found.append((line, one, other))
    if widest < _COLUMNS:
        raise InputError(f"{path} has no two columns", "one of old item numbers, one of new ones")
    if not found:
        raise InputError(f"{path} names no item number", "one of old item numbers, one of new ones")
    return found


def _side(header: str) -> str:
    """The side of which a header speaks, if it is one."""
    named = {side_of(word) for word in header.split()} - {""}
    return named.pop() if len(named) == 1 else ""
