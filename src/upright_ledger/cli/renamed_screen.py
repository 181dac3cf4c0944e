"""Renamings on the screen: what has another address than at an earlier survey, or in an earlier list of pages."""

from __future__ import annotations

from collections.abc import Sequence

from upright_ledger.app.collect.moved_pages import Proposed
from upright_ledger.cli import show
from upright_ledger.core.crawl.audits.moved_pages import ASTRAY, GONE, Renamed

SHOWN = 12


def show_renamed(
    renamed: Renamed, proposed: Proposed, known: Sequence[str], *, all_rows: bool = False, pairs: str = ""
) -> None:
    """What changed since an earlier survey or list of pages. pairs: the option that keeps renamings as pairs, where there is one."""
    show.say(
        f"Since then {len(renamed.vanished):,} pages vanished, {len(renamed.appeared):,} appeared, and {len(renamed.renamings):,} have another address."
    )
    shown = renamed.renamings if all_rows else renamed.renamings[:SHOWN]
    if shown:
        show.table(
            ("the old address is", "linked from>", "page, and its addresses"),
            [
                (
                    r.state,
                    r.inbound,
                    [r.title or "(no title)", f"was {show.path(r.old, known)}", f"is  {show.path(r.new, known)}"],
                )
                for r in shown
            ],
            [show.GRAVE if r.state == GONE else show.DOUBTFUL if r.state == ASTRAY else "" for r in shown],
        )
    if len(shown) < len(renamed.renamings):
        show.say(f"… and {len(renamed.renamings) - len(shown):,} more")
    if renamed.contested:
        show.table(
            ("contested address", "the page that was there, and the one that is there now"),
            [
                (show.path(c.address, known), [f"{c.before}, now at {show.path(c.now, known)}", c.after])
                for c in (renamed.contested if all_rows else renamed.contested[:SHOWN])
            ],
        )
    if proposed.proposals:
        show.say(
            f"{show.plural(proposed.proposals, 'renaming')} proposed ({show.plural(proposed.entries, 'new entry', 'new entries')}): "
            f"upright review shows them{f', and {pairs} keeps them for upright decide --from' if pairs else ''}."
        )
    for url, now in proposed.astray[:SHOWN]:
        show.say(f"{show.path(url, known)} is answered, but its page is at {show.path(now, known)} now.", show.DOUBTFUL)
    if len(proposed.astray) > SHOWN:
        show.say(f"… and {len(proposed.astray) - SHOWN:,} more such answers")
    if proposed.off_site:
        show.say(
            f"{show.plural(len(proposed.off_site), 'renaming')} on a host that is no old site of this ledger: no rule can be built for it "
            "until upright.toml names the host as a [[site]]."
        )
    show.say()
