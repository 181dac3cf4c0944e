"""Watching: triage of what is new, said once, by every channel that the settings name."""

from __future__ import annotations

import random
import re
import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from upright_ledger.app.collect.log_follower import New, gather_new
from upright_ledger.app.live.fix_times import load_fixes
from upright_ledger.app.live.triage import triage
from upright_ledger.app.live.triaged import Failing
from upright_ledger.app.messages import Delivered, as_data, deliver, keep_message
from upright_ledger.app.move_state import MoveState
from upright_ledger.app.prove.results import Results
from upright_ledger.app.request_list import Requests
from upright_ledger.core.inventory.answer import UNANSWERED, AnswerKind
from upright_ledger.core.monitoring.changes import (
    DUE,
    SILENT,
    WRONG,
    Item,
    News,
    is_worth_saying,
    news,
    silences,
)
from upright_ledger.core.monitoring.failure_account import FailureState
from upright_ledger.core.monitoring.traffic_origin import Origin
from upright_ledger.core.tracing.verdicts import Verdict
from upright_ledger.core.url.address import address_of
from upright_ledger.errors import InputError
from upright_ledger.formats.records import ReadOptions
from upright_ledger.ledger.store import Ledger
from upright_ledger.ledger.tables.answers import DatedAnswer, dated_answers
from upright_ledger.ledger.tables.followed_logs import (
    last_reported,
    note_reported,
    note_silent,
    said_to_be_silent,
)


@dataclass
class Watched:
    """What one look amounted to. news: what changed; delivered: what became of the messages."""

    read: list[New]
    news: list[News]
    delivered: Delivered

    @property
    def is_quiet(self) -> bool:
        """Whether nothing changed, and nothing went out."""
        return not self.news and not self.delivered.sent and not self.delivered.failed

    def as_dict(self) -> dict[str, Any]:
        """As data."""
        return {
            "read": [{"name": n.name, "bytes": n.bytes,
                "lines": n.gathered.lines if n.gathered else 0, "lost": n.lost} for n in self.read],
            "news": as_data(self.news),
            **self.delivered.as_dict(),
        }  # fmt: skip


Ask = Callable[[MoveState, Requests], Results]
"""Asks a server for the answered entries of a ledger."""


def watch(
    ledger: Ledger,
    paths: Sequence[str],
    options: ReadOptions | None = None,
    *,
    file: Path | None = None,
    ask: Ask | None = None,
    sample: int = 0,
) -> Watched:
    """Gather what is new in some logs, and say what changed since it was last said. file: where to
    write the message, too. ask: how the entries whose answer is live are asked for, so many of them
    by chance, or all where sample is 0.

    What is to be said is kept with the note that it was, in one transaction, and goes out after it:
    a look that is killed loses no message, and one that was being handed over when it was killed is
    handed over again under the same identity.
    """
    read = gather_new(ledger, paths, options)
    move = MoveState(ledger)
    result = triage(move)
    items = [_item(row) for row in result.rows]
    asked: dict[int, Item | None] = {}
    heard: list[Item] = []
    if ask is not None:
        try:
            asked, heard = _asked(move, ask, sample)
        except InputError as error:  # nothing answers at the place that was named
            heard = [Item(0, move.sites.old[0].origins[0], SILENT, 0.0, str(error))]
    again = {i.entry for i in items if i.state == FailureState.RECURRING}
    wrong = {
        entry: item for entry, item in asked.items() if item is not None and entry not in again
    }
    due = {d.entry: d for d in _due(ledger) if d.entry not in again and d.entry not in wrong}
    items = [
        *(i for i in items if i.entry not in wrong and i.entry not in due),
        *wrong.values(),
        *(
            Item(e, d.legacy_url, DUE, 0.0, f"{d.answer.kind}, since {d.day}")
            for e, d in due.items()
        ),
    ]
    notify = ledger.settings.notify
    with ledger.writing() as connection:
        before = last_reported(connection)
        items = [i for i in items if is_worth_saying(i, before, notify.least)]
        quiet = [*_silent(paths, notify.silent_after), *heard]
        known = said_to_be_silent(connection)
        found = [*silences(quiet, known), *news(items, before)]
        asked_for = {i.url for i in quiet}
        note_silent(
            connection,
            {name for name in known if name not in asked_for}
            | {i.url for i in quiet if i.state == SILENT},
        )
        if found:
            lines = sum(n.gathered.lines for n in read if n.gathered)
            told = f"{lines:,} new lines in {len(read):,} logs." if lines else "No new lines."
            keep_message(connection, ledger, found, told, "upright triage", file)
        still = {e: told for e, told in before.items() if told[0] == WRONG and e not in asked}
        note_reported(connection, still | {i.entry: (i.state, i.lost) for i in items})
    return Watched(read, found, deliver(ledger, file))


def _due(ledger: Ledger) -> list[DatedAnswer]:
    """Answers whose day has come."""
    with ledger.reading() as connection:
        return [d for d in dated_answers(connection) if d.is_due]


def _item(row: Failing) -> Item:
    came = ", ".join(
        f"{c.origin}{f' {c.whence}' if c.whence else ''}"
        for c in row.came[:2]
        if c.origin != Origin.DIRECT
    )
    a = row.account
    return Item(
        row.entry.id, row.entry.legacy_url, a.state, a.lost, row.why,
        f"from {came}" if came else "", row.likely_page,
    )  # fmt: skip


def _silent(paths: Sequence[str], hours: float) -> list[Item]:
    """Logs that were written last before so many hours; those that were rotated are none. Each is
    told, as silent or not.
    """
    found = []
    for path in map(Path, paths):
        if not hours or not path.is_file() or _ROTATED.search(path.name):
            continue
        age = (time.time() - path.stat().st_mtime) / 3600
        state = SILENT if age >= hours else FailureState.DEPLOYED
        why = f"written last {age:,.0f} hours ago" if state == SILENT else ""
        found.append(Item(0, str(path), state, 0.0, why))
    return found


_ROTATED = re.compile(r"\.(?:\d+|gz|bz2|xz|zst|zip)\Z|-\d{6,8}\Z")


def _asked(move: MoveState, ask: Ask, sample: int) -> tuple[dict[int, Item | None], list[Item]]:
    """Ask for entries whose answer is live: entry → what is wrong with its answer now, or None; and
    the site, silent or not.
    """
    fixes = load_fixes(move.ledger)
    live = [
        e
        for e in move.entries
        if e.answer.kind not in {*UNANSWERED, AnswerKind.IGNORE} and fixes.of(e).live
    ]
    if sample and sample < len(live):
        live = random.sample(live, sample)
    if not live:
        return {}, []
    wanted = Requests()
    for entry in live:
        wanted.add(
            address_of(entry.legacy_url).without_fragment,
            entry.site,
            entry.key,
            int(entry.evidence.hits),
        )
    found: dict[int, Item | None] = {}
    rows = ask(move, wanted).rows
    site = move.sites.old[0].origins[0]
    silent = all(row.verdict == Verdict.UNREACHABLE for row in rows)
    state = SILENT if silent else FailureState.DEPLOYED
    why = f"none of {len(live):,} addresses that were asked answers" if silent else ""
    heard = [Item(0, site, state, 0.0, why)]
    if silent:
        return {}, heard
    for entry, row in zip(live, rows, strict=True):
        wrong = Item(entry.id, entry.legacy_url, WRONG, 0.0, f"asked now: {row.verdict}")
        found[entry.id] = wrong if row.verdict not in _FINE else None
    return found, heard


_FINE = frozenset(["ok", "blocked"])  # "blocked" says nothing of the rule
