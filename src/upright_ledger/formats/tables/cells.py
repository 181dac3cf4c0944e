"""What one cell says: an address, a status, a number, a day."""

from __future__ import annotations

import csv
import re
from datetime import UTC, date, datetime
from functools import lru_cache
from unicodedata import decimal

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


_NUMBER_SIGNS = re.compile(r"[\s\u00a0\u202f\u2009'\u2019\u200c\u200e\u200f\u2066-\u2069]")
"""With marks of the direction of writing, which exports in Arabic and Hebrew put around figures."""
_OTHER_DIGITS = re.compile(r"[^\x00-\x7f]")
_POINTS = {"\u066b": ".", "\u066c": ",", "\uff0c": ",", "\uff0e": "."}


def _in_ascii(found: re.Match[str]) -> str:
    """A digit of another script, or what parts them, as in ASCII."""
    digit = decimal(found[0], -1)
    return _POINTS.get(found[0], found[0]) if digit < 0 else str(digit)


_GROUPED = re.compile(r"\d{1,3}(?:([.,])\d{3})(?:\1\d{3})*(?:(?!\1)[.,]\d+)?\Z")


_ABSURD = 1e12  # nothing on a site is asked for, or shown, so often
_INDIAN = re.compile(r"\d{1,2}(?:,\d{2})+,\d{3}(?:\.\d+)?\Z")


_SCALES = dict.fromkeys(("k", "tsd", "mil", "tys"), 1e3) | dict.fromkeys(
    ("m", "mio", "mln", "mn"), 1e6
)
_SHORTENED = re.compile(rf"(\d+(?:[.,]\d+)?)\s?({'|'.join(_SCALES)})\.?\Z", re.IGNORECASE)
"""As reports shorten figures: 1.2K, 3,4 Mio."""


def number(cell: str) -> float | None:
    """A figure as exports of several countries write it: 1,234 or 1.234 or 1 234 or 1'234.5 or
    1.234,5; None when it is none, or more than anything can be counted.

    A single group of three digits after a sign is taken for thousands: figures here are counts.
    """
    value = _number(cell)
    return value if value is None or value < _ABSURD else None


def _number(cell: str) -> float | None:
    if cell.isascii() and cell.isdigit():
        return float(cell)
    if not cell.isascii():
        cell = _OTHER_DIGITS.sub(_in_ascii, cell)
    text = _NUMBER_SIGNS.sub("", cell)
    if text.isascii() and text.isdigit():
        return float(text)
    if match := _GROUPED.match(text):
        mark = match[1]
        return float(text.replace(mark, "").replace(",", "."))
    if _INDIAN.match(text):
        return float(text.replace(",", ""))
    if match := _SHORTENED.match(cell.strip()):
        return float(match[1].replace(",", ".")) * _SCALES[match[2].lower()]
    text = text.replace(",", ".") if text.count(",") == 1 and "." not in text else text
    return float(text) if re.fullmatch(r"\d+(?:\.\d+)?(?:[eE]\+?\d{1,2})?", text) else None


_MONTHS = {
    name: n
    for names in (
        "jan feb mar apr may jun jul aug sep oct nov dec",
        "january february march april may june july august september october november december",
        "januar februar märz april mai juni juli august september oktober november dezember",
        "janvier février mars avril mai juin juillet août septembre octobre novembre décembre",
    )
    for n, name in enumerate(names.split(), 1)
}


_DAY_FORMS = (
    re.compile(r"(?P<y>\d{4})[-/.](?P<m>\d{1,2})[-/.](?P<d>\d{1,2})(?:[T ].*)?\Z"),
    re.compile(r"(?P<y>\d{4})(?P<m>\d{2})(?P<d>\d{2})(?:\d{6})?\Z"),
    re.compile(r"(?P<d>\d{1,2})\.(?P<m>\d{1,2})\.(?P<y>\d{4})(?:[, ].*)?\Z"),
    re.compile(r"(?P<a>\d{1,2})[/-](?P<b>\d{1,2})[/-](?P<y>\d{4})(?:[, ].*)?\Z"),
    re.compile(r"(?P<d>\d{1,2})\.?[ -](?P<n>[^\W\d]+)\.?,?[ -](?P<y>\d{4})(?:[, ].*)?\Z"),
    re.compile(r"(?P<n>[^\W\d]+)\.? (?P<d>\d{1,2}),? (?P<y>\d{4})(?:[, ].*)?\Z"),
    re.compile(r"[^\W\d]{2,4}, (?P<d>\d{1,2}) (?P<n>[^\W\d]+) (?P<y>\d{4}) .*\Z"),
)


@lru_cache(maxsize=1 << 14)
def day_of(cell: str, *, month_first: bool = False) -> str:
    """A day as exports write it, as YYYY-MM-DD; empty where it is none.

    3/4/2026 is the third of April unless `month_first`; 3/14/2026 can only be one of March.
    """
    text = cell.strip()
    for form in _DAY_FORMS:
        match = form.match(text)
        if match is None:
            continue
        parts = match.groupdict()
        if "a" in parts:
            a, b = int(parts["a"]), int(parts["b"])
            month, day = (a, b) if b > 12 or (month_first and a <= 12) else (b, a)
        else:
            month = int(parts["m"]) if "m" in parts else _MONTHS.get(parts["n"].lower(), 0)
            day = int(parts["d"])
        try:
            return date(int(parts["y"]), month, day).isoformat()
        except ValueError:
            return ""
    return ""


def day_since_1970(cell: str) -> str:
    """The day (UTC) of a number of seconds or milliseconds since 1970, as programs write times; an
    empty text where it is none, or long ago.
    """
    match = _SECONDS.fullmatch(cell.strip())
    return datetime.fromtimestamp(int(match[1]), UTC).date().isoformat() if match else ""


_SECONDS = re.compile(r"(1[0-9]{9})(?:[0-9]{3})?(?:\.[0-9]+)?")
