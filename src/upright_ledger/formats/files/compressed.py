"""Bytes of what users hand over: folders and patterns, compressed or plain, bounded and never
half-read unnoticed.
"""

from __future__ import annotations

import bz2
import glob
import gzip
import io
import lzma
import os
import shutil
import stat
import zlib
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import Any, BinaryIO

from upright_ledger.errors import InputError
from upright_ledger.formats.files.padding import Unpadded, begins_padded, is_padded

HEAD_BYTES = 65536
STDIN = "-"
MAX_FILES = 200_000

# A real list or log shrinks ten- to thirtyfold. What grows far more than that is a trap.
MAX_GROWTH = 300
GROWTH_FROM = 64 << 20  # bytes before the growth is looked at

_GZIP, _BZIP2, _XZ, _ZSTD = b"\x1f\x8b", b"BZh", b"\xfd7zXZ", b"\x28\xb5\x2f\xfd"
ZIP = b"PK\x03\x04"
PACKED = (_GZIP, _BZIP2, _XZ, _ZSTD, ZIP)
_DAMAGE = (OSError, EOFError, zlib.error, lzma.LZMAError)


@dataclass(frozen=True, slots=True)
class Input:
    """One file to read, and the name by which it is spoken of. sheet: of a workbook that has
    several. within: the archive that held it. is_ours: it lies in a folder of this command, which
    nobody else sees.
    """

    path: Path
    name: str
    sheet: str = ""
    within: str = ""
    is_ours: bool = False

    def __post_init__(self) -> None:
        object.__setattr__(self, "name", spelled(self.name))


def spelled(name: str) -> str:
    """The name of a file, which may be any bytes, as a text that can be kept and shown: those that
    are no UTF-8 are spelled out.
    """
    return os.fsencode(name).decode("utf-8", "backslashreplace")


def files_of(path: Path) -> list[Input]:
    """The files a path names: a file, a folder (all files below), or a pattern such as logs/*.gz.

    Raises InputError for a folder or pattern without files; a missing file shows when it is read.
    """
    if path.is_dir():
        files = sorted(p for p in path.rglob("*") if p.is_file() and not p.name.startswith("."))
        if not files:
            raise InputError(f"the folder {path} holds no files", "check its name")
        return [Input(p, p.relative_to(path).as_posix()) for p in files]
    if not path.exists() and glob.has_magic(str(path)):
        # the pattern may be absolute
        matches = glob.iglob(str(path), recursive=True)  # noqa: PTH207
        files = sorted(Path(p) for p in matches if Path(p).is_file())
        if not files:
            raise InputError(f"no file matches {path}", "check the pattern")
        return [Input(p, p.name) for p in files]
    return [Input(path, path.name)]


def spooled(folder: Path, source: BinaryIO, name: str) -> Input:
    """What can be read only once, as a file in a folder: some readers look at their input twice."""
    target = folder / "spooled"
    with target.open("wb") as file:
        shutil.copyfileobj(source, file, 1 << 20)
    return Input(target, name, is_ours=True)


_READ: set[tuple[int, int]] = set()
"""Device and number of the files that this command has read."""


def was_read(path: Path) -> bool:
    """Whether a file is one that this command has read, by whatever name."""
    found = path.stat()
    return (found.st_dev, found.st_ino) in _READ


def _note_read(file: Any) -> None:
    try:
        found = os.fstat(file.fileno())
    except io.UnsupportedOperation:  # a stream from elsewhere
        return
    if stat.S_ISREG(found.st_mode):
        _READ.add((found.st_dev, found.st_ino))


@contextmanager
def open_bytes(path: Path) -> Iterator[BinaryIO]:
    """The uncompressed bytes of a file. Raises InputError where it cannot be read, is cut off or
    grows without end.
    """
    try:
        with path.open("rb") as raw:
            _note_read(raw)
            magic = raw.read(6)
            raw.seek(0)
            stream = _uncompressed(raw, magic)
            if stream is not raw:
                bounded = _Bounded(stream, path, path.stat().st_size)
                whole = io.BufferedReader(bounded, 1 << 20)
                padded = begins_padded(whole.peek(HEAD_BYTES))
                yield io.BufferedReader(Unpadded(whole), 1 << 20) if padded else whole
            elif isinstance(path, Path) and is_padded(raw):
                yield io.BufferedReader(Unpadded(raw), 1 << 20)
            else:
                yield raw
    except OSError as error:
        raise InputError(
            f"{path} cannot be read: {error.strerror or error}",
            "check the name and the permissions",
        ) from None


def has_padding(path: Path) -> bool:
    """Whether something is left out of a file that fills it up and is no text; of one elsewhere
    that is not asked. Raises InputError.
    """
    if not isinstance(path, Path):
        return False
    with open_bytes(path) as file:
        return isinstance(getattr(file, "raw", None), Unpadded)


def _uncompressed(raw: BinaryIO, magic: bytes) -> Any:
    if magic.startswith(_GZIP):
        return gzip.GzipFile(fileobj=raw)
    if magic.startswith(_BZIP2):
        return bz2.BZ2File(raw)
    if magic.startswith(_XZ):
        return lzma.LZMAFile(raw)
    if magic.startswith(_ZSTD):
        import pyarrow as pa

        return pa.CompressedInputStream(pa.PythonFile(raw, "r"), "zstd")
    return raw


class _Bounded(io.RawIOBase):
    """A stream that names its file when it is damaged, and stops where a small file grows beyond
    all measure.
    """

    def __init__(self, stream: Any, path: Path, size: int) -> None:
        self._stream, self._path, self._size, self._read = stream, path, size, 0

    def readable(self) -> bool:
        return True

    def readinto(self, buffer: Any) -> int:
        try:
            data = self._stream.read(len(buffer))
        except _DAMAGE as error:
            raise self._damaged(error) from None
        self._read += len(data)
        if self._read > GROWTH_FROM and self._read > self._size * MAX_GROWTH:
            raise InputError(
                f"{self._path} grows more than {MAX_GROWTH}-fold when it is unpacked",
                "unpack it yourself if you trust it, and gather what comes out",
            )
        buffer[: len(data)] = data
        return len(data)

    def _damaged(self, error: Exception) -> InputError:
        detail = str(error).splitlines()[0] if str(error) else "it cannot be unpacked"
        return InputError(
            f"{self._path} is a damaged or cut-off archive: {detail}", "copy it again"
        )


def read_head(path: Path) -> bytes:
    """The first uncompressed bytes of a file. Raises InputError when it is missing, unreadable or
    empty.
    """
    with open_bytes(path) as file:
        head = file.read(HEAD_BYTES)
    if not head.strip():
        raise InputError(f"{path} is empty", "export it again, or leave it out")
    return head
