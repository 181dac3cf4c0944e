"""Options that several commands share."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from functools import wraps
from pathlib import Path
from typing import Any, TypeVar, cast

import click

F = TypeVar("F", bound=Callable[..., Any])

json_option = click.option("--json", "as_json", is_flag=True, help="Print one JSON object instead.")
files_argument = click.argument("paths", nargs=-1, required=True, type=click.Path(path_type=Path))
paths_argument = click.argument("paths", nargs=-1, required=True)
optional_paths_argument = click.argument("paths", nargs=-1)


def choice_of(values: Iterable[str]) -> click.Choice[str]:
    """One of these words, as they are written."""
    return click.Choice([str(value) for value in values])


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
