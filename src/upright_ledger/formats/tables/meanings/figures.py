"""Figures, as exports of many countries, and people, write them."""

from __future__ import annotations

import re
from unicodedata import decimal

from upright_ledger.core.inventory.units import IN_TABLES
from upright_ledger.formats.tables.column_names import NAMES, bare

_NUMBER_SIGNS = re.compile(r"[\s\u00a0\u202f\u2009'\u2019\u200c\u200e\u200f\u2066-\u2069]")
"""With marks of the direction of writing, which exports in Arabic and Hebrew put around figures."""
_OTHER_DIGITS = re.compile(r"[^\x00-\x7f]")
_POINTS = {"\u066b": ".", "\u066c": ",", "\uff0c": ",", "\uff0e": "."}


def _in_ascii(found: re.Match[str]) -> str:
    """A digit of another script, or what parts them, as in ASCII."""
    digit = decimal(found[0], -1)
    return _POINTS.get(found[0], found[0]) if digit < 0 else str(digit)


_GROUPED = re.compile(r"\d{1,3}(?:([.,])\d{3})(?:\1\d{3})*(?:(?!\1)[.,]\d+)?\Z")


_LONGEST = 80  # characters of a cell that tells a figure
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
    if (
        value is None
        and len(cell) <= _LONGEST
        and (about := _ABOUT.fullmatch(cell))
        and _counts(about["after"])
    ):
        value = _number(about["figure"])
    return value if value is None or value < _ABSURD else None


_ABOUT = re.compile(
    r"\s*=?[\"']?\s*(?:ca\.?|about|approx\.?|[~\u2248+>\u2265]=?)?"
    r"\s*(?P<figure>\d(?:[\d.,\s'\u2019]*\d)?)"
    r"\s*(?P<after>\+|\(\s*\d[\d.,]*\s*%\s*\)|[^\W\d_]{1,30})?\s*[\"']?\s*",
    re.IGNORECASE,
)
"""A figure that is rounded, a formula for a text, or has its share or what it counts behind it:
="12", ~1,200, 1.234 Aufrufe, 34 (5 %).
"""
COUNTED = {name for unit in IN_TABLES for name in NAMES[unit]} | set(
    "\u56de\u6b21\u4ef6\ud68c\uac74"
)
"""What headings, and words behind a figure, call what is counted."""


def _counts(after: str | None) -> bool:
    """Whether what stands behind a figure says what it counts, or no more about it."""
    return not after or after[0] in "+(" or bare(after) in COUNTED


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
