"""upright replay"""

from __future__ import annotations

from pathlib import Path

import click

from upright_ledger.app.book import Book
from upright_ledger.app.replay import replay
from upright_ledger.cli import show
from upright_ledger.cli.common import json_option, paths_argument, read_options, reading_options
from upright_ledger.cli.results import show_results
from upright_ledger.ledger.store import open_ledger


@click.command("replay")
@paths_argument
@reading_options
@click.option("--at", required=True, metavar="URL", help="The server to ask in place of the production hosts.")
@click.option("--out", type=click.Path(path_type=Path, dir_okay=False), metavar="FILE.csv", help="Keep one row a URL.")
@click.option("--all", "all_rows", is_flag=True, help="List every URL that is not ok.")
@json_option
@click.pass_obj
def command(
    folder: Path,
    paths: tuple[str, ...],
    kind: str,
    columns: tuple[str, ...],
    encoding: str,
    host: str,
    at: str,
    out: Path | None,
    all_rows: bool,
    as_json: bool,
) -> None:
    """Ask a server for old URLs over HTTP, and record every hop.

    All requests go to the address given with --at, with the production host in them, so that nothing in DNS
    has to change. robots.txt plays no part: these are your own addresses. Exit code 1 when anything is not ok.
    """
    ledger = open_ledger(folder)
    with show.progress("replaying") as progress:
        results = replay(
            Book(ledger),
            list(paths),
            at,
            options=read_options(columns, encoding),
            kind=kind,
            host=host,
            progress=progress,
        )
    if out is not None:
        results.write_csv(out)
    if as_json:
        show.json_out(results.as_dict())
    else:
        show_results(results, ledger.settings.sites, all_rows=all_rows)
        if out is not None:
            show.say(f"Every URL is in {out}.")
        if results.faults:
            show.next_step("settle what is not ok, build again and replay", "upright decide OLD --to NEW")
        else:
            show.next_step("see where you are", "upright")
    raise click.exceptions.Exit(1 if results.faults else 0)
