"""Files cut into spans of whole lines, so that several can read one file."""

from __future__ import annotations

import io
from collections.abc import Iterator
from contextlib import contextmanager
from itertools import pairwise
from pathlib import Path
from typing import BinaryIO, NamedTuple

from upright_ledger.errors import InputError
from upright_ledger.formats.files.compressed import PACKED

_CHUNK = 1 << 16


class Span(NamedTuple):
    """The lines of a file that begin at these bytes, from `start` on and before `end`."""

    start: int
    end: int


def is_packed(path: Path) -> bool:
    """Whether a file is packed, so that nobody can begin in its midst."""
    with path.open("rb") as file:
        return file.read(6).startswith(PACKED)


def spans_of(size: int, most: int) -> list[Span]:
    """Spans that cover a file of so many bytes, each of so many at most, and about alike."""
    count = max(1, -(-size // most))
    bounds = [size * n // count for n in range(count + 1)]
    return [Span(*pair) for pair in pairwise(bounds)]


@contextmanager
def open_span(path: Path, span: Span) -> Iterator[BinaryIO]:
    """The lines of a span. Raises InputError."""
    try:
        with path.open("rb") as file:
            yield io.BufferedReader(_Lines(file, span), 1 << 20)
    except OSError as error:
        raise InputError(
            f"{path} cannot be read: {error.strerror or error}",
            "check the name and the permissions",
        ) from None


class _Lines(io.RawIOBase):
    """The bytes of a span's lines: from behind the first line break at or after the byte before its
    start, to the first one at or after its last byte.
    """

    def __init__(self, file: BinaryIO, span: Span) -> None:
        self._file, self._end = file, span.end
        self._at = span.start
        self._ended = span.start >= span.end
        if span.start > 0 and not self._ended:
            file.seek(span.start - 1)
            self._skip_line(span.start - 1)

    def _skip_line(self, at: int) -> None:
        while data := self._file.read(_CHUNK):
            found = data.find(b"\n")
            if found >= 0:
                self._at = at + found + 1
                self._file.seek(self._at)
                self._ended = self._at >= self._end
                return
            at += len(data)
            if at >= self._end:
                break
        self._ended = True

    def readable(self) -> bool:
        return True

    def readinto(self, buffer: memoryview) -> int:  # type: ignore[override]
        """Fill a buffer; see `io.RawIOBase`."""
        if self._ended:
            return 0
        left = self._end - self._at
        if left > 0:
            data = self._file.read(min(left, len(buffer)))
            self._ended = not data or (len(data) == left and data.endswith(b"\n"))
        else:  # in the midst of the last line
            data = self._file.read(min(_CHUNK, len(buffer)))
            found = data.find(b"\n")
            self._ended = not data or found >= 0
            data = data[: found + 1] if found >= 0 else data
        self._at += len(data)
        buffer[: len(data)] = data
        return len(data)
