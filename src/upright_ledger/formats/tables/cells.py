"""What one cell says: an address, a host, a status, a sum."""

from __future__ import annotations

import csv
import re
from collections.abc import Sequence

Row = tuple[int, list[str]]
"""The line or row of the file, from 1, and its cells; a blank row has none."""
_ADDRESS = re.compile(
    r"^[<(\[\"'\u201c\u201e\u00ab]*(?:h(?:tt|xx)ps?\s?:\s?/{1,2}\s?\S|/\S*$|www\.\S+|"
    r"[a-z0-9-]+(?:\.[a-z0-9-]+)*\.[a-z]{2,}/\S*$)",
    re.IGNORECASE,
)


NO_ADDRESS = frozenset(
    [
        "(not set)",
        "(other)",
        "(not provided)",
        "(none)",
        "(direct)",
        "n/a",
        "na",
        "#n/a",
        "none",
        "null",
        "undefined",
        "nan",
        "-",
        "—",
        "(leer)",
        "(andere)",
        "(nicht festgelegt)",
    ]
)
"""How exports say that there is no address."""
_HOST = re.compile(
    r"^(?:https?://)?([a-z0-9.-]+\.[a-z][a-z0-9-]*)(?::\d+)?(?:[/?#]|$)", re.IGNORECASE
)


def cells_of(line: str, delimiter: str) -> list[str]:
    """The cells of one line of delimited text; none where its quotes cannot be read."""
    try:
        return next(csv.reader([line], delimiter=delimiter), [])
    except csv.Error:
        return []


def column_of(rows: Sequence[Sequence[str]], at: int | None) -> list[str]:
    """What a column says in each of these rows, trimmed; empty where there is none."""
    if at is None:
        return [""] * len(rows)
    return [row[at].strip() if at < len(row) else "" for row in rows]


def cell_text(value: object) -> str:
    """What a cell says whose value is a figure, a text or nothing."""
    if isinstance(value, float) and value.is_integer():
        return str(int(value))
    if isinstance(value, bytes):
        return value.decode("utf-8", "replace")
    return "" if value is None else str(value)


def looks_like_address(cell: str) -> bool:
    """Whether a cell holds a URL or an absolute path."""
    return _ADDRESS.match(cell.strip()) is not None


def tells_address(cell: str) -> bool:
    """Whether a cell holds a URL, an absolute path, or the request of one."""
    return looks_like_address(cell) or _REQUEST.match(cell) is not None


_REQUEST = re.compile(r"\s*[A-Z]{3,9} (?:https?:/|/)\S* HTTP/\d")


def begins_a_sum(cell: str) -> bool:
    """Whether a cell begins a row of totals: a page of that name (/total/, sum.html) does not."""
    return _TOTAL.match(cell) is not None and not looks_like_address(cell)


_TOTAL = re.compile(
    r"[^\w@=+]*(?:grand |sub)?(?:total|totals|sum|summe|gesamt|insgesamt|overall|total "
    r"g\S+|totale|totali|somme|suma|summa|totaal|totalt|sammanlagt|razem|łącznie|ogółem|soma|i alt|"
    r"celkem|yhteensä|összesen|toplam|итого|всего|合計|総計|总计|總計|合计|합계|σύνολο|ukupno|spolu|"
    r"skupaj|iš viso|kopā|kokku|общо|усього|всього|разом|tổng cộng|tổng|รวม|ผลรวม|jumlah|कुल|"
    r"סה[\"״]?כ|المجموع|الإجمالي|مجموع|جمع کل)(?!\w|[./-]\w)",
    re.IGNORECASE,
)


def host_of(cell: str) -> str:
    """The host that a cell names, or an empty text."""
    match = _HOST.match(cell.strip())
    return match[1].lower() if match else ""


def status_code(cell: str) -> int:
    """An HTTP status as a cell gives it ("404", "404 Not Found", "404.0"); 0 where it gives
    none.
    """
    match = re.match(r"([1-5][0-9]{2})(?:\.0)?(?:\s\D.*)?\Z", cell)
    return int(match[1]) if match else 0
