"""upright open"""

from __future__ import annotations

from pathlib import Path

import click

from upright_ledger.app.begin.open_ledger import open_new
from upright_ledger.cli.options.shared import json_option
from upright_ledger.cli.terminal import output


@click.command("open")
@click.argument("folder", metavar="DIR", type=click.Path(path_type=Path))
@click.option(
    "--old",
    multiple=True,
    required=True,
    metavar="URL",
    help="An origin of the old site; repeat it for aliases and further sites.",
)
@click.option(
    "--new",
    multiple=True,
    required=True,
    metavar="URL",
    help="An origin of the new site; bare paths lie on the first.",
)
@click.option(
    "--slash",
    type=click.Choice(["always", "never", "as-stock"]),
    default="as-stock",
    show_default=True,
    help="The new site's closing slash.",
)
@click.option(
    "--case",
    type=click.Choice(["fold", "exact"]),
    default="fold",
    show_default=True,
    help="Whether A and a are the same in old paths.",
)
@click.option(
    "--significant",
    multiple=True,
    metavar="PATH=NAME,…",
    help="Parameters that choose the page at a path, as in /catalogue.php=item.",
)
@click.option(
    "--database",
    default="",
    metavar="ADDRESS",
    help="Another database than a file in DIR, such as postgresql+psycopg://user@host/name.",
)
@json_option
def command(
    folder: Path,
    old: tuple[str, ...],
    new: tuple[str, ...],
    slash: str,
    case: str,
    significant: tuple[str, ...],
    database: str,
    as_json: bool,
) -> None:
    """Make a new ledger in DIR.

    \b
    upright open museum --old http://www.quillhaven.example --old http://quillhaven.example \\
        --new https://www.quillhaven.example

    Hosts that differ by www or a mobile label are one old site; others are sites of their own.
    """
    ledger = open_new(
        folder,
        list(old),
        list(new),
        database=database,
        slash=slash,
        case=case,
        significant=list(significant),
    )
    sites = ledger.settings.sites
    if as_json:
        output.json_out(
            {
                "folder": str(folder),
                "old": {s.name: list(s.origins) for s in sites.old},
                "new": list(sites.new),
                "next": "upright gather",
            },
        )
        return
    output.say(f"Opened the ledger {ledger.settings.name} in {folder}.")
    for site in sites.old:
        output.say(f"  old site {site.name}: {', '.join(site.origins)}")
    output.say(f"  new site: {', '.join(sites.new)}")
    output.say(f"  settings: {folder / 'upright.toml'}")
    output.next_step(
        "gather old URLs, in that folder", "upright gather old-urls.txt analytics.csv access.log"
    )
