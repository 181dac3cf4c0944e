"""Pages that nobody needs, as they are listed."""

from __future__ import annotations

from pathlib import Path

from upright_ledger.app.decide.weak_entries import COLUMNS, Pruning, write_weak
from upright_ledger.cli.terminal import output
from upright_ledger.ledger.store import Ledger


def show_weak(
    found: Pruning, ledger: Ledger, path: Path | None, limit: int, *, as_json: bool
) -> None:
    """List weak entries, or write them to a file, and say by which evidence."""
    if path is not None:
        write_weak(found, path)
    if as_json:
        output.json_out(
            {
                "weak": [dict(zip(COLUMNS, w.row(), strict=True)) for w in found.weak],
                "of": found.of,
                "sources": found.sources,
                "first": found.first,
                "last": found.last,
                "links_known": found.links,
            }
        )
        return
    output.say(
        f"{len(found.weak):,} of {output.plural(found.of, 'entry', 'entries')} that are open or "
        f"kept have no clicks, visits, hits or links, {found.evidence}."
    )
    if not found.links:
        output.say(
            "No link data was gathered, so nobody knows which of them others link to.",
            output.DOUBTFUL,
        )
    known = [o for site in ledger.settings.sites.old for o in site.origins]
    shown = found.weak[: limit or None]
    if shown:
        output.table(
            ("status>", "like>", "page, and the strongest one of its subject"),
            [
                (
                    w.advice,
                    f"{w.likeness:.2f}" if w.sibling else "",
                    [
                        output.path(w.entry.legacy_url, known),
                        *(
                            [f"into {output.path(w.sibling.legacy_url, known)}"]
                            if w.sibling
                            else []
                        ),
                        w.why,
                    ],
                )
                for w in shown
            ],
        )
    if len(shown) < len(found.weak):
        output.say(f"… and {len(found.weak) - len(shown):,} more; --limit 0 lists them")
    if path is not None:
        output.say(f"All of them are in {path}.")
        output.next_step(
            "change what you decide otherwise, and post it", f"upright decide --from {path}"
        )
    elif found.weak:
        output.next_step("decide on them in a sheet", "upright entries --weak --csv weak.csv")
