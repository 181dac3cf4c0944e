"""Empty ledgers for tests of many thousand small ones."""

from __future__ import annotations

import shutil
import sqlite3
from contextlib import closing
from functools import cache
from pathlib import Path
from tempfile import mkdtemp
from typing import Any

from upright_ledger.app.begin.open_ledger import open_new
from upright_ledger.ledger.store import DATABASE_FILE, Ledger, open_ledger
from upright_ledger.settings.file import FILE_NAME


@cache
def _folder() -> Path:
    return Path(mkdtemp(prefix="upright-ledgers-"))


@cache
def _empty(old: tuple[str, ...], new: tuple[str, ...], how: tuple[tuple[str, Any], ...]) -> Path:
    folder = Path(mkdtemp(dir=_folder())) / "empty"
    open_new(folder, old, new, **dict(how))
    settings = (
        folder / FILE_NAME
    )  # writing them with all their comments is what most of an example's time would go to
    settings.write_text(
        "\n".join(x for x in settings.read_text().splitlines() if x and not x.startswith("#"))
        + "\n"
    )
    return folder


_KEPT: dict[str, Ledger] = {}


def fresh_ledger(old: list[str], new: list[str], name: str = "one", **how: Any) -> Ledger:
    """An empty ledger, until one of the same name is asked for: its connection is kept, and all
    that it holds replaced.

    how: what `open_new` takes besides.
    """
    empty = _empty(tuple(old), tuple(new), tuple(how.items()))
    if name not in _KEPT:
        _KEPT[name] = open_ledger(Path(shutil.copytree(empty, _folder() / name)))
    ledger = _KEPT[name]
    ledger.look_anew()
    ledger.known = None
    shutil.copy(empty / FILE_NAME, ledger.folder)
    ledger.read_settings()
    held = closing(ledger.database.open())
    with closing(sqlite3.connect(empty / DATABASE_FILE)) as database, held as connection:
        database.backup(connection.driver)
    return ledger
