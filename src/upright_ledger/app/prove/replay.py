"""Replaying: old URLs over HTTP against a staging or live server, every hop recorded."""

from __future__ import annotations

import hashlib
import time
from collections import Counter
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass

from upright_ledger.app.move_state import MoveState
from upright_ledger.app.prove.replay_request import RunRequest
from upright_ledger.app.prove.results import Results
from upright_ledger.app.prove.tracing import Tracing, shares
from upright_ledger.app.request_list import Requests
from upright_ledger.app.worker_process import WorkerDiedError
from upright_ledger.core.inventory.answer import expected_text
from upright_ledger.core.tracing.results import Row, TraceTable
from upright_ledger.core.tracing.root_causes import with_rules
from upright_ledger.core.tracing.run_kind import RunKind
from upright_ledger.core.tracing.trace import Trace
from upright_ledger.core.tracing.verdicts import Verdict, judge
from upright_ledger.core.url.address import address_of
from upright_ledger.errors import InputError, UprightError, UsageError
from upright_ledger.ledger.tables.runs.builds import last_build
from upright_ledger.ledger.tables.runs.runs import (
    begin_run,
    finish_run,
    hold,
    name_run,
    new_owner,
    open_run,
    take_over,
)
from upright_ledger.ledger.tables.runs.trace_blocks import add_traces, load_traces, traced_urls
from upright_ledger.web.http.interrupts import interrupts
from upright_ledger.web.http.tracer import Target

COMMIT_SECONDS = 1.0
HEARD_SECONDS = 20.0
_PATIENCE = 0.1  # seconds

Progress = Callable[[int, int, Counter[str]], None]
"""Called with how many URLs are done, of how many, and their verdicts so far."""


class StoppedError(InputError):
    """The run was stopped before all was asked; what is done is kept. done, total: URLs. by_hand:
    whether a person did it.
    """

    def __init__(self, done: int, total: int, why: str = "") -> None:
        """why: what stopped it, unless a person did."""
        super().__init__(
            f"{done:,} of {total:,} URLs were "
            f"asked{f', and are kept: {why}' if why else ' and are kept'}",
            "`upright replay … --resume`, with the same files and options, goes on where it "
            "stopped",
        )
        self.done, self.total, self.by_hand = done, total, not why


@dataclass
class _Recorder:
    """Judges traces as they end, and keeps them every second."""

    move: MoveState
    run: int
    owner: str
    asked: Requests
    done_before: int
    progress: Progress | None

    def __post_init__(self) -> None:
        self.waiting, self.rows = TraceTable(), TraceTable()
        self.verdicts: Counter[str] = Counter()
        self.saved = time.monotonic()

    def take(self, traces: Iterable[tuple[int, Trace]]) -> None:
        """Take up traces with the numbers of their requests."""
        for number, trace in traces:
            self._take_one(number, trace)
        if self.progress is not None:
            self.progress(self.done_before + self.verdicts.total(), len(self.asked), self.verdicts)
        if time.monotonic() - self.saved >= COMMIT_SECONDS:
            self.save()

    def _take_one(self, number: int, trace: Trace) -> None:
        url = self.asked.urls[number]
        entry = self.move.by_key.get((self.asked.sites[number], self.asked.keys[number]))
        expected = self.asked.expected.get(url) or self.move.expected.of_entry(
            entry, address_of(url)
        )
        verdicts = judge(trace, expected, self.move.homes, self.move.policy)
        if verdicts[0] != Verdict.OK:
            trace = with_rules(trace, self.move.compiled.all_rules)
        value = entry.evidence.value if entry else 0.0
        self.waiting.append(
            Row(trace, self.asked.hits[number], verdicts, expected_text(expected), value)
        )
        self.verdicts[verdicts[0]] += 1

    def be_heard(self) -> None:
        """Say now and then that one is still at it, though nothing comes."""
        if time.monotonic() - self.saved >= HEARD_SECONDS:
            self.save()

    def save(self) -> None:
        """Keep what is done."""
        with self.move.ledger.writing() as connection:
            hold(connection, self.run, self.owner)
            add_traces(connection, self.run, self.waiting)
        self.rows.extend(self.waiting)
        self.waiting = TraceTable()
        self.saved = time.monotonic()


def replay(
    move: MoveState,
    asked: Requests,
    run_of: RunRequest,
    tracing: Tracing,
    progress: Progress | None = None,
) -> Results:
    """Ask for every URL as one run, and keep it.

    tracing: see `start_tracing`. Raises StoppedError where not all was asked: on Ctrl-C, and where
    a process died.
    """
    at, manner, name, label, resume = run_of
    place = Target(move.sites.hosts, at, move.policy.index_set)
    where = f"{at.origin if at else ''} {label}".strip()
    owner = new_owner()
    run, before = _begin(move, where, owner, _digest(asked), resume=resume)
    left = [(n, address_of(url)) for n, url in enumerate(asked.urls) if url not in before]
    recorder = _Recorder(move, run, owner, asked, len(asked) - len(left), progress)
    stopped = False
    error: UprightError | None = None
    tracing.begin(shares(left, place, manner, tracing.processes))
    with interrupts() as interrupted:
        while not tracing.ended:
            if interrupted() and not stopped:
                stopped = True
                tracing.stop()
            try:
                recorder.take(tracing.next(_PATIENCE) or ())
                recorder.be_heard()
            except UprightError as raised:
                error = error or raised
                tracing.stop()
        recorder.save()
    done = recorder.done_before + recorder.verdicts.total()
    if stopped or error or done < len(asked):
        if error is not None and not (done or isinstance(error, WorkerDiedError)):
            raise error  # nothing could be asked at all
        raise StoppedError(done, len(asked), "" if stopped else str(error or "some gave no answer"))
    rows = recorder.rows
    if before:
        with move.ledger.reading() as connection:
            rows = load_traces(connection, run)
    rows = rows.in_order(asked.urls)
    results = Results(RunKind.REPLAY, rows, run, name, where, asked)
    with move.ledger.writing() as connection:
        finish_run(connection, run, results.counts)
        if name:
            name_run(connection, run, name)
    return results


def disagreements(runs: Sequence[Results]) -> list[tuple[str, dict[str, Row]]]:
    """URLs to which several places, or profiles, give different answers: each with its row by the
    name of the run's place.
    """
    rows: dict[str, dict[str, Row]] = {}
    for results in runs:
        for row in results.rows:
            rows.setdefault(row.trace.url, {})[results.at] = row
    told = [
        (url, by) for url, by in rows.items() if len({_first_answer(r) for r in by.values()}) > 1
    ]
    return sorted(told, key=lambda item: (-max(r.value for r in item[1].values()), item[0]))


def _first_answer(row: Row) -> tuple[int, str]:
    return row.trace.first_status, row.trace.first_location


def _begin(
    move: MoveState, where: str, owner: str, digest: str, *, resume: bool
) -> tuple[int, set[str]]:
    """The number of the run, and what it has asked already."""
    with move.ledger.writing() as connection:
        if resume:
            stopped = open_run(connection, RunKind.REPLAY, where)
            if stopped is None:
                raise UsageError(
                    f"no run at {where or 'the hosts themselves'} was stopped",
                    "start one without --resume",
                )
            if stopped.asked not in {"", digest}:
                raise UsageError(
                    f"run {stopped.id} was to ask for other addresses",
                    "resume it with the files and options it had",
                )
            take_over(connection, stopped, owner)
            return stopped.id, traced_urls(connection, stopped.id)
        built = last_build(connection)
        begun = begin_run(
            connection,
            RunKind.REPLAY,
            built.digest if built else "",
            where,
            owner=owner,
            asked=digest,
        )
        return begun, set()


def _digest(asked: Requests) -> str:
    """What tells one list of addresses from another, in whatever order."""
    return hashlib.sha256(
        "\n".join(sorted(asked.urls)).encode("utf-8", "surrogatepass")
    ).hexdigest()
