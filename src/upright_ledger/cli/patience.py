"""Doing a command again where the connection to the database was lost before anything was posted or
said.
"""

from __future__ import annotations

import sys
import time
from collections.abc import Callable
from typing import Any

import click

from upright_ledger.errors import LostError

_REPEATABLE = frozenset(
    [
        "balance",
        "check",
        "decide",
        "entries",
        "fold",
        "gather",
        "history",
        "match",
        "rehearse",
        "runs",
        "stock",
        "undo",
    ]
)
"""Commands that do nothing but change and read the ledger."""
_PAUSES = (1.0, 4.0)  # seconds before it is tried again
_OPENING = "upright_ledger.cli.opening"
"""Loaded where a ledger was opened."""


def patiently(run: Callable[[], int], name: str) -> int:
    """Run a command of that name; returns its exit code. What standard input gave once it cannot
    give again.
    """
    can_be_repeated = name in _REPEATABLE and "-" not in sys.argv
    for pause in _PAUSES if can_be_repeated else ():
        said = _Said(sys.stdout)
        try:
            return run()
        except LostError as error:
            if said.anything or sys.modules[_OPENING].has_posted():
                raise
            told = f"upright: {error.message}; nothing was posted, and it is tried again ..."
            click.echo(told, err=True)
            time.sleep(pause)
    return run()


class _Said:
    """Notes whether anything is written to a stream."""

    def __init__(self, stream: Any) -> None:
        self.anything = False
        self._write = stream.write
        try:
            stream.write = self._noted
        except AttributeError:  # a stream of another kind
            self.anything = True

    def _noted(self, text: str) -> int:
        self.anything = self.anything or bool(text)
        return int(self._write(text))
