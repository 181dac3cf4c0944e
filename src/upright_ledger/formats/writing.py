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
from pathlib import Path
from typing import Any

from upright_ledger.errors import InputError

_CONTROL = re.compile(r"[\x00-\x1f\x7f]")
_FORMULA_START = ("=", "+", "-", "@", "\t", "\r")


def safe_cell(value: object) -> object:
    """A value as a spreadsheet must see it: text that would be a formula gets an apostrophe, line ends go."""
    if not isinstance(value, str):
        return value
    text = _CONTROL.sub(" ", value if value.isascii() else value.encode("utf-8", "backslashreplace").decode())
    return f"'{text}" if value.startswith(_FORMULA_START) or text.startswith(_FORMULA_START) else text


def bare_cell(text: str) -> str:
    """A cell of a CSV as it was before `safe_cell`."""
    return text[1:] if text[:1] == "'" and text[1:].startswith(_FORMULA_START) else text


def csv_bytes(header: Sequence[str], rows: Iterable[Sequence[object]]) -> bytes:
    """A CSV text (RFC 4180 quoting, newline ends) in UTF-8."""
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\n")
    writer.writerow(header)
    writer.writerows([safe_cell(v) for v in row] for row in rows)
    return out.getvalue().encode()


def json_bytes(value: Any) -> bytes:
    """A JSON text in UTF-8, indented, with a final newline."""
    return (json.dumps(value, indent=2, ensure_ascii=False) + "\n").encode("utf-8", "backslashreplace")


def write_whole(path: Path, data: bytes, *, public: bool = False) -> None:
    """Write a file so that readers see the old or the new content, never a part. Raises InputError.

    A new file is for its owner alone, unless it is public: what a web server, say, has to read. One that was there keeps its permissions.
    """
    try:
        mode = stat.S_IMODE(path.stat().st_mode) if path.exists() else 0o644 if public else 0o600
        path.parent.mkdir(parents=True, exist_ok=True)
        handle, name = tempfile.mkstemp(dir=path.parent, prefix=f".{path.name}.")
        try:
            with os.fdopen(handle, "wb") as file:
                file.write(data)
                file.flush()
                os.fsync(file.fileno())
            Path(name).chmod(mode)
            Path(name).replace(path)
        except BaseException:
            Path(name).unlink(missing_ok=True)
            raise
    except OSError as error:
        raise InputError(
            f"{path} cannot be written: {error.strerror or error}", "check the folder and its permissions"
        ) from None
