"""Renamings on the screen: what has another address than at an earlier survey, or in an earlier
list of pages.
"""

from __future__ import annotations

from collections.abc import Sequence

from upright_ledger.app.collect.moved_pages import Proposed
from upright_ledger.cli.terminal import output
from upright_ledger.core.crawl.audits.moved_pages import Fate, Renamed

SHOWN = 12


def show_renamed(
    renamed: Renamed,
    proposed: Proposed,
    known: Sequence[str],
    *,
    all_rows: bool = False,
    pairs: str = "",
) -> None:
    """What changed since an earlier survey or list of pages. pairs: the option that keeps renamings
    as pairs, where there is one.
    """
    output.say(
        f"Since then {len(renamed.vanished):,} pages vanished, {len(renamed.appeared):,} appeared, "
        f"and {len(renamed.renamings):,} have another address."
    )
    shown = renamed.renamings if all_rows else renamed.renamings[:SHOWN]
    if shown:
        output.table(
            ("the old address is", "linked from>", "page, and its addresses"),
            [
                (
                    r.state,
                    r.inbound,
                    [
                        r.title or "(no title)",
                        f"was {output.path(r.old, known)}",
                        f"is  {output.path(r.new, known)}",
                    ],
                )
                for r in shown
            ],
            [
                output.GRAVE
                if r.state == Fate.GONE
                else output.DOUBTFUL
                if r.state == Fate.ASTRAY
                else ""
                for r in shown
            ],
        )
    if len(shown) < len(renamed.renamings):
        output.say(f"… and {len(renamed.renamings) - len(shown):,} more")
    if renamed.contested:
        output.table(
            ("contested address", "the page that was there, and the one that is there now"),
            [
                (
                    output.path(c.address, known),
                    [f"{c.before}, now at {output.path(c.now, known)}", c.after],
                )
                for c in (renamed.contested if all_rows else renamed.contested[:SHOWN])
            ],
        )
    if proposed.proposals:
        output.say(
            f"{output.plural(proposed.proposals, 'renaming')} proposed "
            f"({output.plural(proposed.entries, 'new entry', 'new entries')}): "
            "upright review shows "
            f"them{f', and {pairs} keeps them for upright decide --from' if pairs else ''}."
        )
    gone = [url for url in proposed.open if url in set(renamed.vanished)]
    if gone:
        output.say(
            f"{output.plural(len(gone), 'page')} vanished and "
            f"{'has' if len(gone) == 1 else 'have'} no answer:",
            output.GRAVE,
        )
        for url in gone if all_rows else gone[:SHOWN]:
            output.say(f"  {output.path(url, known)}")
        if not all_rows and len(gone) > SHOWN:
            output.say(f"  … and {len(gone) - SHOWN:,} more")
    for url, now in proposed.astray[:SHOWN]:
        output.say(
            f"{output.path(url, known)} is answered, but its page is at {output.path(now, known)} "
            "now.",
            output.DOUBTFUL,
        )
    if len(proposed.astray) > SHOWN:
        output.say(f"… and {len(proposed.astray) - SHOWN:,} more such answers")
    if proposed.off_site:
        output.say(
            f"{output.plural(len(proposed.off_site), 'such address', 'such addresses')} on a host "
            "that is no old site of this ledger: no rule can be built for it "
            "until upright.toml names the host as a [[site]]."
        )
    output.say()
