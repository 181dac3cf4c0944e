"""The `upright` command and the list of its commands. A command's module loads when it is asked
for.
"""

from __future__ import annotations

import errno
import gc
import os
import signal
import sys
from collections.abc import Callable
from contextlib import suppress
from importlib import import_module
from pathlib import Path

import click

from upright_ledger import __version__
from upright_ledger.cli.patience import patiently
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
    "launch": ("live", "Go or no-go: all that must hold, in one look."),
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
        command: click.Command = import_module(
            f"upright_ledger.cli.commands.{COMMANDS[cmd_name][0]}.{cmd_name}"
        ).command
        return command

    def format_commands(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        del ctx
        width = max(map(len, COMMANDS))
        for phase in PHASES:
            rows = [
                (name.ljust(width), text) for name, (of, text) in COMMANDS.items() if of == phase
            ]
            with formatter.section(phase.capitalize()):
                formatter.write_dl(rows, col_spacing=3)


@click.group(
    cls=UprightGroup,
    invoke_without_command=True,
    context_settings={"help_option_names": ["-h", "--help"], "max_content_width": 100},
    epilog=(
        "Every command has its own help: upright COMMAND --help. Without a command, upright says "
        "where you are."
    ),
)
@click.option(
    "--ledger",
    "folder",
    type=click.Path(path_type=Path, file_okay=False),
    envvar="UPRIGHT_LEDGER",
    default=Path(),
    help="The ledger's folder.  [default: this one]",
)
@click.option(
    "--json", "as_json", is_flag=True, help="Without a command: where you are, as one JSON object."
)
@click.version_option(__version__, prog_name="upright", message="%(prog)s %(version)s")
@click.pass_context
def cli(ctx: click.Context, folder: Path, as_json: bool) -> None:
    """Upright Ledger keeps the books of a site move: every old URL, its evidence, its answer, and
    the proof.
    """
    ctx.obj = folder
    if ctx.invoked_subcommand is None:
        from upright_ledger.cli.screens.overview import show_overview

        show_overview(folder, as_json=as_json)


LEAST_MEMORY = 768 << 20
"""Address space, in bytes: libraries reserve much more than they use."""

_OPENING = "upright_ledger.cli.opening"
"""Loaded where a ledger was opened."""

STOPPED = 130
"""The exit code of what was stopped from the keyboard; by another signal, 128 and its number."""


class _EndedError(KeyboardInterrupt):
    """The system, or somebody, asked this process to end. number: of the signal."""

    def __init__(self, number: int) -> None:
        super().__init__()
        self.number = number


def _ended(number: int, _frame: object) -> None:
    for other in _ASKED_TO_END:  # to be asked twice is no reason to leave things half done
        signal.signal(other, signal.SIG_IGN)
    raise _EndedError(number)


_ASKED_TO_END = [getattr(signal, n) for n in ("SIGTERM", "SIGHUP") if hasattr(signal, n)]


def main() -> None:
    """Run the command line. Exit codes: 0 fine, 1 faults were found, 2 wrong use, 3 could not be
    read.
    """
    # Tasks make millions of small objects that live to their end: looking for cycles among them
    # again and again costs a fifth.
    gc.set_threshold(200_000, 20, 100)
    if sys.stdin is None:  # closed by whoever started this
        sys.stdin = Path(os.devnull).open(encoding="utf-8")  # noqa: SIM115
    if sys.stdout is None:
        sys.stdout = Path(os.devnull).open("w", encoding="utf-8")  # noqa: SIM115
    for stream in (sys.stdout, sys.stderr):
        # Old consoles know few characters; a name that cannot be shown must not end a command.
        if hasattr(stream, "reconfigure"):
            stream.reconfigure(errors="backslashreplace")
    for number in _ASKED_TO_END:
        if signal.getsignal(number) is not signal.SIG_IGN:  # as nohup has it
            signal.signal(number, _ended)
    code = _said(lambda: patiently(_run, _asked()))
    if code >= 2 and _OPENING in sys.modules:
        sys.modules[_OPENING].tell_what_stands()
    code = max(code, _said(_flush))
    sys.exit(code)


def _refuse_too_little_memory() -> None:
    """Raises InputError where the system allows so little memory that libraries end the process in
    their own ways.
    """
    try:
        import resource
    except ImportError:  # no such limits here
        return
    limit = resource.getrlimit(resource.RLIMIT_AS)[0]
    if limit != resource.RLIM_INFINITY and limit < LEAST_MEMORY:
        raise InputError(
            f"the system allows this process {limit >> 20} MB of address space, and "
            f"{LEAST_MEMORY >> 20} MB are needed",
            "raise the limit (ulimit -v)",
        )


def _run() -> int:
    """The command that was asked for; click's own `main` would take a reader that went away for a
    fault.
    """
    _refuse_too_little_memory()
    if "_UPRIGHT_COMPLETE" in os.environ:
        cli(prog_name="upright")
    try:
        with cli.make_context("upright", sys.argv[1:]) as context:
            cli.invoke(context)
    except click.exceptions.Exit as end:
        return end.exit_code
    return 0


def _asked() -> str:
    """The name of the command, or empty."""
    return next((word for word in sys.argv[1:] if word in COMMANDS), "")


def _flush() -> int:
    sys.stdout.flush()
    return 0


def _said(work: Callable[[], int]) -> int:
    """Do something, and say in words what goes wrong; returns the exit code."""
    try:
        return work()
    except UprightError as error:
        return _fault(error)
    except click.ClickException as error:
        error.show()
        return error.exit_code
    except (click.Abort, KeyboardInterrupt) as error:
        click.echo("upright: stopped. What was complete is kept.", err=True)
        return 128 + error.number if isinstance(error, _EndedError) else STOPPED
    except BrokenPipeError:
        # The reader of our output went away (head, less): nothing is wrong.
        _let_output_go()
        return 0
    except MemoryError:
        return _fault(
            InputError(
                "there is not enough memory for this",
                "give it more, or less to do at once; nothing is half done",
            )
        )
    except (
        OSError
    ) as error:  # whatever the system refuses: no room, no rights, a name that no file can have
        if error.errno in {errno.ENOSPC, errno.EIO, errno.EFBIG}:
            _let_output_go()
        where = f"{error.filename}: " if error.filename else ""
        return _fault(
            InputError(
                f"{where}{error.strerror or error}",
                "check the name, the permissions and the space left",
            )
        )
    except Exception:
        # Nobody foresaw it. A ledger that is damaged may be why.
        damaged = sys.modules[_OPENING].damage() if _OPENING in sys.modules else None
        if damaged is None:
            raise
        return _fault(damaged)


def _fault(error: UprightError) -> int:
    from upright_ledger.cli.terminal.output import error_sentence

    error_sentence(error)
    return error.exit_code


def _let_output_go() -> None:
    """What is left of the output goes nowhere, so that the end of the process does not stumble over
    it.
    """
    with suppress(OSError, ValueError):
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
