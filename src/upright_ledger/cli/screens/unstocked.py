"""Decided destinations that are no page in stock, as they are said."""

from __future__ import annotations

from collections.abc import Sequence

from upright_ledger.app.decide.unstocked import Unstocked
from upright_ledger.cli.terminal import output

_SHOWN = 8


def show_unstocked(unstocked: Sequence[Unstocked]) -> None:
    """Name them, each with the page that may have been meant."""
    if not unstocked:
        return
    are = "is" if len(unstocked) == 1 else "are"
    output.say(
        f"{output.plural(len(unstocked), 'destination')} {are} no page in stock:", output.DOUBTFUL
    )
    for told in unstocked[:_SHOWN]:
        meant = f"; did you mean {output.clean(told.nearest)}?" if told.nearest else ""
        output.say(f"  {output.clean(told.destination)}{meant}")
    if len(unstocked) > _SHOWN:
        output.say(f"  and {len(unstocked) - _SHOWN:,} more; --json lists all")
