"""upright balance"""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

import click

from upright_ledger.app.begin.next_step import next_step
from upright_ledger.app.decide.balance import balance
from upright_ledger.app.waves import wave_lines
from upright_ledger.cli.opening import open_ledger
from upright_ledger.cli.options.shared import json_option
from upright_ledger.cli.terminal import output
from upright_ledger.core.inventory.answer import AnswerKind
from upright_ledger.core.inventory.entry import Entry
from upright_ledger.core.monitoring.deploy_days import to_the_minute
from upright_ledger.ledger.tables.answers import DatedAnswer

SHOWN_SOURCES = 12
SHOWN_WAITING = 10


@click.command("balance")
@json_option
@click.pass_obj
def command(folder: Path, as_json: bool) -> None:
    """What is answered and what is open, by entries, by hits and by value, and where the entries
    came from.

    Hits are requests by people. Value is what an entry is worth in visits per 30 days;
    docs/value.md has the formula.
    """
    ledger = open_ledger(folder)
    result, following, waves = balance(ledger), next_step(ledger), wave_lines(ledger)
    origins = ledger.settings.sites.old[0].origins[:1]
    if as_json:
        output.json_out(
            result.as_dict()
            | {"waves": [w.as_dict() for w in waves]}
            | {"next": {"why": following.why, "command": following.command}}
        )
        return
    total = result.entries
    rows: list[tuple[object, ...]] = [
        (x.answer, x.entries, _share(x.entries, total), x.hits, round(x.value))
        for x in result.lines
        if x.entries or x.answer == AnswerKind.OPEN
    ]
    hits, value = sum(x.hits for x in result.lines), sum(x.value for x in result.lines)
    rows.append(("all", total, _share(total, total), hits, round(value)))
    output.table(("answer", "entries>", "share>", "hits>", "value>"), rows)
    if waves:
        output.say()
        output.table(
            ("wave", "sections", "entries>", "open>", "open hits>", "open value>", "live since|"),
            [
                (
                    w.name,
                    ", ".join(w.sections),
                    w.entries,
                    w.open,
                    w.hits,
                    round(w.value),
                    to_the_minute(w.live_from) or "not live",
                )
                for w in waves
            ],
        )
    if result.sources:
        output.say()
        output.table(
            ("source", "kind|", "lines>", "entries>", "alone>", "days"),
            [
                (
                    s.name,
                    s.kind,
                    s.lines,
                    s.entries,
                    s.alone,
                    " to ".join(s.period) if any(s.period) else "",
                )
                for s in result.sources[-SHOWN_SOURCES:]
            ],
        )
        if len(result.sources) > SHOWN_SOURCES:
            output.say(
                f"… and {len(result.sources) - SHOWN_SOURCES:,} earlier sources (--json shows all)"
            )
    if result.top_open:
        output.say()
        output.table(
            ("open entries worth most", "hits>", "links>", "value>"),
            [
                (
                    output.path(e.legacy_url, origins),
                    e.evidence.hits,
                    e.evidence.links,
                    e.evidence.value,
                )
                for e in result.top_open
            ],
        )
    if result.waiting:
        output.say()
        output.table(
            ("entries that wait for a page", "answer|", "value>"),
            [
                (
                    output.path(e.legacy_url, origins),
                    _waits(e),
                    e.evidence.value,
                )
                for e in result.waiting[:SHOWN_WAITING]
            ],
        )
        if len(result.waiting) > SHOWN_WAITING:
            output.say(f"… and {len(result.waiting) - SHOWN_WAITING:,} more (--json shows all)")
    _show_dated(result.dated, origins)
    output.next_step(following.why, following.command)


def _show_dated(dated: Sequence[DatedAnswer], origins: tuple[str, ...]) -> None:
    """Answers whose day has come, and how many more have one."""
    due = [d for d in dated if d.is_due]
    if due:
        output.say()
        output.table(
            ("answers to look at again", "answer|", "since|"),
            [
                (output.path(d.legacy_url, origins), d.answer.kind, d.day)
                for d in due[:SHOWN_WAITING]
            ],
        )
        if len(due) > SHOWN_WAITING:
            output.say(f"… and {len(due) - SHOWN_WAITING:,} more (--json shows all)")
    if later := dated[len(due) :]:
        told = output.plural(len(later), "answer")
        output.say(f"{told} to look at again later, the next on {later[0].day}.")


def _waits(entry: Entry) -> str:
    return (
        "wanted: to be written"
        if entry.answer.kind == AnswerKind.WANTED
        else "move: to be published"
    )


def _share(part: float, whole: float) -> str:
    return f"{100 * part / whole:.1f} %" if whole else "–"
