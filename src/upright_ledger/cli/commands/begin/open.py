"""upright open"""

from __future__ import annotations

from pathlib import Path

import click
from click.core import ParameterSource

from upright_ledger.app.begin.open_ledger import join as join_team
from upright_ledger.app.begin.open_ledger import open_new
from upright_ledger.cli.options.shared import json_option
from upright_ledger.cli.terminal import output
from upright_ledger.errors import UsageError

_OF_ALL = ("old", "new", "slash", "case", "significant")
"""What holds for all who work on a ledger."""


def _told(*names: str) -> list[str]:
    """Those of the options that were given."""
    context = click.get_current_context()
    return [n for n in names if context.get_parameter_source(n) != ParameterSource.DEFAULT]


@click.command("open")
@click.argument("folder", metavar="DIR", type=click.Path(path_type=Path))
@click.option(
    "--old",
    multiple=True,
    metavar="URL",
    help="An origin of the old site; repeat it for aliases and further sites.",
)
@click.option(
    "--new",
    multiple=True,
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
    help=(
        "Another database than a file in DIR, such as postgresql+psycopg://user@host/name; a "
        "ledger has a schema of its own there, called as DIR or by ?schema=NAME."
    ),
)
@click.option("--join", is_flag=True, help="Take part in the ledger that a team has in --database.")
@json_option
def command(
    folder: Path,
    old: tuple[str, ...],
    new: tuple[str, ...],
    slash: str,
    case: str,
    significant: tuple[str, ...],
    database: str,
    join: bool,
    as_json: bool,
) -> None:
    """Make a new ledger in DIR.

    \b
    upright open museum --old http://www.quillhaven.example --old http://quillhaven.example \\
        --new https://www.quillhaven.example

    Hosts that differ by www or a mobile label are one old site; others are sites of their own.

    \b
    upright open museum --join --database postgresql+psycopg://bob@db.quillhaven.example/moves

    A team's ledger is on PostgreSQL. Its sites, folding, sections, forms and weights stand in the
    database, and hold for all; upright.toml keeps what is one's own.
    """
    if join:
        if told := _told(*_OF_ALL):
            raise UsageError(
                "--join takes the sites, and how addresses are folded, from the team's ledger",
                f"leave {' and '.join(f'--{name}' for name in told)} out",
            )
        if not database:
            raise UsageError(
                "--join does not say where the team's ledger is", "name it with --database"
            )
        ledger = join_team(folder, database)
    elif not old or not new:
        raise click.UsageError(f"Missing option '{'--new' if old else '--old'}'.")
    else:
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
    output.say(
        f"Joined the ledger of {folder}."
        if join
        else f"Opened the ledger {ledger.settings.name} in {folder}."
    )
    for site in sites.old:
        output.say(f"  old site {site.name}: {', '.join(site.origins)}")
    output.say(f"  new site: {', '.join(sites.new)}")
    output.say(f"  settings: {folder / 'upright.toml'}")
    if join:
        output.next_step("see where it stands, in that folder", "upright")
        return
    output.next_step(
        "gather old URLs, in that folder", "upright gather old-urls.txt analytics.csv access.log"
    )
