"""Opening a ledger: its folder, its settings, its database, and one transaction a step."""

from __future__ import annotations

import getpass
import os
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from datetime import UTC, datetime
from functools import cached_property
from pathlib import Path
from typing import Any

from sqlalchemy import Connection, Engine, create_engine, event, func, insert, select, text, update
from sqlalchemy.engine import make_url
from sqlalchemy.exc import ArgumentError, NoSuchModuleError, SQLAlchemyError

from upright_ledger.core.folding import FoldingPolicy
from upright_ledger.errors import InputError, RefusedError, UsageError
from upright_ledger.ledger import schema
from upright_ledger.ledger.journal import Step
from upright_ledger.ledger.migrations import migrate
from upright_ledger.ledger.settings import FILE_NAME, Settings, read_settings

DATABASE_FILE = "ledger.db"
CACHE_KB = 200_000  # the indexes of a million entries; with less, their pages are written again and again
WAIT_SECONDS = 300  # a step of a million rows may be under way


def now() -> str:
    """The time in UTC, to the second, in ISO 8601."""
    return datetime.now(UTC).strftime("%Y-%m-%dT%H:%M:%SZ")


def author() -> str:
    """Who is at work: UPRIGHT_AUTHOR, or the name this computer knows."""
    named = os.environ.get("UPRIGHT_AUTHOR", "").strip()
    if named:
        return named
    try:
        return getpass.getuser()
    except (OSError, KeyError):
        return "unknown"


@dataclass
class Ledger:
    """An open ledger: a folder with settings, and the database they name."""

    folder: Path
    settings: Settings

    @cached_property
    def engine(self) -> Engine:
        url = self.settings.database or f"sqlite:///{self.folder / DATABASE_FILE}"
        return _engine(url)

    @contextmanager
    def reading(self) -> Iterator[Connection]:
        """A connection to look things up."""
        with (
            _database_errors(self.settings.database or str(self.folder / DATABASE_FILE)),
            self.engine.connect() as connection,
        ):
            yield connection

    @contextmanager
    def step(self, command: str, reason: str = "") -> Iterator[Step]:
        """One change, whole or not at all: a journal step in one transaction.

        A step that recorded nothing leaves no trace in the journal.
        """
        with (
            _database_errors(self.settings.database or str(self.folder / DATABASE_FILE)),
            self.engine.begin() as connection,
        ):
            if connection.dialect.name == "postgresql":
                # Steps run one after the other, as they do in SQLite; readers are not held up.
                connection.execute(text("LOCK TABLE steps IN EXCLUSIVE MODE"))
            done = connection.execute(
                insert(schema.steps).values(time=now(), author=author(), command=command, reason=reason, summary="")
            )
            step = Step(connection, int(done.inserted_primary_key[0]))  # type: ignore[index]
            yield step
            if step.is_empty:
                connection.execute(schema.steps.delete().where(schema.steps.c.id == step.id))
            else:
                connection.execute(
                    update(schema.steps).where(schema.steps.c.id == step.id).values(summary=step.summary)
                )

    @contextmanager
    def writing(self) -> Iterator[Connection]:
        """A transaction for derived data (runs, builds) that the journal does not carry."""
        with (
            _database_errors(self.settings.database or str(self.folder / DATABASE_FILE)),
            self.engine.begin() as connection,
        ):
            yield connection

    def stored_policy(self) -> tuple[int, FoldingPolicy]:
        """The folding policy under which the entries stand, and its number."""
        with self.reading() as connection:
            return stored_policy(connection)

    def policy_for(self, step: Step) -> int:
        """The number of the folding policy under which a step may name entries: that of the settings, put in force where there are no
        entries yet. Raises RefusedError where the entries stand under another one.
        """
        number, policy = stored_policy(step.connection)
        if policy == self.settings.policy:
            return number
        self.refuse_other_policy(step.connection)
        step.put("policies", {"number": number + 1, "settings": self.settings.policy.as_dict(), "since": now()})
        return number + 1

    def refuse_other_policy(self, connection: Connection) -> None:
        """Raises RefusedError where there are entries, and they stand under another folding policy than the settings say."""
        if stored_policy(connection)[1] != self.settings.policy and connection.scalar(
            select(func.count()).select_from(schema.entries)
        ):
            raise RefusedError(
                f"the folding settings in {self.folder / FILE_NAME} are not those under which the entries stand",
                "`upright fold --apply` folds all entries anew, as one step that can be undone",
            )


def stored_policy(connection: Connection) -> tuple[int, FoldingPolicy]:
    """The last folding policy, and its number."""
    row = connection.execute(select(schema.policies).order_by(schema.policies.c.number.desc()).limit(1)).one()
    return int(row.number), FoldingPolicy.from_dict({"version": 1, **row.settings})


def _engine(url: str) -> Engine:
    try:
        engine = create_engine(url)
    except (ArgumentError, NoSuchModuleError):
        told = url.rpartition("@")[2].partition("?")[0]
        raise UsageError(f"{told!r} is no database address", "such as postgresql+psycopg://user@host/name") from None
    except ModuleNotFoundError as error:
        raise UsageError(
            f"the driver {error.name} is not installed", "pip install 'upright-ledger[postgresql]'"
        ) from None
    if engine.dialect.name == "sqlite":
        _prepare_sqlite(engine)
    return engine


def refuse_password(url: str) -> None:
    """Raises UsageError for a database address that holds a password: it would stand in a file, and in the list of processes."""
    try:
        address = make_url(url)
    except ArgumentError:
        return
    if address.password or "password" in address.query:
        raise UsageError(
            "the address of the database holds a password",
            "leave it out: PostgreSQL takes it from ~/.pgpass or PGPASSWORD, and it is stored nowhere else",
        )


def _prepare_sqlite(engine: Engine) -> None:
    @event.listens_for(engine, "connect")
    def on_connect(connection: Any, _record: Any) -> None:
        connection.isolation_level = None  # the driver's own BEGIN comes too late to keep a step whole
        connection.execute("PRAGMA journal_mode = WAL")
        connection.execute("PRAGMA synchronous = NORMAL")
        connection.execute("PRAGMA foreign_keys = ON")
        connection.execute(f"PRAGMA cache_size = -{CACHE_KB}")
        connection.execute("PRAGMA temp_store = MEMORY")
        connection.execute(f"PRAGMA busy_timeout = {WAIT_SECONDS * 1000}")

    @event.listens_for(engine, "begin")
    def on_begin(connection: Connection) -> None:
        connection.exec_driver_sql("BEGIN")


@contextmanager
def _database_errors(where: str) -> Iterator[None]:
    try:
        yield
    except UnicodeEncodeError as error:  # what the command line brings may be any bytes
        raise UsageError(
            f"{error.object!r} holds bytes that are no UTF-8, and cannot be kept",
            "say it in UTF-8, as the language settings of the terminal should have it; nothing was changed",
        ) from None
    except SQLAlchemyError as error:
        cause = str(getattr(error, "orig", None) or error).splitlines()[0]
        shown = where.rpartition("@")[2]
        raise InputError(
            f"the ledger's database {shown} failed: {cause}", "nothing was changed; check the database and try again"
        ) from error


def create_ledger(folder: Path, settings_text: str) -> Ledger:
    """Make a new ledger in a folder. Raises RefusedError where there is one, InputError where it cannot be."""
    path = folder / FILE_NAME
    if path.exists():
        raise RefusedError(f"{folder} holds a ledger already", "choose another folder")
    made = not folder.exists()
    try:
        folder.mkdir(mode=0o700, parents=True, exist_ok=True)
        draft = folder / f".{FILE_NAME}"
        draft.touch(mode=0o600)
        draft.write_text(settings_text, encoding="utf-8")
    except OSError as error:
        raise InputError(
            f"{folder} cannot be made: {error.strerror or error}", "check the name and the permissions"
        ) from None
    try:
        ledger = Ledger(folder, read_settings(draft))
        if ledger.engine.dialect.name == "sqlite":
            Path(ledger.engine.url.database or "").touch(
                mode=0o600
            )  # what it keeps beside this file takes its permissions
        with ledger.writing() as connection:
            migrate(connection)
            _refuse_used(connection)
            values = {"number": 1, "settings": ledger.settings.policy.as_dict(), "since": now()}
            connection.execute(insert(schema.policies).values(**values))
            opened = {"time": now(), "author": author(), "command": "open", "reason": "", "summary": "a new ledger"}
            connection.execute(insert(schema.steps).values(**opened))
        draft.replace(path)  # last: without settings there is no ledger
    except BaseException:
        draft.unlink(missing_ok=True)
        if made:
            for leftover in folder.glob(f"{DATABASE_FILE}*"):
                leftover.unlink()
            folder.rmdir()
        raise
    return ledger


def _refuse_used(connection: Connection) -> None:
    if connection.scalar(select(func.count()).select_from(schema.policies)):
        raise RefusedError("that database holds a ledger already", "name an empty database")


def open_ledger(folder: Path) -> Ledger:
    """Open the ledger in a folder, bringing its schema up to date. Raises UsageError where there is none."""
    path = folder / FILE_NAME
    if not path.is_file():
        raise UsageError(
            f"there is no ledger in {'this folder' if folder == Path() else folder}",
            "make one with `upright open DIR --old URL --new URL`, or name one with --ledger DIR",
        )
    ledger = Ledger(folder, read_settings(path))
    with ledger.writing() as connection:
        migrate(connection)
    return ledger
