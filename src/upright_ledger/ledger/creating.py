"""Making a new ledger: its folder, its settings, and its database, which may lie elsewhere. What
was cut off is begun again.
"""

from __future__ import annotations

import json
from contextlib import suppress
from pathlib import Path

from upright_ledger.errors import InputError, RefusedError, UprightError
from upright_ledger.ledger.clock import author, now
from upright_ledger.ledger.db.connection import Connection
from upright_ledger.ledger.lines import keeping
from upright_ledger.ledger.migrations.numbered import migrate
from upright_ledger.ledger.store import DATABASE_FILE, STEP, Ledger
from upright_ledger.processes import lock
from upright_ledger.settings.file import FILE_NAME
from upright_ledger.settings.reading import read_settings


def create_ledger(folder: Path, settings_text: str) -> Ledger:
    """Make a new ledger in a folder. Raises RefusedError where there is one, InputError where it
    cannot be.
    """
    path = folder / FILE_NAME
    if path.exists():
        raise RefusedError(f"{folder} holds a ledger already", "choose another folder")
    made = not folder.exists()
    try:
        folder.mkdir(mode=0o700, parents=True, exist_ok=True)
        draft, began_in = _only_draft(folder)
        draft.write_text(settings_text, encoding="utf-8")
    except OSError as error:
        raise InputError(
            f"{folder} cannot be made: {error.strerror or error}",
            "check the name and the permissions",
        ) from None
    try:
        ledger = Ledger(folder, read_settings(draft))
        ledger.database.lay_out()
        with ledger.writing() as connection:
            migrate(connection)
            _refuse_used(connection, begun=began_in == ledger.settings.database)
            policy = (1, json.dumps(ledger.settings.policy.as_dict()), now())
            connection.load("policies", ("number", "settings", "since"), [policy])
            opened = (1, now(), author(), "open", "", "a new ledger")
            connection.load("steps", STEP, [opened])
            keeping.restate(connection, ledger.settings)
    except BaseException:
        draft.unlink(missing_ok=True)
        if made:
            for leftover in folder.glob(f"{DATABASE_FILE}*"):
                leftover.unlink()
            folder.rmdir()
        raise
    draft.replace(path)  # last: without settings there is no ledger
    return ledger


def _only_draft(folder: Path) -> tuple[Path, str | None]:
    """The file of settings to be, which nobody else is at work on until this process ends, and the
    database that somebody who was cut off began in.

    Raises RefusedError where somebody is at it.
    """
    draft = folder / f".{FILE_NAME}"
    began_in = None
    if draft.exists():
        began_in = ""
        with suppress(UprightError):
            began_in = read_settings(draft).database
    draft.touch(mode=0o600)
    if not lock(draft):
        raise RefusedError(
            f"somebody is making a ledger in {folder}", "choose another folder, or wait"
        )
    if (folder / FILE_NAME).exists():  # made in the meantime
        draft.unlink()
        raise RefusedError(f"{folder} holds a ledger already", "choose another folder")
    if began_in is not None:  # without settings there was no ledger
        for leftover in folder.glob(f"{DATABASE_FILE}*"):
            leftover.unlink()
    return draft, began_in


def _refuse_used(connection: Connection, *, begun: bool) -> None:
    """Raises RefusedError for a database that holds a ledger, but for one that was only begun from
    here; it is emptied.
    """
    if connection.value("SELECT 1 FROM policies LIMIT 1") is None:
        return
    steps = connection.value("SELECT COUNT(*) FROM steps")
    if not begun or steps != 1:
        raise RefusedError("that database holds a ledger already", "name an empty database")
    connection.run("DELETE FROM steps")
    connection.run("DELETE FROM policies")
