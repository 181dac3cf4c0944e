"""upright build"""

from __future__ import annotations

import re
from pathlib import Path

import click

from upright_ledger.app.book import Book
from upright_ledger.app.building import BOLD, CAUTIOUS, Built, build
from upright_ledger.cli import show
from upright_ledger.cli.common import json_option
from upright_ledger.ledger.store import open_ledger
from upright_ledger.servers import DIALECTS

SHOWN = 10


@click.command("build")
@click.option(
    "--for", "server", type=click.Choice(list(DIALECTS)), required=True, help="The server that will read the rules."
)
@click.option(
    "--out",
    "out",
    type=click.Path(path_type=Path, file_okay=False),
    required=True,
    metavar="DIR",
    help="Where the files go.",
)
@click.option(
    "--condense",
    "condensing",
    is_flag=False,
    flag_value=CAUTIOUS,
    default="",
    type=click.Choice(["", CAUTIOUS, BOLD]),
    metavar="[LEVEL]",
    help="Put template rules in the place of exact ones where no known answer changes; LEVEL bold also takes whole folders.",
)
@json_option
@click.pass_obj
def command(folder: Path, server: str, out: Path, condensing: str, as_json: bool) -> None:
    """Write the rules of all sound answers for a server, with a manifest and a plain list.

    Answers that cannot be executed safely (loops, rules onto themselves, two answers for one address) are held
    back and named; the exit code is then 1. The files are read back and compared with the rules first.
    """
    ledger = open_ledger(folder)
    result = build(Book(ledger), server, out, condensing)
    manifest = result.manifest(ledger.settings.name)
    if as_json:
        show.json_out(manifest | {"folder": str(out)})
    else:
        by_status = ", ".join(f"{n:,} with {status}" for status, n in manifest["by_status"].items())
        show.say(f"Built {show.plural(manifest['rules'], 'rule')} for {server} ({by_status}) into {out}.")
        show.say(f"  digest {manifest['digest'][:16]}…, read back and equal to the rules")
        show.say(f"  files: {', '.join(result.files)}")
        if condensing:
            _show_condensed(result, (ledger.settings.sites.old[0].origins[0], ledger.settings.sites.new[0]))
        if result.held_back:
            show.say()
            show.table(
                ("held back", "because"),
                [(h.legacy_url, h.reason) for h in result.held_back[:SHOWN]],
                title=f"{show.plural(len(result.held_back), 'answer')} held back",
            )
            if len(result.held_back) > SHOWN:
                show.say(f"… and {len(result.held_back) - SHOWN:,} more; {out / 'manifest.json'} lists all")
        show.next_step("try all requests on them", "upright rehearse old-urls.txt access.log")
    raise click.exceptions.Exit(1 if result.held_back else 0)


def _show_condensed(result: Built, origins: tuple[str, ...]) -> None:
    """Say which templates took the place of exact rules, and what else each would answer."""
    show.say()
    now = len(result.rules.answering)
    show.say(
        f"Condensed from {result.before:,} rules to {now:,} ({100 * now / result.before:.1f} %); every known address is answered as before."
    )
    show.table(
        ("rules>", "replaced by"),
        [
            (
                f"{c.replaced:,}",
                [
                    _shortened(c.template.source.text),
                    f"to  {show.path(c.template.destination, origins) if c.template.destination else '410'}",
                    f"as  {show.path(c.examples[0], origins)}",
                ],
            )
            for c in result.condensed[:SHOWN]
        ],
    )
    if len(result.condensed) > SHOWN:
        show.say(f"… and {len(result.condensed) - SHOWN:,} more templates; manifest.json lists all")
    show.say("Other addresses of these forms, which nobody has seen, are answered alike.")


def _shortened(text: str) -> str:
    """A template whose lists of values are cut short."""
    return re.sub(r"([^,{|]*\|[^,}]*,[^,}]*),[^}]*", r"\1,…", text)
