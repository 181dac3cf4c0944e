"""Handing over: which build went to whom, and which one is live since when."""

from __future__ import annotations

from dataclasses import asdict, dataclass
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

from upright_ledger.core.monitoring.deploy_days import YEARS, to_the_minute
from upright_ledger.errors import UsageError
from upright_ledger.ledger.clock import now
from upright_ledger.ledger.store import Ledger
from upright_ledger.ledger.tables.runs.builds import (
    Build,
    changed_since,
    list_builds,
    live_builds,
    mark_build,
)


@dataclass(frozen=True, slots=True)
class BuildLine:
    """One build in a list. handed_over, live_from: times, or empty. step: the newest one when it
    was made. wave: of which it is, or empty.
    """

    number: int
    time: str
    server: str
    rules: int
    digest: str
    folder: str
    handed_over: str
    live_from: str
    step: int
    wave: str = ""

    @property
    def said(self) -> str:
        """What it is for, and since when it is live, in words."""
        of_wave = f", wave {self.wave}" if self.wave else ""
        since = to_the_minute(self.live_from)
        return f"build {self.number} ({self.server}{of_wave}) is live since {since}"

    def as_dict(self) -> dict[str, Any]:
        """As data."""
        return asdict(self)


def builds(ledger: Ledger) -> list[BuildLine]:
    """All builds, the newest first."""
    with ledger.reading() as connection:
        return [_line(b) for b in list_builds(connection)]


def mark(ledger: Ledger, which: str, *, live: bool, at: str = "") -> BuildLine:
    """Note that a build was handed over, or is live. which: its number or folder, or empty for the
    newest. at: when, as ISO 8601; now where it is empty.
    """
    found = _find(builds(ledger), which)
    time = _read_time(at) if at else now()
    with ledger.writing() as connection:
        mark_build(
            connection,
            found.number,
            handed_over=None if live else time,
            live_from=time if live else None,
        )
        return next(_line(b) for b in list_builds(connection) if b.id == found.number)


def take_off(ledger: Ledger, which: str) -> BuildLine:
    """Note that a build is not live any more, as the one before it was put back. Raises UsageError
    where it never was.
    """
    found = _find(builds(ledger), which)
    if not found.live_from:
        raise UsageError(f"build {found.number} is not live", "upright handover lists them")
    with ledger.writing() as connection:
        mark_build(connection, found.number, live_from="")
    return found


def live_build(ledger: Ledger) -> BuildLine | None:
    """The build that is live now."""
    with ledger.reading() as connection:
        found = live_builds(connection)
    return _line(found[-1]) if found else None


def behind(ledger: Ledger) -> str:
    """In words, how the live build differs from the answers of the ledger; empty where it does not,
    or none is live.
    """
    live = live_build(ledger)
    if live is None:
        return ""
    with ledger.reading() as connection:
        if not changed_since(connection, live.step):
            return ""
        waiting = next(
            (
                b
                for b in map(_line, list_builds(connection))
                if not changed_since(connection, b.step)
            ),
            None,
        )
    if waiting is not None:
        return (
            f"{live.said}, and build {waiting.number} is not: hand it over, and say upright "
            "handover --live when it runs"
        )
    return f"{live.said}, and answers were changed after it: build again"


def _find(known: list[BuildLine], which: str) -> BuildLine:
    if not known:
        raise UsageError("nothing was built yet", "upright build --for nginx --out rules/")
    if not which:
        return known[0]
    number = int(which) if which.isascii() and which.isdigit() and len(which) < 10 else 0
    folder = str(Path(which))
    found = next((b for b in known if b.number == number or str(Path(b.folder)) == folder), None)
    if found is None:
        raise UsageError(f"there is no build {which!r}", "upright handover lists them")
    return found


def _read_time(text: str) -> str:
    try:
        time = datetime.fromisoformat(text)
    except ValueError:
        raise UsageError(
            f"--at {text} is no time", "write it as 2026-05-14T14:30, or with +02:00 behind it"
        ) from None
    if time.year not in YEARS:
        raise UsageError(
            f"--at {text} is no time in which a web server ran",
            f"the year lies from {YEARS[0]} to {YEARS[-1]}",
        )
    there = (time if time.tzinfo else time.astimezone()).astimezone(UTC)
    if there > datetime.now(UTC) + timedelta(hours=1):
        raise UsageError(f"--at {text} is yet to come", "say it when it has happened")
    return there.strftime("%Y-%m-%dT%H:%M:%SZ")


def _line(b: Build) -> BuildLine:
    return BuildLine(
        b.id, b.time, b.dialect, b.rules, b.digest, b.folder, b.handed_over, b.live_from, b.step,
        b.wave,
    )  # fmt: skip
