"""Texts that something filled up with what is no text: NUL bytes, where a log was emptied while a
program went on writing at its old place, or where the power went before what was written lay on the
disk; the sign for the end of a file of older systems.
"""

from __future__ import annotations

import io
import re
from typing import Any, BinaryIO

_SAMPLE = 1 << 16
_END = 64
_BLOCK = 1 << 20
_FILLED = re.compile(rb"\0{4,}")
"""No text in whatever encoding has as many one after the other."""
_LAST = b"\0\x1a"
_CONTROLS = bytes(set(range(32)) - set(b"\t\n\f\r\x1b"))


def is_padded(file: BinaryIO) -> bool:
    """Whether a file is a text but for what fills it up. Its place is kept; it is told by how it
    begins and ends.
    """
    at = file.tell()
    head = file.read(_SAMPLE)
    end = file.seek(0, io.SEEK_END)
    file.seek(max(at, end - _END))
    last = file.read(_END)
    if b"\0" not in head and not last.endswith((b"\0", b"\x1a")):
        file.seek(at)
        return False
    file.seek(at)
    while head and not head.strip(b"\0"):  # emptied at some gigabytes, say
        head = file.read(_BLOCK)
    file.seek(at)
    return _is_text(head)


def begins_padded(head: bytes) -> bool:
    """Whether the first bytes of what cannot be gone back in are a text but for what fills it up;
    where they are nothing but that, a text is behind it.
    """
    filled = b"\0" in head or head.endswith(b"\x1a")
    return filled and (_is_text(head) or not head.strip(b"\0"))


def _is_text(head: bytes) -> bool:
    text = _FILLED.sub(b"", head).rstrip(_LAST)
    return bool(text) and text == text.translate(None, _CONTROLS)


def without_filling(lines: bytes) -> bytes:
    """Lines without NUL bytes that fill up what nobody wrote, and with an end where these tore
    one.
    """
    parts = [part for part in _FILLED.split(lines) if part]
    told = [part if part.endswith(b"\n") else part + b"\n" for part in parts[:-1]]
    return b"".join([*told, *parts[-1:]])


class Unpadded(io.RawIOBase):
    """The text of a file without what fills it up, and with a line end where that tore lines."""

    def __init__(self, file: BinaryIO) -> None:
        self._file = file
        self._waiting = b""
        self._held = b""
        """What the text would end with, if no more came."""
        self._torn = False
        """Whether the text up to here ends within a line."""

    def readable(self) -> bool:
        return True

    def readinto(self, buffer: Any) -> int:
        """Fill a buffer; see `io.RawIOBase`."""
        while not self._waiting:
            data = self._file.read(_BLOCK)
            if not data:
                return 0
            self._waiting = self._text_of(data)
        given = self._waiting[: len(buffer)]
        self._waiting = self._waiting[len(given) :]
        buffer[: len(given)] = given
        return len(given)

    def _text_of(self, data: bytes) -> bytes:
        data = self._held + data
        text = data.rstrip(_LAST) if len(data) < 2 * _BLOCK else data
        self._held, data = _FILLED.sub(b"\0" * 4, data[len(text) :]), text
        found = without_filling(data)
        if found and self._torn and data.startswith(b"\0" * 4):
            found = b"\n" + found
        self._torn = not found.endswith(b"\n") if found else self._torn
        return found
