"""Options that several commands share."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any, TypeVar

import click

from upright_ledger.errors import UsageError
from upright_ledger.formats.columns import MEANINGS
from upright_ledger.formats.records import ReadOptions

F = TypeVar("F", bound=Callable[..., Any])

json_option = click.option("--json", "as_json", is_flag=True, help="Print one JSON object instead.")
encoding_option = click.option("--encoding", default="", help="The files' encoding, such as cp1252.  [default: UTF-8]")
files_argument = click.argument("paths", nargs=-1, required=True, type=click.Path(path_type=Path))
paths_argument = click.argument("paths", nargs=-1, required=True)
optional_paths_argument = click.argument("paths", nargs=-1)


FILE = click.Path(path_type=Path, dir_okay=False)
"""A file that a command writes."""

out_option = click.option(
    "--out",
    type=FILE,
    metavar="FILE",
    help="Keep one row a URL: .csv, .xlsx (with the hops), .jsonl, or .xml for a build server.",
)
by_option = click.option(
    "--by",
    type=click.Choice(["section", "source", "site", "day"]),
    default=None,
    help="Say how much of each is well, too.",
)
hops_option = click.option(
    "--hops",
    type=FILE,
    metavar="FILE.csv",
    help="Keep one row a hop; - shows them here.",
)


def reading_options(command: F) -> F:
    """--kind, --column, --encoding and --host: how files of old URLs are to be read."""
    for option in (
        click.option("--host", default="", help="The old host of paths that name none.  [default: the first --old]"),
        encoding_option,
        click.option(
            "--column",
            "columns",
            multiple=True,
            metavar="MEANING=HEADER",
            help="Settle a column, as in url='Page address'.",
        ),
        click.option(
            "--kind", default="", help="What the files are, such as table or access-log.  [default: recognised]"
        ),
    ):
        command = option(command)
    return command


def read_options(columns: tuple[str, ...], encoding: str) -> ReadOptions:
    """Read --column values; raises UsageError for one without "="."""
    chosen = {}
    for text in columns:
        meaning, mark, header = text.partition("=")
        if not mark or not header:
            raise UsageError(f"--column {text} names no header", "write it as in --column url='Page address'")
        meaning = meaning.strip().replace("_", " ")
        if meaning not in MEANINGS:
            raise UsageError(f"--column {text}: no column means {meaning!r}", f"choose one of: {', '.join(MEANINGS)}")
        chosen[meaning] = header
    return ReadOptions(encoding, chosen)
