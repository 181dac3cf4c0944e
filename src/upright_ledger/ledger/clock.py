"""What time it is, and who is at work."""

from __future__ import annotations

import getpass
import os
from datetime import UTC, datetime


def now() -> str:
    """The time in UTC, to the second, in ISO 8601."""
    return datetime.now(UTC).strftime("%Y-%m-%dT%H:%M:%SZ")


def today() -> str:
    """The day in UTC, YYYY-MM-DD."""
    return now()[:10]


def named_author() -> str:
    """Who is at work, as UPRIGHT_AUTHOR says, or empty."""
    return os.environ.get("UPRIGHT_AUTHOR", "").strip()


def author() -> str:
    """Who is at work: UPRIGHT_AUTHOR, or the name this computer knows."""
    if named := named_author():
        return named
    try:
        return getpass.getuser()
    except (OSError, KeyError):
        return "unknown"
