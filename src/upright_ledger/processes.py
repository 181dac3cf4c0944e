"""Processes of this machine."""

from __future__ import annotations

import os
from pathlib import Path
from typing import IO


def lives(pid: int) -> bool:
    """Whether a process of this number is there; where that cannot be told, it is."""
    if os.name != "posix":
        return True
    try:
        os.kill(pid, 0)
    except ProcessLookupError:
        return False
    except (PermissionError, OverflowError):
        return True
    return True


_locked: list[IO[bytes]] = []


def lock(path: Path) -> bool:
    """Take a file for this process, until it ends; False where another one has it. Where systems
    know no such locks it is always free.
    """
    try:
        import fcntl
    except ImportError:
        return True
    file = path.open("ab")
    try:
        fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except BlockingIOError:
        file.close()
        return False
    _locked.append(file)
    return True
