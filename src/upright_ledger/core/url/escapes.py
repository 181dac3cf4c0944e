"""Escapes in canonical texts: one spelling for parameter values, and the letters of old sites,
which are in Latin-1.
"""

from __future__ import annotations

import re
from urllib.parse import unquote_to_bytes

_QUERY_ESCAPE = re.compile(r"%([0-9A-Fa-f]{2})")
_PLAIN = frozenset(b"ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789-._~")
_HEX = frozenset(b"0123456789ABCDEFabcdef")
_BROKEN = re.compile(r"%[0-9A-Fa-f]?\Z")
_NOT_ASCII = re.compile(r"%[89A-Fa-f][0-9A-Fa-f]")
_HIGH_RUN = re.compile(r"(?:%[89A-Fa-f][0-9A-Fa-f])+")


def canonical_value(value: str) -> str:
    """A parameter value with unreserved letters bare, other escapes in upper case, a blank as
    %20.
    """
    if not value or (value.isascii() and value.isalnum()):
        return value

    def one(match: re.Match[str]) -> str:
        byte = int(match[1], 16)
        # Bare, a digit behind a broken escape would make it whole.
        at = match.start()
        broken = byte in _HEX and _BROKEN.search(match.string, max(0, at - 2), at)
        return chr(byte) if byte in _PLAIN and not broken else f"%{byte:02X}"

    return as_utf8(_QUERY_ESCAPE.sub(one, value.replace("+", "%20")))


def as_utf8(text: str) -> str:
    """A canonical path or value whose escapes are Latin-1 (Windows-1252), as old sites wrote them,
    with those of UTF-8: "%E9" as "%C3%A9".

    What is UTF-8 already, or no letter in Latin-1, stays as it is.
    """
    if not _NOT_ASCII.search(text):
        return text
    try:
        unquote_to_bytes(text.encode("utf-8", "surrogateescape")).decode("utf-8")
    except UnicodeDecodeError:
        pass
    else:
        return text
    try:
        return _HIGH_RUN.sub(
            lambda m: _escaped(bytes.fromhex(m[0].replace("%", "")).decode("cp1252").encode()), text
        )
    except UnicodeDecodeError:
        return text


def as_latin1(text: str) -> str:
    """The inverse of `as_utf8` where there is one; else an empty text."""
    if not _NOT_ASCII.search(text):
        return ""
    try:
        latin1 = _HIGH_RUN.sub(
            lambda m: _escaped(
                bytes.fromhex(m[0].replace("%", "")).decode("utf-8").encode("cp1252")
            ),
            text,
        )
    except UnicodeError:
        return ""
    # Where the bytes of Latin-1 are UTF-8 as well, they spell other letters.
    return latin1 if as_utf8(latin1) == text else ""


def _escaped(raw: bytes) -> str:
    return "".join(f"%{byte:02X}" for byte in raw)


def value_spellings(value: str) -> tuple[str, ...]:
    """The spellings of a canonical value that a rule answers: upper or lower escapes, of UTF-8 or
    Latin-1, blank as %20 or +.
    """
    upper = tuple(s for v in (value, as_latin1(value)) if v for s in (v, v.replace("%20", "+")))
    upper = upper or (value,)
    lower = tuple(_QUERY_ESCAPE.sub(lambda m: m[0].lower(), v) for v in upper)
    return tuple(dict.fromkeys((*upper, *lower)))
