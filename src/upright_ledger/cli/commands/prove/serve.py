"""upright serve"""

from __future__ import annotations

from pathlib import Path

import click

from upright_ledger.app.move_state import MoveState
from upright_ledger.cli.opening import open_ledger
from upright_ledger.cli.terminal import output


@click.command("serve")
@click.option(
    "--port",
    type=click.IntRange(1024, 65000),
    default=8080,
    show_default=True,
    help="The first port.",
)
@click.option(
    "--as-sent", is_flag=True, help="Send redirects to the production hosts, not to this machine."
)
@click.pass_obj
def command(folder: Path, port: int, as_sent: bool) -> None:
    """Serve the rules on this machine, for trying them in a browser.

    Each old site and each host of the new one gets a port of its own; pages in stock are shown as
    stand-ins with their title. Nothing but this machine can reach it. Ctrl-C ends it.
    """
    from upright_ledger.app.prove.preview_server import FRONT, LocalSite

    move = MoveState(open_ledger(folder))
    site = LocalSite(move, port, follow=not as_sent)
    move.compiled.all_rules.answer(
        site.origins[0], "/"
    )  # what is looked up is made before the first request

    def started() -> None:
        output.table(
            ("host", "stands at"),
            [(origin, f"http://127.0.0.1:{port + n}") for n, origin in enumerate(site.origins)],
        )
        output.next_step(
            "try an old address in a browser (Ctrl-C ends)", f"http://127.0.0.1:{port}{FRONT}"
        )

    site.serve(started)
