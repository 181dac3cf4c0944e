"""upright history"""

from __future__ import annotations

from pathlib import Path

import click

from upright_ledger.app.journal import history
from upright_ledger.cli.opening import open_ledger
from upright_ledger.cli.options.shared import json_option
from upright_ledger.cli.terminal import output


@click.command("history")
@click.option(
    "--last", type=click.IntRange(1), default=30, show_default=True, help="How many steps to show."
)
@json_option
@click.pass_obj
def command(folder: Path, last: int, as_json: bool) -> None:
    """The journal: every change with its time, author and reason, the newest first."""
    steps = history(open_ledger(folder))
    if as_json:
        output.json_out({"steps": steps})
        return
    rows = []
    for s in steps[:last]:
        note = f"undone by step {s['undone_by']}" if s["undone_by"] else ""
        what = "; ".join(t for t in (s["summary"], s["reason"], note) if t)
        rows.append((str(s["step"]), s["time"], s["author"], s["command"], what))
    output.table(
        ("step>", "time", "author", "command", "what"),
        rows,
        ["dim" if s["undone_by"] else "" for s in steps[:last]],
    )
    if len(steps) > last:
        output.say(f"… and {output.plural(len(steps) - last, 'earlier step')}; --last shows more")
    output.next_step("take the last step back, if it was a mistake", "upright undo")
