"""The `upright` command and the list of its commands. A command's module loads when it is asked for."""

from __future__ import annotations

import gc
import os
import sys
from importlib import import_module
from pathlib import Path

import click

from upright_ledger import __version__
from upright_ledger.errors import InputError, UprightError

PHASES = ("begin", "collect", "decide", "prove", "live")

COMMANDS: dict[str, tuple[str, str]] = {
    "demo": ("begin", "The whole story on the shipped sample site."),
    "open": ("begin", "Make a new ledger."),
    "gather": ("collect", "Gather old URLs from lists, exports, sitemaps and logs."),
    "fold": ("collect", "Which spellings are one entry; change that."),
    "stock": ("collect", "Take stock of the new site's pages."),
    "survey": ("collect", "Crawl a site, and audit what a relaunch breaks."),
    "match": ("decide", "Propose destinations, and answer the certain ones."),
    "review": ("decide", "Decide on open entries, one by one or in a sheet."),
    "decide": ("decide", "Answer one entry, or many from a sheet of pairs."),
    "entries": ("decide", "List entries with their evidence."),
    "balance": ("decide", "What is answered and what is open."),
    "check": ("prove", "Find faults in the answers, or in a sheet of pairs."),
    "build": ("prove", "Write the rules for a server."),
    "rehearse": ("prove", "Old URLs and logs through the rules, offline."),
    "replay": ("prove", "Old URLs over HTTP, every hop recorded."),
    "serve": ("prove", "The rules behind a local address, for a browser."),
    "runs": ("prove", "Rehearsals and replays, and one of them again."),
    "reconcile": ("prove", "Two runs side by side: better, worse, elsewhere."),
    "handover": ("live", "Which build was handed over, and which is live."),
    "triage": ("live", "What fails now: grouped, attributed, answered."),
    "retire": ("live", "Rules that nobody uses any more."),
    "history": ("live", "The journal of all changes."),
    "undo": ("live", "Take the last changes back."),
}
"""Command → its phase and its line in the help."""


class UprightGroup(click.Group):
    """A group whose commands are loaded late and listed by phase."""

    def list_commands(self, ctx: click.Context) -> list[str]:
        del ctx
        return list(COMMANDS)

    def get_command(self, ctx: click.Context, cmd_name: str) -> click.Command | None:
        del ctx
        if cmd_name not in COMMANDS:
            return None
        command: click.Command = import_module(f"upright_ledger.cli.{cmd_name}_command").command
        return command

    def format_commands(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        del ctx
        width = max(map(len, COMMANDS))
        for phase in PHASES:
            rows = [(name.ljust(width), text) for name, (of, text) in COMMANDS.items() if of == phase]
            with formatter.section(phase.capitalize()):
                formatter.write_dl(rows, col_spacing=3)


@click.group(
    cls=UprightGroup,
    invoke_without_command=True,
    context_settings={"help_option_names": ["-h", "--help"], "max_content_width": 100},
    epilog="Every command has its own help: upright COMMAND --help. Without a command, upright says where you are.",
)
@click.option(
    "--ledger",
    "folder",
    type=click.Path(path_type=Path, file_okay=False),
    envvar="UPRIGHT_LEDGER",
    default=Path(),
    help="The ledger's folder.  [default: this one]",
)
@click.option("--json", "as_json", is_flag=True, help="Without a command: where you are, as one JSON object.")
@click.version_option(__version__, prog_name="upright", message="%(prog)s %(version)s")
@click.pass_context
def cli(ctx: click.Context, folder: Path, as_json: bool) -> None:
    """Upright Ledger keeps the books of a site move: every old URL, its evidence, its answer, and the proof."""
    ctx.obj = folder
    if ctx.invoked_subcommand is None:
        from upright_ledger.cli.overview import show_overview

        show_overview(folder, as_json=as_json)


def main() -> None:
    """Run the command line. Exit codes: 0 fine, 1 faults were found, 2 wrong use, 3 could not be read."""
    # Tasks make millions of small objects that live to their end: looking for cycles among them again and again costs a fifth.
    gc.set_threshold(200_000, 20, 100)
    for stream in (sys.stdout, sys.stderr):
        # Old consoles know few characters; a name that cannot be shown must not end a command.
        if hasattr(stream, "reconfigure"):
            stream.reconfigure(errors="backslashreplace")
    try:
        sys.exit(cli(prog_name="upright", standalone_mode=False) or 0)
    except UprightError as error:
        from upright_ledger.cli.show import error_sentence

        error_sentence(error)
        sys.exit(error.exit_code)
    except click.ClickException as error:
        error.show()
        sys.exit(error.exit_code)
    except (click.Abort, KeyboardInterrupt):
        click.echo("upright: stopped. What was complete is kept.", err=True)
        sys.exit(130)
    except BrokenPipeError:
        # The reader of our output went away (head, less): nothing is wrong.
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        sys.exit(0)
    except OSError as error:  # whatever the system refuses: no room, no rights, a name that no file can have
        from upright_ledger.cli.show import error_sentence

        where = f"{error.filename}: " if error.filename else ""
        error_sentence(
            InputError(f"{where}{error.strerror or error}", "check the name, the permissions and the space left")
        )
        sys.exit(3)
