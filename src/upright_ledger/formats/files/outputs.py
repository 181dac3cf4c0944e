"""Files that a command writes for somebody: what was there and is not known as this program's own
is not written over unasked.
"""

from __future__ import annotations

import errno
import hashlib
import json
import os
from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path

from upright_ledger.errors import RefusedError
from upright_ledger.formats.files.atomic import is_put_in_place, refuse_ledger, write_whole

REGISTER = ".written.jsonl"
"""In a ledger's folder: what its commands wrote, a line a file: its path, and the SHA-256 of what
was written.
"""
_LONGEST_REGISTER = 1 << 20


@dataclass
class _Asked:
    """What the command line said. register: of the ledger's folder, if there is one. force: write
    over anything.
    """

    register: Path | None = None
    force: bool = False
    heard: bool = False


_asked = _Asked()


def begin(ledger_folder: Path) -> None:
    """From here on, files are written as a command line asks for them; the ledger need not be
    one.
    """
    _asked.heard = True
    _asked.register = ledger_folder / REGISTER if ledger_folder.is_dir() else None


def force() -> None:
    """Let files be written over, whoever wrote them."""
    _asked.force = True


def refuse_foreign(path: Path) -> None:
    """Raises RefusedError for a file that is not empty and that no command of this ledger wrote, or
    that was changed since; InputError for one of a ledger.
    """
    if (
        not _asked.heard
        or _asked.force
        or not path.is_file()
        or not path.stat().st_size
        or not is_put_in_place(path)
    ):
        return
    refuse_ledger(Path(os.path.realpath(path)))
    if _digest(path) not in _known().get(os.path.realpath(path), ()):
        raise RefusedError(
            f"{path} is there already, and it is not as this ledger's commands wrote it",
            "name another file, or write over it with --force",
        )


def write_output(path: Path, data: bytes) -> None:
    """Write a file whole, and keep in mind that it is ours. Raises RefusedError, and InputError
    where it cannot be written.
    """
    refuse_foreign(path)
    if not path.exists() or path.is_file():
        _note(path, data)  # before, so that what is killed in between is known
    write_whole(path, data)


def _note(path: Path, data: bytes) -> None:
    register = _asked.register
    if register is None:
        return
    line = _line(os.path.realpath(path), hashlib.sha256(data).hexdigest())
    try:
        if register.is_file() and register.stat().st_size > _LONGEST_REGISTER:
            kept = (
                _line(p, d)
                for p, digests in _known().items()
                if Path(p).is_file()
                for d in digests[-2:]
            )
            write_whole(register, b"".join(kept))
        with os.fdopen(
            os.open(register, os.O_WRONLY | os.O_APPEND | os.O_CREAT, 0o600), "ab"
        ) as file:
            file.write(line)
    except OSError as error:
        # Of a ledger that is only read, --force is asked for the next time.
        if error.errno not in {errno.EACCES, errno.EPERM, errno.EROFS}:
            raise


def _line(path: str, digest: str) -> bytes:
    return json.dumps({"path": path, "sha256": digest}).encode() + b"\n"


def _known() -> dict[str, list[str]]:
    """Path → digests of what was written there, the newest last. Lines that a cut-off write left
    are passed over.
    """
    found: dict[str, list[str]] = {}
    if _asked.register is not None:
        with suppress(OSError):
            for line in _asked.register.read_bytes().splitlines():
                with suppress(ValueError, KeyError, TypeError):
                    row = json.loads(line)
                    found.setdefault(str(row["path"]), []).append(str(row["sha256"]))
    return found


def _digest(path: Path) -> str:
    with path.open("rb") as file:
        return hashlib.file_digest(file, "sha256").hexdigest()
