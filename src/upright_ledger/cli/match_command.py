"""upright match"""

from __future__ import annotations

from pathlib import Path

import click

from upright_ledger.app.match import ACCEPT_ABOVE, match
from upright_ledger.cli import show
from upright_ledger.cli.common import json_option
from upright_ledger.ledger.store import open_ledger

SHOWN = 8


@click.command("match")
@click.option(
    "--accept-above",
    type=click.FloatRange(0, 1.01),
    default=ACCEPT_ABOVE,
    show_default=True,
    help="Answer entries whose best proposal has this confidence or more; 1.01 accepts none but equal addresses.",
)
@json_option
@click.pass_obj
def command(folder: Path, accept_above: float, as_json: bool) -> None:
    """Propose destinations for all open entries, and answer the certain ones.

    Certain are entries whose address is a page of the new site, and proposals above the given confidence.
    The home page is never proposed for an inner page. One undoable step.
    """
    ledger = open_ledger(folder)
    result = match(ledger, accept_above)
    if as_json:
        show.json_out(
            {
                "open_before": result.open_before,
                "same_address": result.same_address,
                "accepted": result.accepted,
                "proposed": result.proposed,
                "without_proposal": result.without,
                "proposals": [
                    {
                        "legacy_url": entry.legacy_url,
                        "destination": p.destination,
                        "confidence": p.confidence,
                        "reason": "; ".join(p.reasons),
                        "value": round(entry.evidence.value, 2),
                    }
                    for entry, p in result.proposals
                ],
            },
        )
        return
    show.say(f"{show.plural(result.open_before, 'entry was', 'entries were')} open.")
    for count, text in (
        (result.same_address, "answered: the address is a page of the new site"),
        (result.accepted, f"answered: a proposal with a confidence of {accept_above:g} or more"),
        (result.proposed, "left open with a proposal"),
        (result.without, "left open without one: no page is alike enough"),
    ):
        show.say(f"  {count:>7,}  {text}")
    if result.proposals:
        show.say()
        known = (ledger.settings.sites.old[0].origins[0], ledger.settings.sites.new[0])
        show.table(
            ("confidence>", f"the proposals worth most, {min(SHOWN, result.proposed):,} of {result.proposed:,}"),
            [
                (
                    f"{p.confidence:.2f}",
                    [
                        show.path(e.legacy_url, known),
                        f"to  {show.path(p.destination, known)}",
                        f"it  {'; '.join(p.reasons)}",
                    ],
                )
                for e, p in result.proposals[:SHOWN]
            ],
        )
    show.next_step("see what is open, and decide on it", "upright balance")
