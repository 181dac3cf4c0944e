"""upright review"""

from __future__ import annotations

import sys
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

import click

from upright_ledger.app.decide.review_queue import Queue
from upright_ledger.cli.opening import open_ledger
from upright_ledger.cli.options.output_files import FILE, force_option
from upright_ledger.cli.options.shared import choice_of, json_option
from upright_ledger.cli.screens.review import Screen
from upright_ledger.cli.screens.second_looks import show_second_looks
from upright_ledger.cli.terminal import output
from upright_ledger.core.inventory.answer import ANSWERS
from upright_ledger.errors import UsageError
from upright_ledger.ledger.lines.listing import Filters
from upright_ledger.ledger.store import Ledger

if TYPE_CHECKING:
    from upright_ledger.app.decide.sheets.review_sheet import Reviewed, ReviewedAnswer

SHOWN = 8


@click.command("review")
@click.option(
    "--out",
    type=FILE,
    metavar="FILE",
    help="Write a sheet to review: .xlsx or .csv.",
)
@click.option(
    "--in",
    "sheet",
    type=click.Path(path_type=Path),
    metavar="FILE",
    help="Read a reviewed sheet back.",
)
@click.option("--dry-run", is_flag=True, help="With --in: only show what it would change.")
@click.option(
    "--answer",
    type=choice_of(ANSWERS),
    help="With --out: only entries with this answer, such as open.",
)
@click.option("--section", default=None, help="Only entries of this section; '' for those of none.")
@click.option("--family", default="", help="Only entries of this family, by its template.")
@click.option("--site", default="", help="Only entries of this old site.")
@click.option(
    "--sample",
    type=click.IntRange(1),
    metavar="N",
    help="With --out: N accepted proposals by chance, to see whether they are right.",
)
@click.option(
    "--as-given",
    is_flag=True,
    help="With --in: keep destinations that are no pages in stock; else they are not posted.",
)
@click.option(
    "--weak",
    is_flag=True,
    help="In place of the open entries: those that nobody needs, to be kept, merged into the "
    "strongest page of their subject, or ended.",
)
@click.option("--reason", default="", help="With --in: why, for the journal.")
@force_option
@json_option
@click.pass_obj
def command(
    folder: Path, out: Path | None, sheet: Path | None, dry_run: bool, answer: str | None,
    section: str | None, family: str, site: str,
    sample: int | None, as_given: bool, weak: bool,
    reason: str, as_json: bool,
) -> None:  # fmt: skip
    """Review the open entries: one by one in a terminal, or in a sheet.

    \b
    upright review
    upright review --section journal
    upright review --family '/journal/{year}/{slug}.html'
    upright review --out sheet.xlsx --answer open
    upright review --in sheet.xlsx --dry-run
    upright review --in sheet.xlsx
    upright review --weak

    In the terminal each entry is a screen with its evidence, the candidates and why they fit, the
    most valuable first; one key decides, and it is in the ledger at once. Leave at any time; it
    goes on where you stopped, skipped ones last.

    In the sheet one row is one entry. Put move, temporary, gone, keep, wanted or ignore into its
    answer, and change the destination where another page is right. Rows that you leave alone change
    nothing. What the sheet changes is posted as one undoable step; rows whose entry was answered by
    somebody else meanwhile are left out and named.
    """
    chosen = Filters(site=site, section=section, family=family or None)
    if weak and (out is not None or sheet is not None):
        raise UsageError(
            "--weak goes through them in a terminal",
            "upright entries --weak --csv weak.csv writes a sheet of them",
        )
    if out is not None and sheet is not None:
        raise UsageError("--out and --in contradict each other", "give one of them")
    if out is not None:
        chosen = replace(chosen, answer=answer or "")
        _write(open_ledger(folder), out, chosen, sample or 0, as_json=as_json)
        return
    if sheet is None:
        _walk(folder, chosen, weak=weak, as_json=as_json)
        return
    # Sheets bring all formats with them, which the next card need not wait for.
    from upright_ledger.app.decide.sheets.review_sheet import read_sheet

    result = read_sheet(
        open_ledger(folder), sheet, dry_run=dry_run, as_given=as_given, reason=reason
    )
    if as_json:
        _as_json(result)
    else:
        _show(result, sheet.name, dry_run=dry_run)
    raise click.exceptions.Exit(1 if result.refused or result.conflicts or result.astray else 0)


def _write(ledger: Ledger, out: Path, chosen: Filters, sample: int, *, as_json: bool) -> None:
    from upright_ledger.app.decide.sheets.review_sheet import write_sheet

    count = write_sheet(ledger, out, chosen, sample)
    if as_json:
        output.json_out({"file": str(out), "entries": count})
        return
    output.say(f"{out.name}: {output.plural(count, 'entry', 'entries')}, the most valuable first.")
    output.next_step(
        "fill in the column answer, then see what it would change",
        f"upright review --in {out.name} --dry-run",
    )


def _walk(folder: Path, filters: Filters, *, weak: bool, as_json: bool) -> None:
    if as_json or not (sys.stdin.isatty() and sys.stdout.isatty()):
        raise UsageError(
            "the review one by one needs a terminal",
            "upright entries --weak --csv weak.csv writes a sheet instead"
            if weak
            else "upright review --out sheet.xlsx writes a sheet instead",
        )
    ledger = open_ledger(folder)
    queue = _weak_queue(ledger, filters) if weak else Queue(ledger, filters)
    if queue.open:
        Screen(queue).run()
    output.say(
        f"{output.plural(queue.answered, 'entry was', 'entries were')} answered; "
        f"{queue.open:,} of those chosen are {'left' if weak else 'open'}."
    )
    if queue.with_others:
        some = output.plural(len(queue.with_others), "entry is", "entries are")
        output.say(f"{some} on somebody else's screen at the moment.")
    output.next_step("look for faults", "upright check")


def _weak_queue(ledger: Ledger, filters: Filters) -> Queue:
    from upright_ledger.app.decide.weak_entries import weak_entries
    from upright_ledger.app.decide.weak_queue import WeakQueue
    from upright_ledger.app.move_state import MoveState

    return WeakQueue(ledger, filters, weak_entries(MoveState(ledger)))


def _show(result: Reviewed, name: str, *, dry_run: bool) -> None:
    verb = "would be posted" if dry_run else "posted"
    output.say(f"{name}: {output.plural(len(result.changes), 'answer')} {verb}.")
    for count, text in (
        (len(result.added), "for entries that were open"),
        (len(result.changed), "in place of another answer"),
        (len(result.reopened), "taken back: open again"),
        (len(result.confirmed), "of a sample, found right"),
        (
            result.typed,
            "taken as move, for a destination was typed where the answer still said open",
        ),
        (result.unchanged, "rows change nothing"),
        (
            len(result.conflicts),
            "rows left out: their entry was answered since the sheet was written",
        ),
        (
            result.astray,
            "rows left out: their destination is no page in stock; --as-given keeps it",
        ),
        (len(result.refused), "rows cannot be used"),
    ):
        if count:
            output.say(f"  {count:>7,}  {text}")
    show_second_looks(result.looks)
    for row, url, why in [*result.conflicts, *result.refused][:SHOWN]:
        output.say(f"  row {row:,}: {why}: {url[:100]}", output.DOUBTFUL)
    more = len(result.conflicts) + len(result.refused) - SHOWN
    if more > 0:
        output.say(f"  and {more:,} more; --json lists all")
    if dry_run and result.changes:
        output.say()
        output.table(
            ("answer", "entry"), [(c.answer.kind, _lines(c)) for c in result.changes[:SHOWN]]
        )
        output.next_step("post them", f"upright review --in {name}")
    else:
        output.next_step("look for faults", "upright check")


def _lines(change: ReviewedAnswer) -> list[str]:
    goal = [f"to  {change.answer.destination}"] if change.answer.destination else []
    return [change.entry.legacy_url, *goal]


def _as_json(result: Reviewed) -> None:
    def listed(changes: list[ReviewedAnswer]) -> list[dict[str, object]]:
        return [
            {
                "row": c.row,
                "legacy_url": c.entry.legacy_url,
                "before": c.entry.answer.kind,
                "answer": c.answer.kind,
                "status": c.answer.status,
                "destination": c.answer.destination,
            }
            for c in changes
        ]

    output.json_out(
        {
            "posted": result.posted,
            "rows": result.rows,
            "unchanged": result.unchanged,
            "typed": result.typed,
            "astray": result.astray,
            **result.looks.as_dict(),
            "added": listed(result.added),
            "changed": listed(result.changed),
            "reopened": listed(result.reopened),
            "confirmed": listed(result.confirmed),
            "conflicts": [
                {"row": row, "legacy_url": url, "reason": why} for row, url, why in result.conflicts
            ],
            "refused": [
                {"row": row, "legacy_url": url, "reason": why} for row, url, why in result.refused
            ],
        }
    )
