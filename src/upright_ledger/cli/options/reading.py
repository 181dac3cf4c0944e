"""Options that say how files are to be read."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING, Any

import click

from upright_ledger.cli.options.shared import bundle
from upright_ledger.cli.terminal import output
from upright_ledger.errors import UsageError

if TYPE_CHECKING:
    from upright_ledger.formats.records import ReadOptions

encoding_option = click.option(
    "--encoding", default="", help="The files' encoding, such as cp1252.  [default: UTF-8]"
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


def read_options(
    columns: tuple[str, ...],
    encoding: str,
    workbook_sheet: str = "",
    kind: str = "",
    host: str = "",
    log_format: str = "",
    *,
    pairs: bool = False,
) -> ReadOptions:
    """What the options say of files, or of sheets of pairs; raises UsageError for a --column that
    cannot be.
    """
    from upright_ledger.formats.records import ReadOptions

    meanings = _meanings(pairs=pairs) if columns else ()
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
    if log_format:
        from upright_ledger.formats.logs.forms.given_format import given_format

        given_format(log_format)  # what is wrong with it is said before anything is read
        kind = kind or "access-log"
    return ReadOptions(
        encoding, chosen, sheet=workbook_sheet, kind=kind, host=host, log_format=log_format
    )


def _meanings(*, pairs: bool) -> tuple[str, ...]:
    from upright_ledger.formats.tables import column_names
    from upright_ledger.formats.tables import pairs as of_pairs

    return of_pairs.MEANINGS if pairs else column_names.MEANINGS


_KIND = click.option(
    "--kind",
    default="",
    help="What the files are, such as table or access-log.  [default: recognised]",
)
_HOST = click.option(
    "--host",
    default="",
    help="The old host of paths that name none, and of a server's rules; '*': all.  [default: the "
    "first --old]",
)

_LOG_FORMAT = click.option(
    "--log-format",
    default="",
    metavar="FORMAT",
    help="Of logs, as the configuration of Apache (%h %l %u %t ...) or nginx ($remote_addr ...) "
    "has it.  [default: recognised]",
)

reading_options = bundle(
    "reading", read_options, _KIND, _LOG_FORMAT, column_option, encoding_option, _HOST
)
"""How files of old URLs are to be read."""

workbook_options = bundle(
    "reading", read_options, sheet_option, _KIND, _LOG_FORMAT, column_option, encoding_option, _HOST
)
"""As `reading_options`, of files that may be workbooks."""


def _pair_options(**said: Any) -> ReadOptions | None:
    return read_options(**said, pairs=True) if any(said.values()) else None


pair_options = bundle("reading", _pair_options, column_option, sheet_option, encoding_option)
"""How sheets of pairs are to be read; None where nothing is said: most answers are of no sheet."""


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
