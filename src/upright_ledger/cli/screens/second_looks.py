"""What deserves a second look as soon as it is decided, as it is said."""

from __future__ import annotations

from collections.abc import Sequence

from upright_ledger.app.decide.second_looks import Doubt, InUse, SecondLooks, Unstocked
from upright_ledger.app.decide.standing_answers import figures_in_words
from upright_ledger.cli.terminal import output

_SHOWN = 8


def show_second_looks(looks: SecondLooks) -> None:
    """Name destinations that are no page in stock, each with the page that may have been meant, and
    addresses that end though they are linked or asked for, with their figures.
    """
    _show_unstocked(looks.unstocked)
    _show_in_use(looks.in_use)


def show_doubts(doubts: Sequence[Doubt]) -> None:
    """Name rows of which matching is sure that they lead to another page than their own."""
    if doubts:
        rows = "row leads" if len(doubts) == 1 else "rows lead"
        output.say(
            f"{len(doubts):,} {rows} to another page than match is sure of:", output.DOUBTFUL
        )
    for one in doubts[:_SHOWN]:
        output.say(f"  {output.clean(one.legacy_url)}")
        output.say(f"    to  {output.clean(one.destination)}")
        output.say(f"    not {output.clean(one.better)}  ({one.confidence:.2f})?")
        output.say(f"        it {'; '.join(map(output.clean, one.reasons[:2]))}")
    _say_more(len(doubts))


def _show_unstocked(unstocked: Sequence[Unstocked]) -> None:
    if unstocked:
        are = "is" if len(unstocked) == 1 else "are"
        told = output.plural(len(unstocked), "destination")
        output.say(f"{told} {are} no page in stock:", output.DOUBTFUL)
    for one in unstocked[:_SHOWN]:
        output.say(f"  {output.clean(one.destination)}")
        if one.nearest:
            output.say(f"    did you mean {output.clean(one.nearest)}?")
    _say_more(len(unstocked))


def _show_in_use(in_use: Sequence[InUse]) -> None:
    if in_use:
        text = "ends though it is" if len(in_use) == 1 else "end though they are"
        told = output.plural(len(in_use), "address", "addresses")
        output.say(f"{told} {text} linked or asked for:", output.DOUBTFUL)
    for one in in_use[:_SHOWN]:
        output.say(f"  {output.clean(one.legacy_url)}")
        output.say(f"    {figures_in_words(one.figures)}")
    _say_more(len(in_use))


def _say_more(count: int) -> None:
    if count > _SHOWN:
        output.say(f"  and {count - _SHOWN:,} more; --json lists all")
