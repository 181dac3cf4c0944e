"""upright undo"""

from __future__ import annotations

from pathlib import Path

import click

from upright_ledger.app.journal import undo
from upright_ledger.cli.opening import open_ledger
from upright_ledger.cli.options.shared import json_option
from upright_ledger.cli.terminal import output


@click.command("undo")
@click.argument("count", type=click.IntRange(1), default=1)
@click.option(
    "--step",
    "target",
    type=int,
    help="Take back this one step instead; an undo can be undone, too.",
)
@json_option
@click.pass_obj
def command(folder: Path, count: int, target: int | None, as_json: bool) -> None:
    """Take back the last COUNT steps (one by default), as one new step of the journal.

    A gathered source is not forgotten but withdrawn. A step whose rows were changed since is
    refused, and the later step is named.
    """
    done = undo(open_ledger(folder), count, target)
    if as_json:
        output.json_out({"undone": done})
        return
    for text in done:
        output.say(f"Took back {text}.")
    output.next_step("see where you are", "upright")
