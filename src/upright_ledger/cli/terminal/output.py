"""How things are shown: tables, sentences and JSON, with everything hostile made visible."""

from __future__ import annotations

import io
import json
import textwrap
import unicodedata
from collections import Counter
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import contextmanager, redirect_stdout
from typing import Any, TypeVar

import click
from rich import box
from rich.console import Console
from rich.table import Table
from rich.text import Text

from upright_ledger.errors import UprightError

T = TypeVar("T")

GRAVE, DOUBTFUL, FAINT = "red", "magenta", "dim"
"""One restrained scale, legible on light and dark: what is wrong, what may be, what is only
said.
"""
STYLES = (GRAVE, DOUBTFUL, "")
"""Of what is graded: 0 grave, 1 doubtful, 2 well."""

SEVERITY_STYLE = {"error": GRAVE, "warning": DOUBTFUL, "note": FAINT}


def clean(text: str) -> str:
    """A text that cannot steer a terminal: control and direction characters are spelled out."""
    if text.isascii() and text.isprintable():
        return text
    return "".join(c if _is_harmless(c) else _spelled(c) for c in text)


def _is_harmless(char: str) -> bool:
    return char.isprintable() or (char == " ")


def _spelled(char: str) -> str:
    if unicodedata.category(char) == "Cs":
        return f"\\x{ord(char) & 0xFF:02x}"
    return char.encode("unicode_escape").decode()


class _Output(Console):
    """A console whose reader may go away: that is no fault, and `main` says nothing of it."""

    def on_broken_pipe(self) -> None:
        raise BrokenPipeError


def console() -> Console:
    """Standard output; no markup is read from texts."""
    return _Output(markup=False, highlight=False, emoji=False, soft_wrap=False)


def say(text: str = "", style: str = "") -> None:
    """Print one paragraph, wrapped between words; an address or a path is never broken."""
    out = console()
    body = clean(text)
    indent = " " * (len(body) - len(body.lstrip()) + 2)
    lines = textwrap.wrap(
        body,
        max(40, out.width - 1),
        subsequent_indent=indent if len(indent) > 2 else "",
        break_long_words=False,
        break_on_hyphens=False,
        drop_whitespace=True,
    )
    out.print(Text("\n".join(lines), style=style), soft_wrap=True)


def error_sentence(error: UprightError) -> None:
    """Say on standard error what went wrong and what to do."""
    click.echo(f"upright: {clean(error.message)}.", err=True)
    if error.hint:
        click.echo(f"  {clean(error.hint)}.", err=True)


def json_out(value: Any) -> None:
    """Print one JSON object."""
    click.echo(
        json.dumps(value, indent=2, ensure_ascii=False).encode("utf-8", "backslashreplace").decode()
    )


def number(value: float) -> str:
    """A figure for people: thousands apart, no needless decimals."""
    return f"{value:,.0f}" if value >= 10 or value == int(value) else f"{value:,.1f}"


def table(
    columns: Sequence[str],
    rows: Sequence[Sequence[object]],
    styles: Sequence[str] = (),
    title: str = "",
) -> None:
    """Print an aligned table: figures to the right, texts folded where they are too long.

    A column name that ends in ">" is a column of figures, one in "|" holds short words that are
    never broken. styles: one a row, for its first cell alone.
    """
    drawn = Table(
        box=box.SIMPLE_HEAD,
        title=title or None,
        title_justify="left",
        pad_edge=False,
        show_edge=False,
        header_style="bold",
    )
    for name in columns:
        if name.endswith(">"):
            drawn.add_column(name[:-1], justify="right", no_wrap=True)
        elif name.endswith("|"):
            drawn.add_column(name[:-1], no_wrap=True)
        else:
            drawn.add_column(name, overflow="fold")
    for n, row in enumerate(rows):
        cells = [_cell(c) for c in row]
        if n < len(styles):
            cells[0].stylize(styles[n])
        drawn.add_row(*cells)
    out = console()
    if out.is_terminal:
        out.print(drawn)
        return
    with out.capture() as capture:
        out.print(drawn)
    for line in capture.get().splitlines():
        click.echo(line.rstrip())


def that_fit(columns: Sequence[tuple[str, T]], beside: int) -> list[tuple[str, T]]:
    """The first of some columns of figures (name, anything) for which the terminal has room.
    beside: columns of the terminal that are taken already.
    """
    room = console().width - beside
    found = []
    for name, thing in columns:
        room -= max(len(name) + 2, _FIGURE_WIDTH)
        if room < 0:
            break
        found.append((name, thing))
    return found


def _cell(value: object) -> Text:
    """A figure, a text, or a list of texts that stand below each other."""
    if isinstance(value, int | float):
        return Text(number(value))
    if isinstance(value, list):
        return Text("\n".join(clean(str(v)) for v in value))
    return Text(clean(str(value)))


def some_of_each(rows: Sequence[T], kind: Callable[[T], str], each: int) -> list[T]:
    """The first rows of each kind: a few of many kinds say more than many of one."""
    seen: Counter[str] = Counter()
    found = []
    for row in rows:
        seen[kind(row)] += 1
        if seen[kind(row)] <= each:
            found.append(row)
    return found


def path(url: str, origins: Sequence[str]) -> str:
    """An address without its origin, where that is one of those everybody knows."""
    for origin in origins:
        if url.startswith(f"{origin}/"):
            return url[len(origin) :]
    return url


_FIGURE_WIDTH = 9
_HINTS = [True]


@contextmanager
def without_hints() -> Iterator[None]:
    """Leave out what to do next, while one command runs others."""
    _HINTS[0] = False
    try:
        yield
    finally:
        _HINTS[0] = True


def next_step(why: str, command: str) -> None:
    """Say what to do next."""
    if not _HINTS[0]:
        return
    say()
    say(f"Next: {why}.")
    click.echo(f"  {clean(command)}")


def plural(count: int, one: str, many: str = "") -> str:
    """ "1 entry", "1,940 entries"."""
    return f"{count:,} {one if count == 1 else many or one + 's'}"


@contextmanager
def progress_counts(label: str) -> Iterator[Callable[[int, int, Mapping[str, int]], None]]:
    """A progress bar on standard error, on a terminal only, with what was found so far beside it;
    yields a function of (done, total, name → count).
    """
    from rich.progress import (
        BarColumn,
        MofNCompleteColumn,
        Progress,
        TaskProgressColumn,
        TextColumn,
        TimeRemainingColumn,
    )

    error = Console(stderr=True)
    told = TextColumn("{task.description}", markup=False)
    columns = (
        TextColumn(label),
        BarColumn(bar_width=20),
        MofNCompleteColumn(),
        TaskProgressColumn(show_speed=True),
        TimeRemainingColumn(),
        told,
    )
    with Progress(*columns, console=error, disable=not error.is_terminal, transient=True) as bar:
        task = bar.add_task("", total=None)

        def tell(done: int, total: int, found: Mapping[str, int]) -> None:
            words = ", ".join(
                f"{n:,} {name}" for name, n in sorted(found.items(), key=lambda item: -item[1])[:4]
            )
            bar.update(task, completed=done, total=total, description=words)

        yield tell if error.is_terminal else lambda *_: None


@contextmanager
def progress_words(label: str) -> Iterator[Callable[[str], None]]:
    """What is being worked on, and for how long, on standard error of a terminal; yields a function
    of its name.
    """
    from rich.progress import Progress, SpinnerColumn, TextColumn, TimeElapsedColumn

    error = Console(stderr=True)
    columns = (
        SpinnerColumn(),
        TextColumn(label),
        TextColumn("{task.description}", markup=False),
        TimeElapsedColumn(),
    )
    with Progress(*columns, console=error, disable=not error.is_terminal, transient=True) as bar:
        task = bar.add_task("", total=None)
        yield lambda name: bar.update(task, description=clean(name))


@contextmanager
def swallowed(quiet: bool) -> Iterator[None]:
    """Keep standard output silent while a command runs inside another one that reports for both."""
    if not quiet:
        yield
        return
    with redirect_stdout(io.StringIO()):
        yield


def say_pruned(gone: Mapping[str, int]) -> None:
    """Say on standard error which details of logs went, since their time is over."""
    led, days = gone.get("referrers", 0), gone.get("lines", 0)
    told = [
        *([f"where requests of {plural(led, 'address', 'addresses')} came from"] if led else ()),
        *([f"the digests of the lines of {plural(days, 'day')}"] if days else ()),
    ]
    if told:
        click.echo(f"Let go, as [retention] says: {', and '.join(told)}.", err=True)
