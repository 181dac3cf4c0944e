"""Runs that were kept: found by number or name, and laid out again."""

from __future__ import annotations

from dataclasses import dataclass

from upright_ledger.app.move_state import MoveState
from upright_ledger.app.prove.results import Results
from upright_ledger.app.request_list import Requests
from upright_ledger.core.tracing.run_kind import RunKind
from upright_ledger.core.url.address import address_of
from upright_ledger.errors import UsageError
from upright_ledger.ledger.store import Ledger
from upright_ledger.ledger.tables.runs.runs import find_run, list_runs, name_run
from upright_ledger.ledger.tables.runs.trace_blocks import load_traces


@dataclass(frozen=True, slots=True)
class RunLine:
    """One run in a list. at: where it was asked, empty for a rehearsal; finished: empty where it
    was stopped.
    """

    number: int
    name: str
    kind: RunKind
    started: str
    finished: str
    at: str
    digest: str
    counts: dict[str, int]


def runs(ledger: Ledger) -> list[RunLine]:
    """All runs, the newest first."""
    with ledger.reading() as connection:
        return [
            RunLine(
                r.id, r.name, r.kind, r.started, r.finished, r.at, r.digest, dict(r.counts or {})
            )
            for r in list_runs(connection)
        ]


def call_run(ledger: Ledger, which: str, name: str) -> None:
    """Give a run a name. Raises UsageError where there is no such run, or the name could be taken
    for a number.
    """
    if name.isdigit() or name == "last" or not name.isprintable():
        raise UsageError(f"{name!r} is no name for a run", "give it a word, such as before-launch")
    with ledger.writing() as connection:
        found = find_run(connection, which)
        if found is None:
            raise UsageError(f"there is no run {which!r}", "upright runs lists them")
        name_run(connection, found.id, name)


def load_run(ledger: Ledger, which: str) -> Results:
    """The results of a run, by its number or name. Raises UsageError where there is none."""
    with ledger.reading() as connection:
        found = find_run(connection, which)
        if found is None:
            raise UsageError(
                f"there is no run {which!r}", "upright runs lists them; --as NAME gives one a name"
            )
        rows = load_traces(connection, found.id)
    return Results(found.kind, rows, run=found.id, name=found.name, at=found.at)


def found_requests(move: MoveState, verdict: str) -> Requests:
    """The URLs that the newest run found so. Raises UsageError where it found none."""
    last = load_run(move.ledger, "last")
    found = Requests()
    for row in (r for r in last.rows if r.verdict == verdict):
        entry = move.entry_of(address_of(row.trace.url))
        found.add(row.trace.url, entry.site if entry else "", entry.key if entry else "", row.hits)
    if not found:
        raise UsageError(
            f"the last run ({last.name or last.run}) found nothing {verdict}",
            "upright runs lists what was found",
        )
    return found
