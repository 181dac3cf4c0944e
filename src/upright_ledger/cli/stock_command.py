"""upright stock"""

from __future__ import annotations

from pathlib import Path

import click

from upright_ledger.app.stock import stock
from upright_ledger.cli import show
from upright_ledger.cli.common import encoding_option, files_argument, json_option, read_options
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
@encoding_option
@json_option
@click.pass_obj
def command(
    folder: Path,
    paths: tuple[Path, ...],
    columns: tuple[str, ...],
    publish_as: str,
    planned: bool,
    encoding: str,
    as_json: bool,
) -> None:
    """Take stock of the new site's pages: address, status and title, from CSV files, URL lists and sitemaps.

    What a later file says of a page overrules what an earlier one said.
    """
    options = read_options(columns, encoding)
    results, pages = stock(open_ledger(folder), list(paths), options=options, publish_as=publish_as, planned=planned)
    if as_json:
        show.json_out(
            {
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
    show.next_step("propose destinations", "upright match")
