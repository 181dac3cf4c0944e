"""Options that several commands share."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from functools import partial, wraps
from pathlib import Path
from typing import Any, TypeVar, cast

import click

from upright_ledger.cli.terminal import output
from upright_ledger.errors import UsageError
from upright_ledger.formats.files import outputs
from upright_ledger.formats.records import ReadOptions
from upright_ledger.formats.tables.column_mapping import MEANINGS
from upright_ledger.formats.tables.pairs import MEANINGS as PAIR_MEANINGS

F = TypeVar("F", bound=Callable[..., Any])

json_option = click.option("--json", "as_json", is_flag=True, help="Print one JSON object instead.")
encoding_option = click.option(
    "--encoding", default="", help="The files' encoding, such as cp1252.  [default: UTF-8]"
)
files_argument = click.argument("paths", nargs=-1, required=True, type=click.Path(path_type=Path))
paths_argument = click.argument("paths", nargs=-1, required=True)
optional_paths_argument = click.argument("paths", nargs=-1)


def choice_of(values: Iterable[str]) -> click.Choice[str]:
    """One of these words, as they are written."""
    return click.Choice([str(value) for value in values])


class _OutputFile(click.Path):
    """A file that a command writes. One that was there and is not ours is refused before any work
    begins.
    """

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> Any:
        path: Path = super().convert(value, param, ctx)  # type: ignore[assignment]
        if ctx is not None:
            outputs.begin(ctx.obj)
            if path != ON_SCREEN:
                outputs.refuse_foreign(path)
        return path


ON_SCREEN = Path("-")
FILE = _OutputFile(path_type=Path, dir_okay=False)
"""A file that a command writes; where a command has an option of this type, it has `force_option`,
too.
"""


def _force(_ctx: click.Context, _param: click.Parameter, value: bool) -> None:
    if value:
        outputs.force()


force_option = click.option(
    "--force",
    is_flag=True,
    is_eager=True,  # before the files are looked at
    expose_value=False,
    callback=_force,
    help="Write over files that are there and are not ours.",
)

by_option = click.option(
    "--by",
    type=click.Choice(["section", "source", "site", "day"]),
    default=None,
    help="Say how much of each is well, too.",
)


sheet_option = click.option(
    "--sheet",
    "workbook_sheet",
    default="",
    metavar="NAME",
    help="Of a workbook, this sheet alone.  [default: all that hold addresses]",
)
column_option = click.option(
    "--column",
    "columns",
    multiple=True,
    metavar="MEANING=HEADER",
    help="Settle a column, as in url='Page address'; MEANING= alone switches it off.",
)


def bundle(keyword: str, make: Callable[..., Any], *options: Callable[[F], F]) -> Callable[[F], F]:
    """Put options on a command, which takes what `make` makes of their values as one keyword."""

    def decorate(command: F) -> F:
        def carrier() -> None:
            """Carries the parameters of the options."""

        for option in reversed(options):
            option(carrier)
        carried: list[click.Parameter] = carrier.__click_params__  # type: ignore[attr-defined]
        names = [p.name for p in carried if p.expose_value and p.name]

        @wraps(command)
        def bundled(*args: Any, **given: Any) -> Any:
            own = {name: given.pop(name) for name in names}
            return command(*args, **given, **{keyword: make(**own)})

        others = getattr(command, "__click_params__", [])
        bundled.__click_params__ = [*others, *carried]  # type: ignore[attr-defined]
        return cast("F", bundled)

    return decorate


def read_options(
    columns: tuple[str, ...],
    encoding: str,
    workbook_sheet: str = "",
    kind: str = "",
    host: str = "",
    meanings: tuple[str, ...] = MEANINGS,
) -> ReadOptions:
    """What the options say of files; raises UsageError for a --column that cannot be."""
    chosen = {}
    for text in columns:
        meaning, mark, header = text.partition("=")
        if not mark:
            raise UsageError(
                f"--column {text} names no header", "write it as in --column url='Page address'"
            )
        meaning = meaning.strip().replace("_", " ")
        if meaning not in meanings:
            raise UsageError(
                f"--column {text}: no column means {meaning!r}",
                f"choose one of: {', '.join(meanings)}",
            )
        chosen[meaning] = header
    return ReadOptions(encoding, chosen, sheet=workbook_sheet, kind=kind, host=host)


_KIND = click.option(
    "--kind",
    default="",
    help="What the files are, such as table or access-log.  [default: recognised]",
)
_HOST = click.option(
    "--host",
    default="",
    help="The old host of paths that name none.  [default: the first --old]",
)

reading_options = bundle("reading", read_options, _KIND, column_option, encoding_option, _HOST)
"""How files of old URLs are to be read."""

workbook_options = bundle(
    "reading", read_options, sheet_option, _KIND, column_option, encoding_option, _HOST
)
"""As `reading_options`, of files that may be workbooks."""

pair_options = bundle(
    "reading",
    partial(read_options, meanings=PAIR_MEANINGS),
    column_option,
    sheet_option,
    encoding_option,
)
"""How sheets of pairs are to be read."""


def show_columns(
    name: str, mapping: Mapping[str, str], unused: Sequence[str], notes: Sequence[str] = ()
) -> None:
    """Say which columns of a sheet were taken for what, and which say nothing here."""
    if mapping:
        output.say(
            f"{name}: columns "
            f"{', '.join(f'{meaning} = {header}' for meaning, header in mapping.items())}"
        )
    if unused:
        more = f" and {len(unused) - 8:,} more" if len(unused) > 8 else ""
        output.say(f"{name}: not used: {', '.join(unused[:8])}{more}")
    for note in notes:
        output.say(f"{name}: {note}")
