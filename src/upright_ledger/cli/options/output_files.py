"""Options that name files to be written."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import click

from upright_ledger.formats.files import outputs


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
