"""Rehearsing: old URL lists and logs through the rule set, without any server."""

from __future__ import annotations

from collections.abc import Sequence
from functools import cached_property
from typing import TYPE_CHECKING

from upright_ledger.app.move_state import MoveState
from upright_ledger.app.prove.request_files import coming_requests
from upright_ledger.app.prove.results import Results
from upright_ledger.app.request_list import Requests, own_requests
from upright_ledger.core.inventory.answer import AnswerKind, Expected
from upright_ledger.core.inventory.entry import Entry
from upright_ledger.core.rules.target_pages import Pages
from upright_ledger.core.tracing.rehearsal import Rehearsal, Rehearsed
from upright_ledger.core.tracing.results import TraceTable
from upright_ledger.core.tracing.run_kind import RunKind
from upright_ledger.core.url.address import address_of
from upright_ledger.formats.records import FEW, ReadOptions
from upright_ledger.ledger.tables.runs.runs import begin_run, finish_run, name_run
from upright_ledger.ledger.tables.runs.trace_blocks import add_traces

if TYPE_CHECKING:
    from upright_ledger.core.tracing.request_columns import RequestColumns

_NOTHING = (Expected(kind=AnswerKind.OPEN), 0.0)


def rehearse(
    move: MoveState,
    paths: list[str],
    options: ReadOptions | None = None,
    *,
    name: str = "",
) -> Results:
    """Trace every distinct request of the files (without any, of the ledger's entries) through the
    rules, and keep the run.

    name: what the run is called.
    """
    asked, rows = Requests(), TraceTable()
    if paths:
        coming = coming_requests(asked, move, paths, options)
    else:
        asked = own_requests(move)
        coming = iter((len(asked),))
    asking: _Asking | None = None
    for known in coming:
        asking = asking or _Asking(move)
        done = len(rows.outcomes)
        found = asking.ask(asked.urls[done:known], asked.entries(move, done))
        rows.locations += found.locations
        rows.outcomes += found.outcomes
    rows.urls, rows.hits = asked.urls, asked.hits
    results = Results(RunKind.REHEARSE, rows, name=name, asked=asked)
    with move.ledger.writing() as connection:
        results.run = begin_run(connection, RunKind.REHEARSE, move.compiled.rules.digest, "")
        add_traces(connection, results.run, rows)
        finish_run(connection, results.run, results.counts)
        if name:
            name_run(connection, results.run, name)
    return results


class _Asking:
    """Asks many requests as columns, and few one by one, which loads nothing that has columns."""

    def __init__(self, move: MoveState) -> None:
        self._rehearsal = _rehearsal(move)

    @cached_property
    def _columns(self) -> RequestColumns[Entry]:
        from upright_ledger.core.tracing.request_columns import RequestColumns

        return RequestColumns(self._rehearsal)

    def ask(self, urls: Sequence[str], entries: Sequence[Entry | None]) -> Rehearsed:
        """See `Rehearsal.ask`."""
        asked = self._rehearsal if len(urls) <= FEW else self._columns
        return asked.ask(urls, entries)


def _rehearsal(move: MoveState) -> Rehearsal[Entry]:
    """The rules of a book, ready to be asked."""
    # A page that is planned still is there once the rules are.
    pages = Pages({key: p._replace(planned=False) for key, p in move.pages.items()}, move.sites)

    # Where sites settle a form, an entry's own address decides what is due; and a page that is
    # kept stays where it is asked for.
    alike = not move.around.forms
    settled: dict[int, tuple[Expected, float]] = {}

    def due(entry: Entry | None, url: str) -> tuple[Expected, float]:
        if entry is None:
            return _NOTHING
        known = settled.get(entry.id)
        if known is not None:
            return known
        if alike and entry.answer.kind != AnswerKind.KEEP:
            found = settled[entry.id] = (move.expected.of_all(entry), entry.evidence.value)
            return found
        return move.expected.of_entry(entry, address_of(url)), entry.evidence.value

    return Rehearsal(move.compiled.all_rules, move.sites, pages, move.homes, move.policy, due)
