"""Handing over: which build went to whom, which one is live since when, and whether the server runs
it.
"""

from __future__ import annotations

from dataclasses import asdict, dataclass, field
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

from upright_ledger.app.move_state import MoveState
from upright_ledger.app.prove.builds.build_files import (
    RULE_LIST,
    RuleChange,
    answers_in_words,
    changes,
    digest_in,
    read_list,
)
from upright_ledger.app.prove.builds.deployed_rules import (
    answers_of,
    compared_urls,
    deployed_rules,
    is_rule_file,
)
from upright_ledger.app.prove.results import Results
from upright_ledger.core.monitoring.deploy_days import YEARS, to_the_minute
from upright_ledger.core.url.address import parse_address
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
    was made.
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

    @property
    def said(self) -> str:
        """What it is for, and since when it is live, in words."""
        return f"build {self.number} ({self.server}) is live since {to_the_minute(self.live_from)}"

    def as_dict(self) -> dict[str, Any]:
        """As data."""
        return asdict(self)


@dataclass
class Drift:
    """What a server runs, against the rules of the ledger. which: the build that the file says it
    is of, or None. differing: answers that differ.
    """

    file: Path
    asked: int
    which: BuildLine | None = None
    differing: list[RuleChange] = field(default_factory=list)


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
            handed_over="" if live else time,
            live_from=time if live else "",
        )
        return next(_line(b) for b in list_builds(connection) if b.id == found.number)


def drift(move: MoveState, file: Path) -> Drift:
    """Compare what a server runs with the rules of the ledger, answer by answer. file: of the
    server, or a list of rules.
    """
    text = file.read_text(encoding="utf-8", errors="replace") if file.is_file() else ""
    which = next(
        (b for b in builds(move.ledger) if b.digest in text or b.digest == digest_in(file.parent)),
        None,
    )
    built = Path(which.folder) / file.name if which is not None else file
    as_built = which is not None and built.is_file() and built.read_bytes() == file.read_bytes()
    if is_rule_file(file) and not as_built:
        deployed = deployed_rules(file, move)
        urls = compared_urls(deployed, move)
        running, wanted = answers_of(deployed, urls), answers_of(move.compiled.rules, urls)
    else:  # what is as it was built, to the byte, does what its list says
        running = read_list(built.with_name(RULE_LIST) if as_built else file)
        wanted = answers_in_words(move.compiled.rules)
        urls = sorted(running.keys() | wanted.keys())
    return Drift(file, len(urls), which, changes(running, wanted))


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


def drift_seen(move: MoveState, results: Results) -> str:
    """In words, whether a server that was asked runs something else than the build that is live;
    empty where it does not, or none is live.
    """
    live, late = live_build(move.ledger), behind(move.ledger)
    if live is None or late:
        return late
    asked = otherwise = 0
    for row in results.rows:
        address = parse_address(row.trace.url)
        answer = move.compiled.rules.answer(address.authority, address.target, address.scheme)
        if answer is not None:
            asked += 1
            otherwise += (row.trace.first_status, row.trace.first_location) != (
                answer.status,
                answer.location,
            )
    if not otherwise:
        return ""
    since = to_the_minute(live.live_from)
    return (
        f"{otherwise:,} of {asked:,} addresses are not answered as build {live.number} does, which "
        f"is live since {since}: the server runs another build, "
        "or something answers before its rules"
    )


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
        b.id, b.time, b.dialect, b.rules, b.digest, b.folder, b.handed_over, b.live_from, b.step
    )
