"""upright triage"""

from __future__ import annotations

import os
import sys
from pathlib import Path

import click

from upright_ledger.app.collect.gather import gather
from upright_ledger.app.collect.reading.error_lists import ErrorList
from upright_ledger.app.decide.match import match
from upright_ledger.app.live.triage import triage
from upright_ledger.app.live.triage_export import write_triage
from upright_ledger.app.live.watch import watch
from upright_ledger.app.move_state import MoveState
from upright_ledger.app.prove.replay import replay
from upright_ledger.app.prove.replay_request import RunRequest
from upright_ledger.app.prove.tracing import start_tracing
from upright_ledger.cli.opening import open_ledger
from upright_ledger.cli.options.http import LOGIN, POLITE_RATE, read_place
from upright_ledger.cli.options.output_files import FILE, force_option
from upright_ledger.cli.options.reading import reading_options
from upright_ledger.cli.options.shared import json_option
from upright_ledger.cli.options.workers import on_option, workers
from upright_ledger.cli.screens.messages import say_failed, say_news, say_sent
from upright_ledger.cli.screens.triage import show_next_step, show_triage
from upright_ledger.cli.terminal import output
from upright_ledger.core.monitoring.changes import NewsKind
from upright_ledger.core.monitoring.failure_account import FailureState
from upright_ledger.errors import UsageError
from upright_ledger.formats.records import ReadOptions
from upright_ledger.ledger.lines.listing import Filters
from upright_ledger.ledger.store import Ledger
from upright_ledger.web.http.options import RequestOptions, is_local


@click.command("triage")
@click.argument("paths", nargs=-1)
@reading_options
@click.option(
    "--parameter",
    default="",
    metavar="NAME",
    help="In lists of errors: the parameter that holds the failing address.",
)
@click.option(
    "--new",
    "only_new",
    is_flag=True,
    help="For cron: read what is new in growing and rotated logs, and say only what changed.",
)
@click.option(
    "--message",
    type=FILE,
    metavar="FILE.json",
    help="With --new: write what changed there, too.",
)
@click.option(
    "--replay", "sample", type=click.IntRange(0), default=None, metavar="NUMBER",
    help="With --new: ask for so many entries whose answer is live, too; 0 for all.",
)  # fmt: skip
@click.option(
    "--at",
    default="",
    metavar="URL",
    help="With --replay: ask there in place of the hosts themselves.",
)
@click.option(
    "--review",
    is_flag=True,
    help="Afterwards go through the failing entries that are open, one by one.",
)
@click.option(
    "--out",
    type=FILE,
    metavar="FILE",
    help="Keep one row a failing entry: .csv, .xlsx or .jsonl.",
)
@click.option(
    "--figures",
    type=click.Path(path_type=Path, file_okay=False),
    metavar="DIR",
    help="Draw what failed day by day, as PNG and SVG.",
)
@click.option("--all", "all_rows", is_flag=True, help="List everything.")
@on_option
@force_option
@json_option
@click.pass_obj
def command(
    folder: Path,
    paths: tuple[str, ...],
    reading: ReadOptions,
    parameter: str,
    only_new: bool,
    message: Path | None,
    sample: int | None,
    at: str,
    review: bool,
    out: Path | None,
    figures: Path | None,
    all_rows: bool,
    scheduler: str | None,
    as_json: bool,
) -> None:
    """Say what fails now, grouped and attributed, and what became of what was answered.

    \b
    upright triage access.log access.log.1.gz
    upright triage not-found.csv --parameter page
    upright triage --new /var/log/nginx/access.log

    Logs are gathered first, each line once; tables are taken as lists of addresses that fail.
    Without files it looks at all that was gathered. Requests of before the time at which an answer
    went live (upright handover --live) do not count against it. Exit code 1 when something fails
    that is not answered, or fails again.
    """
    ledger = open_ledger(folder)
    if (message is not None or sample is not None) and not only_new:
        raise UsageError("--message and --replay go with --new", "--out keeps every failing entry")
    if only_new:
        _watch(ledger, paths, reading, message, sample, at, as_json=as_json)
        return
    if paths:
        with (
            output.progress_words("reading") as progress,
            workers(ledger.settings, scheduler) as on,
        ):
            errors = ErrorList(parameter)
            found = gather(ledger, list(paths), reading, progress=progress, errors=errors, on=on)
        output.say_pruned(found.pruned)
    move = MoveState(ledger)
    result = triage(move)
    if (
        paths
        and move.stock
        and any(r.account.state == FailureState.NEW and r.proposal is None for r in result.rows)
    ):
        match(ledger, threshold=1.01, answering=False)
        result = triage(MoveState(ledger))
    if out is not None:
        write_triage(result, out)
    if figures is not None:
        from upright_ledger.app.live.charts import draw

        draw(result, figures)
    if as_json:
        output.json_out(result.as_dict())
    else:
        show_triage(result, [o for site in move.sites.old for o in site.origins], all_rows=all_rows)
        if out is not None:
            output.say(f"Every failing entry is in {out}.")
        if figures is not None:
            output.say(f"The figures are in {figures}.")
        show_next_step(result)
    if review:
        _review(
            folder,
            frozenset(r.entry.id for r in result.rows if r.account.state == FailureState.NEW),
        )
    raise click.exceptions.Exit(1 if result.faults else 0)


def _watch(
    ledger: Ledger,
    paths: tuple[str, ...],
    reading: ReadOptions,
    message: Path | None,
    sample: int | None,
    at: str,
    *,
    as_json: bool,
) -> None:
    """One look for cron: quiet where nothing changed."""
    if not paths:
        raise UsageError(
            "--new needs the logs to follow",
            "such as upright triage --new /var/log/nginx/access.log",
        )
    if sample is None:
        found = watch(ledger, paths, reading, file=message)
    else:
        place = read_place(at) if at else None
        manner = RequestOptions(
            rate=0.0 if place is not None and is_local(place.host) else POLITE_RATE,
            netrc=True,
            user=os.environ.get(LOGIN, ""),
        )
        with start_tracing(manner) as tracing:
            found = watch(
                ledger, paths, reading, file=message, sample=sample,
                ask=lambda move, wanted: replay(
                    move, wanted, RunRequest(place, manner), tracing
                ),
            )  # fmt: skip
    if as_json:
        output.json_out(found.as_dict())
    elif not found.is_quiet:
        read = sum(n.bytes for n in found.read)
        say_news(found.news, f"{read:,} new bytes in {len(found.read):,} logs.")
        say_sent(found.delivered)
    for log in found.read:
        if log.lost:
            click.echo(f"upright: {log.name}: {log.lost}.", err=True)
    failing = any(n.kind != NewsKind.MENDED for n in found.news)
    raise click.exceptions.Exit(say_failed(found.delivered) or int(failing))


def _review(folder: Path, waiting: frozenset[int]) -> None:
    from upright_ledger.app.decide.review_queue import Queue
    from upright_ledger.cli.screens.review import Screen

    if not (sys.stdin.isatty() and sys.stdout.isatty()):
        raise UsageError(
            "--review needs a terminal", "upright review --out sheet.xlsx writes a sheet instead"
        )
    queue = Queue(open_ledger(folder), Filters(numbers=waiting))
    if queue.open:
        Screen(queue).run()
    output.say(f"{output.plural(queue.answered, 'entry was', 'entries were')} answered.")
