"""upright rehearse"""

from __future__ import annotations

from pathlib import Path

import click

from upright_ledger.app.move_state import MoveState
from upright_ledger.app.prove.coverage import coverage
from upright_ledger.app.prove.rehearse import rehearse
from upright_ledger.cli.opening import open_ledger
from upright_ledger.cli.options.reading import reading_options
from upright_ledger.cli.options.runs import RunView, view_options
from upright_ledger.cli.options.shared import by_option, json_option, optional_paths_argument
from upright_ledger.cli.options.workers import on_option, workers
from upright_ledger.cli.screens.results import show_coverage, show_results
from upright_ledger.cli.terminal import output
from upright_ledger.formats.records import ReadOptions


@click.command("rehearse")
@optional_paths_argument
@reading_options
@click.option("--as", "name", default="", metavar="NAME", help="Call this run so, for comparing.")
@on_option
@by_option
@view_options
@json_option
@click.pass_obj
def command(
    folder: Path,
    paths: tuple[str, ...],
    reading: ReadOptions,
    name: str,
    scheduler: str | None,
    by: str | None,
    view: RunView,
    as_json: bool,
) -> None:
    """Send old URL lists and logs through the rules, without any server.

    Every distinct request is asked once and weighted by its hits; without files, all entries of the
    ledger are. Exit code 1 when anything is not ok.
    """
    ledger = open_ledger(folder)
    move = MoveState(ledger)
    with workers(ledger.settings, scheduler) as on:
        results = rehearse(move, list(paths), reading, name=name, on=on)
    view.write(results, quiet=as_json)
    covered = coverage(results, move, by) if by else []
    if as_json:
        told = {"coverage": [c.as_dict() for c in covered]} if by else {}
        output.json_out(results.as_dict() | told)
    else:
        show_results(results, ledger.settings.sites, all_rows=view.all_rows, hops=view.with_hops)
        if by:
            show_coverage(covered, by)
        output.next_step(
            "ask a real server with these rules",
            "upright replay old-urls.txt --at http://127.0.0.1:8080",
        )
    raise click.exceptions.Exit(1 if results.faults else 0)
