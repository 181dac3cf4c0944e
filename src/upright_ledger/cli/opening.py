"""Opening a ledger for one command, and saying at its end what somebody else did meanwhile."""

from __future__ import annotations

from pathlib import Path

import click

from upright_ledger.cli import show
from upright_ledger.ledger import store
from upright_ledger.ledger.store import Ledger


def open_ledger(folder: Path) -> Ledger:
    """The ledger in a folder. What a command leaves alone, as it changed since it was read, is told when the command ends."""
    ledger = store.open_ledger(folder)
    context = click.get_current_context(silent=True)
    if context is not None:
        context.call_on_close(lambda: _tell(ledger))
    return ledger


def _tell(ledger: Ledger) -> None:
    ledger.look_anew()
    if ledger.left_alone:
        click.echo(
            f"{show.plural(ledger.left_alone, 'entry was', 'entries were')} answered or seen anew meanwhile, and left alone: "
            "the same command looks at them again.",
            err=True,
        )
