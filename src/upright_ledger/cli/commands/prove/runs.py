"""upright runs"""

from __future__ import annotations

from dataclasses import asdict
from pathlib import Path

import click

from upright_ledger.app.prove.runs import RunLine, call_run, load_run, runs
from upright_ledger.cli.opening import open_ledger
from upright_ledger.cli.options.runs import RunView, view_options
from upright_ledger.cli.options.shared import (
    json_option,
)
from upright_ledger.cli.screens.results import show_results
from upright_ledger.cli.terminal import output
from upright_ledger.core.monitoring.deploy_days import to_the_minute
from upright_ledger.core.tracing.verdicts import Verdict


@click.command("runs")
@click.argument("run", required=False, default="")
@click.option("--as", "name", default="", metavar="NAME", help="Call this run so.")
@view_options
@json_option
@click.pass_obj
def command(
    folder: Path,
    run: str,
    name: str,
    view: RunView,
    as_json: bool,
) -> None:
    """List rehearsals and replays, or show one again.

    RUN is a number or a name; "last" is the newest. A name goes with one run only: given anew, it
    moves.
    """
    ledger = open_ledger(folder)
    if run and name:
        call_run(ledger, run, name)
    if run:
        results = load_run(ledger, run)
        view.write(results, quiet=as_json)
        if as_json:
            output.json_out(results.as_dict())
        else:
            called = f", {results.name}" if results.name else ""
            output.say(f"Run {results.run}{called}: {results.kind} {results.at}".rstrip())
            show_results(
                results, ledger.settings.sites, all_rows=view.all_rows, hops=view.with_hops
            )
            output.next_step(
                "lay it beside another one", f"upright reconcile {results.name or results.run} last"
            )
        return
    found = runs(ledger)
    if as_json:
        output.json_out({"runs": [asdict(r) for r in found]})
        return
    if not found:
        output.say("No run yet.")
        output.next_step("try all requests on the rules", "upright rehearse old-urls.txt")
        return
    output.table(
        ("run>", "what it asked", "URLs>", "not ok>", "most of them"), [_cells(r) for r in found]
    )
    if len(found) > 1:
        output.next_step(
            "lay two of them side by side", f"upright reconcile {found[1].number} {found[0].number}"
        )
    else:
        output.next_step("see its rows again", f"upright runs {found[0].number}")


def _cells(run: RunLine) -> tuple[object, ...]:
    """One run in a table."""
    called = f"{run.name} ({run.kind})" if run.name else run.kind
    where = f" at {run.at}" if run.at else ""
    return (
        run.number,
        [called, f"{to_the_minute(run.started)}{where}"],
        sum(run.counts.values()),
        *_wrong(run),
    )


def _wrong(run: RunLine) -> tuple[object, str]:
    """How many URLs were not ok, and what most of them were."""
    if not run.finished:
        return "", "stopped: replay --resume goes on"
    wrong = {v: n for v, n in run.counts.items() if v != Verdict.OK}
    return sum(wrong.values()), max(wrong, key=lambda v: wrong[v]) if wrong else ""
