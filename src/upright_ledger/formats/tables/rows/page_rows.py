"""Tables in HTML pages as rows: exports of many programs are such, whatever their name ends in."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import Any

from upright_ledger.errors import NoAddressesError
from upright_ledger.formats.files.compressed import open_bytes
from upright_ledger.formats.tables.cells import Row, looks_like_address, tells_address

_MOST = 1 << 28  # bytes


def page_rows(path: Path) -> Iterator[Row]:
    """The rows of the table in which most addresses are. A cell with a link behind its words is
    that link's address. Raises InputError.
    """
    from upright_ledger.formats.html.page_head import parse_page

    with open_bytes(path) as file:
        data = file.read(_MOST + 1)
    root = parse_page(data, "") if len(data) <= _MOST else None
    tables = [list(_rows(table)) for table in root.iter("table")] if root is not None else []
    best = max(tables, key=_addresses, default=[])
    if not _addresses(best):
        raise NoAddressesError(f"{path} holds no table of addresses", "export the list as CSV")
    yield from best


def _rows(table: Any) -> Iterator[Row]:
    for number, row in enumerate(table.iter("tr"), 1):
        cells = [_text(cell) for cell in row if cell.tag in {"td", "th"}]
        yield row.sourceline or number, cells if any(cells) else []


def _text(cell: Any) -> str:
    text = " ".join("".join(cell.itertext()).split())
    if not looks_like_address(text):
        link = next((a.get("href", "").strip() for a in cell.iter("a")), "")
        return link if looks_like_address(link) else text
    return text


def _addresses(rows: list[Row]) -> int:
    return sum(any(map(tells_address, cells)) for _, cells in rows)
