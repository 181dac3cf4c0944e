"""Texts: which encoding a file is in, and its numbered lines, however long the file is."""

from __future__ import annotations

import codecs
import hashlib
import io
import re
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import TextIO

from upright_ledger.errors import InputError
from upright_ledger.formats.files.compressed import open_bytes, read_head

MAX_LINE = 1 << 20  # characters; longer lines are no list of URLs
_BLOCK = 1 << 20
USUAL = "cp1252"
"""In which texts are that are not in UTF-8 and do not say in what."""
MIXED = f"utf-8 and {USUAL}"
"""UTF-8 that somebody put other lines into, or cut within a character: what is no UTF-8 in it is
read byte by byte.
"""
_MOSTLY = 4
"""So many runs of bytes beyond ASCII are UTF-8, for each that is none."""
_BEYOND_ASCII = re.compile(rb"[\x80-\xff]+")
_UTF16_BOMS = (codecs.BOM_UTF16_LE, codecs.BOM_UTF16_BE)


def encoding_of(path: Path, given: str = "") -> str:
    """The encoding of a text file: as given, by its byte order mark, UTF-8 where that fits, MIXED
    where most of it does, else Windows-1252.

    Raises InputError for an encoding nobody knows, and with the line of the first byte that a given
    one lacks.
    """
    if given:
        check_encoding(given)
    elif name := guess_encoding(read_head(path)):
        return name
    bad = _first_misfit(path, given or "utf-8", whole=bool(given))
    if bad is None:
        return given or "utf-8-sig"
    if given:
        line, byte = bad
        raise InputError(
            f"{path} is not in {given.upper()}: line {line:,} holds the byte 0x{byte:02X}",
            "name its true encoding",
        )
    return MIXED if _is_mostly_utf8(path) else USUAL


def check_encoding(name: str) -> None:
    """Raises InputError for an encoding nobody knows, or that is none of texts."""
    try:
        b" ".decode(name, "replace")
    except (LookupError, UnicodeError):
        raise InputError(
            f"no encoding is called {name!r}", "try --encoding utf-8 or --encoding cp1252"
        ) from None


def guess_encoding(head: bytes) -> str:
    """An encoding that the first bytes give away: a byte order mark, or the zero bytes of UTF-16;
    else empty.
    """
    if head.startswith(_UTF16_BOMS):
        return "utf-16"
    start = head[:2000]
    if len(start) > 3 and start[1::2].count(0) * 2 > len(start) // 2 and not start[::2].count(0):
        return "utf-16-le"
    if len(start) > 3 and start[::2].count(0) * 2 > len(start) // 2 and not start[1::2].count(0):
        return "utf-16-be"
    return ""


def fits(path: Path, encoding: str) -> bool:
    """Whether a file is in an encoding, but for a character that its end may cut off."""
    return _first_misfit(path, encoding, whole=False) is None


def _first_misfit(path: Path, encoding: str, *, whole: bool) -> tuple[int, int] | None:
    """Line and value of the first byte that does not fit an encoding. whole: the last character is
    to be there; else a file that was cut off within it fits.
    """
    decoder = codecs.getincrementaldecoder(encoding)()
    line, returned = 1, False
    with open_bytes(path) as file:
        while True:
            block = file.read(_BLOCK)
            if returned and block.startswith(b"\n"):
                line -= 1  # the two that end one line lie in two blocks
            try:
                decoder.decode(block, final=whole and not block)
            except UnicodeDecodeError as error:
                return line + _line_ends(error.object[: error.start]), error.object[error.start]
            line, returned = line + _line_ends(block), block.endswith(b"\r")
            if not block:
                return None


def _line_ends(data: bytes) -> int:
    return data.count(b"\n") + data.count(b"\r") - data.count(b"\r\n")


def first_misfit(path: Path) -> int:
    """The first line of a file that is no UTF-8; 0 where all are."""
    return (_first_misfit(path, "utf-8", whole=True) or (0, 0))[0]


def _is_mostly_utf8(path: Path) -> bool:
    """Told by the runs of bytes beyond ASCII, as a file need not have lines."""
    good = bad = 0
    with open_bytes(path) as file:
        while line := file.readline(MAX_LINE):
            for run in _BEYOND_ASCII.findall(line):
                try:
                    run.decode("utf-8")
                    good += 1
                except UnicodeDecodeError:
                    bad += 1
    return good >= _MOSTLY * bad


def _as_usual(error: UnicodeError) -> tuple[str, int]:
    """Bytes that are no UTF-8 as `USUAL` has them; those that it lacks are replaced."""
    if not isinstance(error, UnicodeDecodeError):
        raise error
    return error.object[error.start : error.end].decode(USUAL, "replace"), error.end


_BYTE_BY_BYTE = "upright_ledger.byte_by_byte"
codecs.register_error(_BYTE_BY_BYTE, _as_usual)


@contextmanager
def open_text(path: Path, encoding: str = "") -> Iterator[TextIO]:
    """A text file, its encoding found out. Bytes that an encoding nobody named leaves undefined are
    replaced.
    """
    with open_in(path, encoding_of(path, encoding), strict=bool(encoding)) as file:
        yield file


@contextmanager
def open_in(path: Path, encoding: str, *, strict: bool) -> Iterator[TextIO]:
    """A text file whose encoding is known. strict: raise an error at bytes that it leaves
    undefined, rather than replace them.
    """
    errors = "strict" if strict else "replace"
    if encoding == MIXED:
        encoding, errors = "utf-8-sig", _BYTE_BY_BYTE
    with open_bytes(path) as file:
        yield io.TextIOWrapper(file, encoding, errors=errors, newline="")


def read_text(path: Path, encoding: str = "", limit: int = 1 << 28) -> str:
    """The whole text of a small file. Raises InputError where it is longer than `limit`
    characters.
    """
    with open_text(path, encoding) as file:
        text = file.read(limit + 1)
    if len(text) > limit:
        raise InputError(f"{path} is longer than {limit:,} characters", "split it")
    return text


def with_line_feeds(text: str) -> str:
    """A text whose lines end in line feeds, whatever they ended in."""
    return text.replace("\r\n", "\n").replace("\r", "\n")


def text_lines(file: TextIO) -> Iterator[tuple[int, str]]:
    """Numbered lines. One longer than MAX_LINE is cut to one character more, and the rest of it
    skipped.
    """
    number = 0
    while line := file.readline(MAX_LINE + 1):
        number += 1
        if len(line) > MAX_LINE and not line.endswith(("\n", "\r")):
            while (rest := file.readline(MAX_LINE)) and not rest.endswith(("\n", "\r")):
                pass
        yield number, line.rstrip("\r\n")


def digest_of(path: Path) -> tuple[str, int]:
    """SHA-256 and size in bytes of a file's uncompressed content: packed or not, it is the same
    source.
    """
    state, size = hashlib.sha256(), 0
    with open_bytes(path) as file:
        while chunk := file.read(_BLOCK):
            state.update(chunk)
            size += len(chunk)
    return state.hexdigest(), size
