"""What commands write on the way, so marked that the next one takes away what a dead one left."""

from __future__ import annotations

import os
import re
import shutil
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path

from upright_ledger.processes import lives

_MARK = re.compile(r"\.?upright-([0-9]+)-")
_CLEARED: set[Path] = set()


def hidden_mark() -> str:
    """How a draft begins that lies beside the file it becomes."""
    return f".{_mark()}"


def _mark() -> str:
    return f"upright-{os.getpid()}-"


def clear(folder: Path) -> None:
    """Take away, once a command, what commands of this user that are dead left in a folder."""
    if folder in _CLEARED:
        return
    _CLEARED.add(folder)
    with suppress(OSError):
        for found in [*folder.glob(".upright-[0-9]*-*"), *folder.glob("upright-[0-9]*-*")]:
            mark = _MARK.match(found.name)
            if mark is not None and not lives(int(mark[1])) and _is_ours(found):
                _remove(found)


@contextmanager
def temporary_folder() -> Iterator[Path]:
    """A folder for as long as it is needed."""
    place = _place()
    clear(place)
    with tempfile.TemporaryDirectory(prefix=_mark(), dir=place) as held:
        yield Path(held)


def _place() -> Path:
    """Where temporary folders lie: as `tempfile` has it, which tries it out with a file that bears
    no mark.
    """
    told = [os.environ[name] for name in ("TMPDIR", "TEMP", "TMP") if os.environ.get(name)]
    for text in [*told, "/tmp"]:  # noqa: S108 (a folder of our own is made in it)
        if Path(text).is_dir() and os.access(text, os.W_OK):
            return Path(text).absolute()
    return Path(tempfile.gettempdir())


def _is_ours(path: Path) -> bool:
    return not hasattr(os, "geteuid") or path.lstat().st_uid == os.geteuid()


def _remove(path: Path) -> None:
    if path.is_dir() and not path.is_symlink():
        shutil.rmtree(path, ignore_errors=True)
    else:
        path.unlink(missing_ok=True)
