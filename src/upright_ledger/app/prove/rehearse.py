"""Rehearsing: old URL lists and logs through the rule set, without any server."""

from __future__ import annotations

from collections import deque
from collections.abc import Iterator, Sequence
from functools import cached_property
from typing import TYPE_CHECKING, Any, NamedTuple

from upright_ledger.app.move_state import MoveState
from upright_ledger.app.prove.request_files import coming_requests
from upright_ledger.app.prove.results import Results
from upright_ledger.app.request_list import Requests, own_requests
from upright_ledger.core.inventory.answer import AnswerKind, Expected
from upright_ledger.core.inventory.entry import Entry
from upright_ledger.core.rules.target_pages import Pages
from upright_ledger.core.tracing.redirect_ends import RedirectEnds
from upright_ledger.core.tracing.rehearsal import Rehearsal, Rehearsed
from upright_ledger.core.tracing.results import TraceTable
from upright_ledger.core.tracing.run_kind import RunKind
from upright_ledger.core.url.address import address_of
from upright_ledger.formats.records import FEW, ReadOptions
from upright_ledger.ledger.tables.runs.runs import begin_run, finish_run, name_run
from upright_ledger.ledger.tables.runs.trace_blocks import add_traces
from upright_ledger.web.cluster import Cluster

if TYPE_CHECKING:
    from upright_ledger.core.tracing.answer_columns import AnswerColumns, Answers
    from upright_ledger.core.tracing.request_columns import RequestColumns

_NOTHING = (Expected(kind=AnswerKind.OPEN), 0.0)


def rehearse(
    move: MoveState,
    paths: list[str],
    options: ReadOptions | None = None,
    *,
    name: str = "",
    on: Cluster | None = None,
) -> Results:
    """Trace every distinct request of the files (without any, of the ledger's entries) through the
    rules, and keep the run.

    name: what the run is called. on: workers that ask the rules.
    """
    asked, rows = Requests(), TraceTable()
    if paths:
        coming = coming_requests(asked, move, paths, options)
    else:
        asked = own_requests(move)
        coming = iter((len(asked),))
    asking: _Asking | None = None
    begun = 0
    for known in coming:
        asking = asking or (_Asking(move) if on is None else _AskingWorkers(move, on))
        for found in asking.ask(asked.urls[begun:known], asked.entries(move, begun)):
            _add(rows, found)
        begun = known
    for found in asking.rest() if asking is not None else ():
        _add(rows, found)
    rows.urls, rows.hits = asked.urls, asked.hits
    results = Results(RunKind.REHEARSE, rows, name=name, asked=asked)
    with move.ledger.writing() as connection:
        results.run = begin_run(connection, RunKind.REHEARSE, move.compiled.rules.digest, "")
        add_traces(connection, results.run, rows)
        finish_run(connection, results.run, results.counts)
        if name:
            name_run(connection, results.run, name)
    return results


def _add(rows: TraceTable, found: Rehearsed) -> None:
    rows.locations += found.locations
    rows.outcomes += found.outcomes


class _Waiting(NamedTuple):
    """Requests that workers were asked to answer."""

    urls: Sequence[str]
    entries: Sequence[Entry | None]
    task: Any


class _Asking:
    """Asks many requests as columns, and few one by one, which loads nothing that has columns."""

    def __init__(self, move: MoveState) -> None:
        self._rehearsal = _rehearsal(move)

    @cached_property
    def _rules(self) -> AnswerColumns:
        from upright_ledger.core.tracing.answer_columns import AnswerColumns

        return AnswerColumns(self._rehearsal.ends)

    @cached_property
    def _columns(self) -> RequestColumns[Entry]:
        from upright_ledger.core.tracing.request_columns import RequestColumns

        return RequestColumns(self._rehearsal)

    def ask(self, urls: Sequence[str], entries: Sequence[Entry | None]) -> Iterator[Rehearsed]:
        """See `Rehearsal.ask`; yields what is answered by now, of earlier requests it may be."""
        if len(urls) <= FEW:
            yield self._rehearsal.ask(urls, entries)
        else:
            yield self._columns.judge(urls, entries, self._rules.ask(urls))

    def rest(self) -> Iterator[Rehearsed]:
        """What is not answered yet."""
        return iter(())


class _AskingWorkers(_Asking):
    """Has workers ask the rules, which each is sent once."""

    def __init__(self, move: MoveState, on: Cluster) -> None:
        super().__init__(move)
        self._on = on
        self._sent = on.send(self._rules)
        self._waiting: deque[_Waiting] = deque()

    def ask(self, urls: Sequence[str], entries: Sequence[Entry | None]) -> Iterator[Rehearsed]:
        """See `_Asking`."""
        for start in range(0, len(urls), _PART):
            part = slice(start, start + _PART)
            task = self._on.begin(_answers, self._sent, urls[part])
            self._waiting.append(_Waiting(urls[part], entries[part], task))
            if len(self._waiting) > _AHEAD * max(1, self._on.workers):
                yield self._answered()

    def rest(self) -> Iterator[Rehearsed]:
        """See `_Asking`."""
        while self._waiting:
            yield self._answered()

    def _answered(self) -> Rehearsed:
        urls, entries, task = self._waiting.popleft()
        (answers,) = self._on.results([task])
        return self._columns.judge(urls, entries, answers)


_PART = 20_000  # requests that a worker answers together
_AHEAD = 3  # such parts a worker


def _answers(rules: AnswerColumns, urls: Sequence[str]) -> Answers:
    return rules.ask(urls)


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

    ends = RedirectEnds(move.compiled.all_rules, move.sites, pages)
    return Rehearsal(ends, move.homes, move.policy, due)
