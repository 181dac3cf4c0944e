"""upright stock"""

from __future__ import annotations

from pathlib import Path
from typing import Any

import click

from upright_ledger.app.renaming import renamed_dict
from upright_ledger.app.restocking import restock
from upright_ledger.app.stock import stock
from upright_ledger.cli import show
from upright_ledger.cli.common import encoding_option, files_argument, json_option, read_options
from upright_ledger.cli.renamed_screen import show_renamed
from upright_ledger.errors import UsageError
from upright_ledger.ledger.store import open_ledger


@click.command("stock")
@files_argument
@click.option(
    "--column", "columns", multiple=True, metavar="MEANING=HEADER", help="Settle a column, as in title='Page name'."
)
@click.option(
    "--publish-as", default="", metavar="URL", help="The production origin of pages listed under a staging host."
)
@click.option("--planned", is_flag=True, help="The pages are still to be published; stock them again when they are.")
@click.option(
    "--in-place-of",
    default="",
    metavar="LIST",
    help="Let an earlier list count no longer, and propose what was renamed.",
)
@encoding_option
@json_option
@click.pass_obj
def command(
    folder: Path,
    paths: tuple[Path, ...],
    columns: tuple[str, ...],
    publish_as: str,
    planned: bool,
    in_place_of: str,
    encoding: str,
    as_json: bool,
) -> None:
    """Take stock of the new site's pages: address, status and title, from CSV files, URL lists and sitemaps.

    What a later file says of a page overrules what an earlier one said. --in-place-of old-pages.csv takes a list that was stocked under that name out, and
    compares both: a page that has another address now, known by its item number or title, becomes a proposal for its old address.
    """
    options: dict[str, Any] = {"options": read_options(columns, encoding), "publish_as": publish_as, "planned": planned}
    ledger, again = open_ledger(folder), None
    if in_place_of:
        if len(paths) > 1:
            raise UsageError("--in-place-of goes with one list", "stock the others by themselves")
        again = restock(ledger, paths[0], in_place_of, **options)
        results, pages = [again.stocked], again.pages
    else:
        results, pages = stock(ledger, list(paths), **options)
    if as_json:
        told = renamed_dict(again.renamed) | {"proposed": again.proposed.as_dict()} if again else {}
        show.json_out(
            told
            | {
                "sources": [
                    {
                        "name": r.name,
                        "kind": r.kind,
                        "lines": r.lines,
                        "accepted": r.accepted,
                        "set_aside": r.off_site,
                        "rejected": len(r.rejects),
                        "known": r.known,
                    }
                    for r in results
                ],
                "pages": pages,
            },
        )
        return
    show.table(
        ("source", "kind", "lines>", "accepted>", "off site>", "rejected>"),
        [
            (r.name, "known, no change" if r.known else r.kind, r.lines, r.accepted, r.off_site, len(r.rejects))
            for r in results
        ],
    )
    for result in results:
        for reject in result.rejects[:5]:
            show.say(f"{result.name} line {reject.line:,}: {reject.reason}: {reject.text[:100]}", show.DOUBTFUL)
    show.say(f"The stock holds {show.plural(pages, 'page')}.")
    if again is not None:
        show_renamed(again.renamed, again.proposed, open_ledger(folder).settings.sites.new)
    if again is not None and again.proposed.proposals:
        show.next_step("look at the proposals", "upright review")
    else:
        show.next_step("propose destinations", "upright match")
