"""Mending: the damage that copying, exporting and pasting do to addresses, each kind by its
name.
"""

from __future__ import annotations

import html
import re
from typing import NamedTuple
from urllib.parse import unquote

PLAIN_SIGNS = "ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789_~/=&?%+.-:"
"""Of what sound addresses consist."""
_PLAIN = PLAIN_SIGNS.encode("ascii")
_INVISIBLE = re.compile("[\u200b-\u200f\u2060\ufeff\u00ad\u202a-\u202e]")
_BREAKS = re.compile(r"[\r\n\t]+")
_ENTITY = re.compile(r"&(?:amp|lt|gt|quot|apos|nbsp|#\d{1,7}|#x[0-9a-fA-F]{1,6});")
_OPENING = "<([{\"'`\u2018\u2019\u201a\u201c\u201d\u201e\u2039\u203a\u00ab\u00bb"
_CLOSING = ">)]}\"'`\u2018\u2019\u201c\u201d\u2039\u203a\u00ab\u00bb"
_TRAILING = ".,;:!*|\u2026"
_PAIRS = {")": "(", "]": "[", "}": "{"}
_SCHEME = re.compile(
    r"^(?:https?:?/{0,2}(?=https?:/))|^[a-z][a-z+-]{1,20}:(?=https?://)|"
    r"^(https?)(?::/{3,}|:/(?!/)|//|;//|\s{1,3}:\s?//\s?|:\s//\s?|://\s{1,3})(?=[\w.])|"
    r"^h(?:xx|\*\*)(ps?)://(?=\w)",
    re.IGNORECASE,
)
"""A scheme twice, another one before it (view-source:http://…), one with signs too many or too few,
with blanks, or made harmless as warnings do.
"""
_HARMLESS = re.compile(r"^(https?://[^/?#]*)", re.IGNORECASE)
_ARCHIVED = re.compile(
    r"^https?://[^/\s]+/(?:[^/\s]+/)?(\d{4,14})(?:[a-z]{2}_)?/((?:https?:/|www\.).*)\Z",
    re.IGNORECASE | re.DOTALL,
)
# UTF-8 that was read as Windows-1252 or Latin-1: a letter of C3..F4 and then one of 80..BF, as
# either shows it.
_MOJIBAKE = re.compile(
    "[\u00c2-\u00f4][\u0080-\u00bf\u20ac\u201a\u0192\u201e\u2026"
    "\u2020\u2021\u02c6\u2030\u0160\u2039\u0152\u017d\u2018\u2019\u201c\u201d\u2022"
    "\u2013\u2014\u02dc\u2122\u0161\u203a\u0153\u017e\u0178]"
)
_ESCAPED_WHOLE = re.compile(r"https?%3A%2F%2F[^/?#]+\Z", re.IGNORECASE)
_ESCAPED_MOJIBAKE = re.compile(r"(?:%C3%8[23]%C2%[89AB][0-9A-F])+", re.IGNORECASE)


class Repaired(NamedTuple):
    """An address as it was meant. mends: kinds of damage, by name. day: when an archive kept it,
    YYYY-MM-DD or empty.
    """

    text: str
    mends: tuple[str, ...] = ()
    day: str = ""


def mend(text: str) -> Repaired:
    """Mend an address as exports and pasted texts hold it. What is sound comes back as it is."""
    if is_sound(text):
        return Repaired(text)
    mends: list[str] = []

    def put(new: str, kind: str) -> None:
        nonlocal text
        if new != text:
            text = new
            mends.append(kind)

    put(_INVISIBLE.sub("", text), "invisible characters")
    put(text.replace("\u00a0", " ").strip(), "blanks around")
    put("".join(part.strip() for part in _BREAKS.split(text)), "line breaks")
    put(_ENTITY.sub(lambda m: html.unescape(m[0]), text), "HTML entities")
    put(_unwrapped(text), "pasted punctuation")
    if _ESCAPED_WHOLE.match(text):
        put(unquote(text), "escapes of the whole address")
    put(_SCHEME.sub(_true_scheme, text), "damaged scheme")
    if "[.]" in text or "(.)" in text:
        put(_HARMLESS.sub(lambda m: re.sub(r"[\[(]\.[\])]", ".", m[0]), text), "damaged host")
    day = ""
    if match := _ARCHIVED.match(text):
        day = _archive_day(match[1])
        put(match[2], "archive prefix")
        put(_SCHEME.sub(_true_scheme, text), "damaged scheme")
    put(_true_letters(text), "mojibake")
    if "\\" in text:
        put(text.replace("\\", "/"), "backslashes")
    if " " in text:
        put(text.replace(" ", "%20"), "blanks inside")
    return Repaired(text, tuple(dict.fromkeys(mends)), day)


def is_sound(text: str) -> bool:
    """Whether a text is an address in which nothing can be damage, as most are: a quick look that
    may well say no.
    """
    begins = text[:7] == "http://" or text[:8] == "https://" or text[:1] == "/"
    if not (begins and text.isascii()) or text.encode().translate(None, _PLAIN):
        return False
    last = text[-1]
    return (
        (last.isalnum() or last in "_~/=")
        and ":///" not in text
        and "/http" not in text
        and "/www." not in text[8:]
        and not ("%" in text and _ESCAPED_MOJIBAKE.search(text))
    )


def _unwrapped(text: str) -> str:
    """Without quotes and brackets around it, and without the punctuation of the sentence it stood
    in.
    """
    begin, end = 0, len(text)
    counts = {sign: text.count(sign) for sign in (*_OPENING, *_CLOSING)}  # between begin and end
    while begin < end:
        first, last = text[begin], text[end - 1]
        if first.isspace():
            begin += 1
        elif last.isspace() or (last in _TRAILING and end - begin > 1):
            end -= 1
        elif last in _CLOSING and counts[last] > counts.get(_PAIRS.get(last, ""), 0):
            counts[last] -= 1
            end -= 1
        elif first in _OPENING:
            counts[first] -= 1
            begin += 1
        else:
            break
    return text[begin:end]


def _true_scheme(match: re.Match[str]) -> str:
    scheme = match[1] or (f"htt{match[2]}" if match[2] else "")
    return f"{scheme.lower()}://" if scheme else ""


def _true_letters(text: str) -> str:
    """UTF-8 that was taken for another encoding, read aright; the text itself where it was not."""
    if _ESCAPED_MOJIBAKE.search(text):
        text = _ESCAPED_MOJIBAKE.sub(_escaped_right, text)
    if not _MOJIBAKE.search(text):
        return text
    for encoding in ("cp1252", "latin-1"):
        try:
            return text.encode(encoding).decode("utf-8")
        except UnicodeError:
            continue
    return text


def _escaped_right(match: re.Match[str]) -> str:
    once = bytes.fromhex(match[0].replace("%", "")).decode("utf-8").encode("latin-1")
    return "".join(f"%{byte:02X}" for byte in once)


def _archive_day(stamp: str) -> str:
    digits = stamp.ljust(8, "0")
    year, month, day = digits[:4], digits[4:6], digits[6:8]
    return f"{year}-{month}-{day}" if "01" <= month <= "12" and "01" <= day <= "31" else ""
