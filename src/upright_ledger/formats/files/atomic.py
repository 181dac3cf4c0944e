"""Writing sheets and files: nothing half-written, no cell that a spreadsheet would run."""

from __future__ import annotations

import csv
import io
import json
import os
import re
import stat
import tempfile
from collections.abc import Iterable, Sequence
from contextlib import suppress
from pathlib import Path
from typing import Any

from upright_ledger.errors import InputError
from upright_ledger.formats.files.compressed import was_read
from upright_ledger.formats.files.leftovers import clear, hidden_mark

_SQLITE = b"SQLite format 3\0"
_SETTINGS = "upright.toml"
_CONTROL = re.compile(r"[\x00-\x1f\x7f]")
_FORMULA_START = ("=", "+", "-", "@", "\t", "\r")


def safe_cell(value: object) -> object:
    """A value as a spreadsheet must see it: text that would be a formula gets an apostrophe, line
    ends go.
    """
    if not isinstance(value, str):
        return value
    if value.isascii() and value.isprintable() and not value.startswith(_FORMULA_START):
        return value
    text = _CONTROL.sub(
        " ", value if value.isascii() else value.encode("utf-8", "backslashreplace").decode()
    )
    return (
        f"'{text}" if value.startswith(_FORMULA_START) or text.startswith(_FORMULA_START) else text
    )


def bare_cell(text: str) -> str:
    """A cell of a CSV as it was before `safe_cell`."""
    return text[1:] if text[:1] == "'" and text[1:].startswith(_FORMULA_START) else text


def csv_bytes(header: Sequence[str], rows: Iterable[Sequence[object]]) -> bytes:
    """A CSV text (RFC 4180 quoting, newline ends) in UTF-8."""
    rows = [header, *rows]
    # In most texts nothing is to be quoted or made safe, which one look at all of it shows.
    text = "\n".join([*map(_joined, rows), ""])
    signs = text.count(","), text.count("\n")
    plain = signs == (sum(map(len, rows)) - len(rows), len(rows)) and min(map(len, rows)) > 1
    if not plain or '"' in text or not _is_safe(text):
        text = _csv_text([safe_cell(v) for v in row] for row in rows)
    return text.encode()


def _joined(row: Sequence[object]) -> str:
    try:
        return ",".join(row)  # type: ignore[arg-type]
    except TypeError:  # some are figures, or nothing
        return ",".join([_written(value) for value in row])


def _written(value: object) -> str:
    return value if isinstance(value, str) else "" if value is None else str(value)


def _is_safe(text: str) -> bool:
    """Whether no cell of a table without quotes is to be made safe."""
    starts = (f"{end}{sign}" for end in ",\n" for sign in _FORMULA_START)
    return (
        text.isascii()
        and text.replace("\n", "").isprintable()
        and not text.startswith(_FORMULA_START)
        and not any(start in text for start in starts)
    )


def _csv_text(rows: Iterable[Sequence[object]]) -> str:
    out = io.StringIO()
    csv.writer(out, lineterminator="\n").writerows(rows)
    return out.getvalue()


def json_bytes(value: Any) -> bytes:
    """A JSON text in UTF-8, indented, with a final newline."""
    return (json.dumps(value, indent=2, ensure_ascii=False) + "\n").encode(
        "utf-8", "backslashreplace"
    )


def write_whole(path: Path, data: bytes, *, public: bool = False) -> None:
    """Write a file so that readers see the old or the new content, never a part. Raises InputError.

    A new file is for its owner alone, unless it is public: what a web server, say, has to read. One
    that was there keeps its owner, permissions and attributes, and a link to it stays one. Devices,
    pipes and sockets are written to as they are. A ledger is never written over, nor, unless it is
    public, what the same command has read.
    """
    try:
        real = Path(os.path.realpath(path))
        present = path.stat() if path.exists() else None
        if present is not None and not is_put_in_place(path):
            with path.open("wb") as file:
                file.write(data)
            return
        if present is not None:
            refuse_ledger(real)
            if not public and was_read(path):
                raise InputError(
                    f"{path} was read by this command, and would be lost", "name another file"
                )
        real.parent.mkdir(parents=True, exist_ok=True)
        clear(real.parent)
        handle, name = tempfile.mkstemp(dir=real.parent, prefix=hidden_mark())
        try:
            with os.fdopen(handle, "wb") as file:
                file.write(data)
                file.flush()
                os.fsync(file.fileno())
            if present is not None:
                _make_alike(real, Path(name), present)
            elif public:
                Path(name).chmod(0o666 & ~umask())
            Path(name).replace(real)
        except BaseException:
            Path(name).unlink(missing_ok=True)
            raise
    except OSError as error:
        raise InputError(
            f"{path} cannot be written: {error.strerror or error}",
            "check the folder and its permissions",
        ) from None


def is_put_in_place(path: Path) -> bool:
    """Whether what is written to a path that is there comes in the place of a file: devices, pipes
    and sockets are written to as they are.
    """
    return stat.S_ISREG(path.stat().st_mode) and path.absolute().parts[1:2] not in {
        ("dev",),
        ("proc",),
    }


def refuse_ledger(path: Path) -> None:
    """Raises InputError for a file that is part of a ledger: it must not be written over."""
    with path.open("rb") as file:
        is_ledger = file.read(len(_SQLITE)) == _SQLITE or path.name == _SETTINGS
    if is_ledger:
        raise InputError(f"{path} belongs to a ledger", "name another file")


def _make_alike(old: Path, new: Path, present: os.stat_result) -> None:
    """Give a file the owner, permissions and attributes of the one in whose place it comes."""
    made = new.stat()
    if (made.st_uid, made.st_gid) != (present.st_uid, present.st_gid):
        with suppress(PermissionError):  # a file of somebody else that we may write becomes ours
            os.chown(new, present.st_uid, present.st_gid)
    new.chmod(stat.S_IMODE(present.st_mode))
    if hasattr(os, "listxattr"):
        with suppress(OSError):  # not every file system, and not everybody, may
            for name in os.listxattr(old):
                os.setxattr(new, name, os.getxattr(old, name))


def umask() -> int:
    """The permissions that new files of this process do not have."""
    mask = os.umask(0o077)
    os.umask(mask)
    return mask
