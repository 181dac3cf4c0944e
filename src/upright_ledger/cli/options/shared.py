"""Options that several commands share."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from functools import wraps
from pathlib import Path
from typing import Any, TypeVar, cast

import click

from upright_ledger.formats.files import outputs

F = TypeVar("F", bound=Callable[..., Any])

json_option = click.option("--json", "as_json", is_flag=True, help="Print one JSON object instead.")
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
