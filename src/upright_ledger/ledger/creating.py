"""Making a new ledger: its folder, its settings, and its database, which may lie elsewhere. What
was cut off is begun again.
"""

from __future__ import annotations

import json
from contextlib import closing, suppress
from pathlib import Path

from upright_ledger.errors import InputError, RefusedError, UprightError, UsageError
from upright_ledger.ledger.clock import now
from upright_ledger.ledger.db.connection import Connection
from upright_ledger.ledger.db.databases import database_for, errors_of, one_ledger_at
from upright_ledger.ledger.db.policies import shared_settings
from upright_ledger.ledger.db.versions import NEWEST, schema_number
from upright_ledger.ledger.lines import keeping
from upright_ledger.ledger.migrations.numbered import migrate
from upright_ledger.ledger.store import DATABASE_FILE, STEP, Ledger, open_ledger
from upright_ledger.processes import lock
from upright_ledger.settings.file import FILE_NAME, joined_settings_text
from upright_ledger.settings.reading import read_settings
from upright_ledger.settings.shared import TABLES, tables_in


def create_ledger(folder: Path, settings_text: str) -> Ledger:
    """Make a new ledger in a folder. Raises RefusedError where there is one, InputError where it
    cannot be.
    """
    path = folder / FILE_NAME
    if path.exists():
        raise RefusedError(f"{folder} holds a ledger already", "choose another folder")
    made = not folder.exists()
    draft, began_in = _drafted(folder, settings_text)
    try:
        ledger = Ledger(folder, read_settings(draft))
        with errors_of(ledger.where):
            ledger.database.lay_out()
        with ledger.writing() as connection:
            migrate(connection)
            _refuse_used(connection, begun=began_in == ledger.settings.database)
            policy = (1, json.dumps(ledger.settings.policy.as_dict()), now())
            connection.load("policies", ("number", "settings", "since"), [policy])
            opened = (1, now(), connection.author(), "open", "", "a new ledger")
            connection.load("steps", STEP, [opened])
            if ledger.database.is_shared:
                tables = tables_in(draft)
                rows = [(n, json.dumps(tables[name])) for n, name in enumerate(TABLES)]
                connection.load("shared", ("number", "value"), rows)
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


def join_ledger(folder: Path, address: str) -> Ledger:
    """Take part in a team's ledger: make a folder with the settings that the team has together.
    Raises RefusedError where the folder holds a ledger, UsageError where the database holds none,
    or several and the address names none of them.
    """
    path = folder / FILE_NAME
    if path.exists():
        raise RefusedError(f"{folder} holds a ledger already", "choose another folder")
    address = one_ledger_at(address)
    database = database_for(address, folder / DATABASE_FILE)
    with errors_of(address), closing(database.open()) as connection:
        present = schema_number(connection)
        if not present:
            raise UsageError("that database holds no ledger", "make one, without --join")
        if present < NEWEST:
            raise UsageError(
                "the ledger there was made by an older version",
                "any command in the folder of somebody who has it brings it up to date",
            )
        shared = shared_settings(connection)
    database.dispose()
    if shared is None:
        raise UsageError(
            "the settings of that ledger are its owner's alone",
            "`upright fold --apply` in the owner's folder shares them",
        )
    draft, _ = _drafted(folder, joined_settings_text(folder.resolve().name, address, shared))
    draft.replace(path)
    return open_ledger(folder)


def _drafted(folder: Path, settings_text: str) -> tuple[Path, str | None]:
    """The folder, and the file of settings to be in it; see `_only_draft`. Raises InputError where
    they cannot be made.
    """
    try:
        folder.mkdir(mode=0o700, parents=True, exist_ok=True)
        draft, began_in = _only_draft(folder)
        draft.write_text(settings_text, encoding="utf-8")
    except OSError as error:
        raise InputError(
            f"{folder} cannot be made: {error.strerror or error}",
            "check the name and the permissions",
        ) from None
    return draft, began_in


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
        raise RefusedError(
            "that database holds a ledger already",
            "take part in it with --join, or name another place in the database: ?schema=NAME",
        )
    connection.run("DELETE FROM shared")
    connection.run("DELETE FROM steps")
    connection.run("DELETE FROM policies")
