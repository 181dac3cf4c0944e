"""Putting a whole folder in the place of another one at once, so that nobody ever sees, or keeps,
the files of two builds.
"""

from __future__ import annotations

import ctypes
import errno
import os
import shutil
import tempfile
from collections.abc import Callable, Mapping
from contextlib import suppress
from pathlib import Path

from upright_ledger.errors import InputError
from upright_ledger.formats.files.atomic import umask, write_whole
from upright_ledger.formats.files.leftovers import clear, hidden_mark

_EXCHANGE = 2  # RENAME_EXCHANGE of renameat2(2)
_HERE = -100  # AT_FDCWD


def put_folder(
    folder: Path, files: Mapping[str, bytes], gone: frozenset[str] = frozenset()
) -> None:
    """Make a folder hold these files (path within it → content), in one switch; all else that is in
    it stays, but for what is to be gone.

    Where a folder cannot be switched (it holds a ledger or the folder one works in, is a mount, or
    lies in one that cannot be written), file after file is put in its place, the last ones last.
    Raises InputError.
    """
    real = Path(os.path.realpath(folder))
    try:
        real.parent.mkdir(parents=True, exist_ok=True)
        clear(real.parent)
        stage = _new_stage(real)
        if stage is None:
            _one_by_one(real, files, gone)
            return
        try:
            _fill(stage, real, files, gone)
            if real.exists() and not _exchange(stage, real):
                shutil.rmtree(stage)
                _one_by_one(real, files, gone)
                return
            if not real.exists():
                stage.rename(real)
        finally:
            shutil.rmtree(stage, ignore_errors=True)
    except OSError as error:
        raise InputError(
            f"{folder} cannot be written: {error.strerror or error}",
            "check the folder and its permissions; what was there stands",
        ) from None


def _new_stage(folder: Path) -> Path | None:
    """A folder beside another one in which its new state is laid out; None where that one cannot be
    switched.
    """
    here = Path.cwd()
    if (
        here == folder
        or folder in here.parents
        or (folder / "upright.toml").exists()
        or os.path.ismount(folder)
    ):
        return None
    try:
        return Path(tempfile.mkdtemp(dir=folder.parent, prefix=hidden_mark()))
    except PermissionError:
        return None


def _fill(stage: Path, folder: Path, files: Mapping[str, bytes], gone: frozenset[str]) -> None:
    """Lay out the new state of a folder: what is ours anew, and what is not ours as it is."""
    if folder.exists():
        shutil.copytree(
            folder,
            stage,
            symlinks=True,
            dirs_exist_ok=True,
            copy_function=_linked,
            ignore=_without(folder, {*files, *gone}),
        )
        shutil.copystat(folder, stage)
        present = folder.stat()
        with suppress(PermissionError):
            os.chown(stage, present.st_uid, present.st_gid)
    else:
        stage.chmod(0o777 & ~umask())
    for name, data in files.items():
        before = folder / name
        if before.is_file():
            _like(before, stage / name)
        write_whole(stage / name, data, public=True)


def _like(before: Path, new: Path) -> None:
    """An empty file with the permissions of one that was there."""
    new.parent.mkdir(parents=True, exist_ok=True)
    new.touch()
    shutil.copymode(before, new)


def _linked(source: str, target: str) -> None:
    """A second name for a file; a copy where a file system has no such thing."""
    try:
        os.link(source, target, follow_symlinks=False)
    except OSError:
        shutil.copy2(source, target, follow_symlinks=False)


def _without(folder: Path, names: set[str]) -> Callable[[str, list[str]], list[str]]:
    left = {folder / n for n in names}

    def ignored(here: str, inside: list[str]) -> list[str]:
        return [n for n in inside if Path(here) / n in left]

    return ignored


def _exchange(one: Path, other: Path) -> bool:
    """Let two folders change places in one step; False where this system cannot."""
    libc = ctypes.CDLL(None, use_errno=True)
    if not hasattr(libc, "renameat2"):
        return _by_turns(one, other)
    if libc.renameat2(_HERE, os.fsencode(one), _HERE, os.fsencode(other), _EXCHANGE) == 0:
        return True
    number = ctypes.get_errno()
    if number in {errno.ENOSYS, errno.EINVAL}:
        return _by_turns(one, other)
    if number in {errno.EBUSY, errno.EXDEV, errno.EPERM, errno.EACCES}:
        return False
    raise OSError(number, os.strerror(number))


def _by_turns(one: Path, other: Path) -> bool:
    """The same in three steps: a moment without the folder, from which the next build of that place
    recovers.
    """
    aside = one.with_name(f"{one.name}.aside")
    other.rename(aside)
    one.rename(other)
    aside.rename(one)
    return True


def _one_by_one(folder: Path, files: Mapping[str, bytes], gone: frozenset[str]) -> None:
    for name, data in files.items():
        write_whole(folder / name, data, public=True)
    for name in gone - files.keys():
        (folder / name).unlink(missing_ok=True)
