"""Processes of this machine."""

from __future__ import annotations

import os


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
