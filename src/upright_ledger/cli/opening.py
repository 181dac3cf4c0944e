"""Opening a ledger for one command, and saying at its end what somebody else did meanwhile."""

from __future__ import annotations

from pathlib import Path

import click

from upright_ledger.cli.terminal import output
from upright_ledger.errors import InputError
from upright_ledger.ledger import store
from upright_ledger.ledger.store import Ledger

_opened: list[Ledger] = []
"""Those of this process."""


def open_ledger(folder: Path) -> Ledger:
    """The ledger in a folder. What a command leaves alone, as it changed since it was read, is told
    when the command ends.
    """
    ledger = store.open_ledger(folder, lambda text: click.echo(f"upright: {text} ...", err=True))
    _opened.append(ledger)
    if ledger.otherwise:
        names = ", ".join(f"[{name}]" for name in ledger.otherwise)
        click.echo(
            f"upright: upright.toml says otherwise than the team's settings, which hold: {names}.\n"
            "  `upright fold --apply` shares yours; `upright fold --put-back` takes theirs.",
            err=True,
        )
    context = click.get_current_context(silent=True)
    if context is not None:
        context.call_on_close(lambda: _tell(ledger))
    return ledger


def has_posted() -> bool:
    """Whether a step of this command is complete."""
    return any(ledger.posted for ledger in _opened)


def damage() -> InputError | None:
    """What is damaged in a ledger of this command, where something is: the reason for an error that
    nobody foresaw.
    """
    from upright_ledger.ledger.examining import first_damage

    for ledger in _opened:
        if found := first_damage(ledger):
            return InputError(
                f"{ledger.where} is damaged: {found}",
                "put it back from a copy of the ledger; this step was not made",
            )
    return None


def tell_what_stands() -> None:
    """Say, after a fault, which steps of this command were complete before it."""
    for ledger in _opened:
        if posted := ledger.posted:
            click.echo(
                f"  {output.plural(len(posted), 'step')} of this command "
                f"{'was' if len(posted) == 1 else 'were'} complete before that, and "
                f"{'stands' if len(posted) == 1 else 'stand'}: {_numbers(posted)}",
                err=True,
            )


def _numbers(numbers: list[int]) -> str:
    """Numbers in words, as in "4 to 6, 9"."""
    ranges: list[list[int]] = []
    for number in numbers:
        if ranges and number == ranges[-1][1] + 1:
            ranges[-1][1] = number
        else:
            ranges.append([number, number])
    return ", ".join(str(a) if a == b else f"{a} to {b}" for a, b in ranges)


def _tell(ledger: Ledger) -> None:
    ledger.end()
    if ledger.left_alone:
        click.echo(
            f"{output.plural(ledger.left_alone, 'entry was', 'entries were')} answered or seen "
            "anew meanwhile, and left alone: "
            "the same command looks at them again.",
            err=True,
        )
