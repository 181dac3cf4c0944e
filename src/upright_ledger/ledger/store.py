"""Opening a ledger: its folder, its settings, its database, and one transaction a step."""

from __future__ import annotations

import getpass
import os
import sqlite3
import threading
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from dataclasses import dataclass, field
from datetime import UTC, datetime
from functools import cached_property
from pathlib import Path
from typing import Any
from urllib.parse import quote

from sqlalchemy import Connection, Engine, create_engine, event, func, insert, select, text, update
from sqlalchemy.engine import URL, make_url
from sqlalchemy.exc import ArgumentError, NoSuchModuleError, SQLAlchemyError

from upright_ledger.core.folding import FoldingPolicy
from upright_ledger.errors import InputError, RefusedError, UsageError
from upright_ledger.ledger import schema
from upright_ledger.ledger.journal import Step, last_step
from upright_ledger.ledger.migrations import NEWEST, migrate, schema_number
from upright_ledger.ledger.settings import FILE_NAME, Settings, drafted_policy, put_draft, read_settings

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


_WRITES = "upright_writes"
_READING: Mapping[str, Mapping[str, Any]] = {"sqlite": {}, "postgresql": {"isolation_level": "REPEATABLE READ"}}
"""What makes all statements of a connection see one state of the database."""


@dataclass(frozen=True)
class _View:
    """A state of the ledger that is being read. step: the last step in it."""

    connection: Connection
    step: int


@dataclass
class Ledger:
    """An open ledger: a folder with settings, and the database they name."""

    folder: Path
    settings: Settings
    left_alone: int = 0
    """Entries that were not answered, as they changed after they were read."""
    known: int | None = None
    """The last step that there was when it was opened, or the last one of its own."""
    _views: dict[tuple[int, int], _View] = field(default_factory=dict, repr=False)

    @cached_property
    def engine(self) -> Engine:
        own = URL.create("sqlite", database=str(self.folder / DATABASE_FILE))
        return _engine(self.settings.database or own)

    @contextmanager
    def reading(self) -> Iterator[Connection]:
        """A connection to look things up. All that a command reads between two changes of its own is one state of the ledger."""
        with _database_errors(self.where):
            try:
                yield self._view().connection
            except SQLAlchemyError:
                self.look_anew()
                raise

    def _view(self) -> _View:
        key = (os.getpid(), threading.get_ident())
        if key not in self._views:
            connection = self.engine.connect().execution_options(**_READING[self.engine.dialect.name])
            self._views[key] = _View(connection, last_step(connection))
        return self._views[key]

    def look_anew(self) -> None:
        """Let what is read from now on be the state that the ledger has then."""
        view = self._views.pop((os.getpid(), threading.get_ident()), None)
        if view is not None:
            view.connection.close()

    @contextmanager
    def step(self, command: str, reason: str = "", *, regardless: bool = False) -> Iterator[Step]:
        """One change, whole or not at all: a journal step in one transaction.

        A step that recorded nothing leaves no trace in the journal. What was read before it counts as it was read: entries that
        somebody else answered meanwhile are left alone (`Step.meanwhile`), unless it goes on regardless of what was read.
        """
        view = self._views.get((os.getpid(), threading.get_ident()))
        since = None if regardless else view.step if view is not None else self.known
        try:
            with self._writing() as connection:
                if connection.dialect.name == "postgresql":
                    # Steps run one after the other, as they do in SQLite; readers are not held up.
                    connection.execute(text("LOCK TABLE steps IN EXCLUSIVE MODE"))
                before = last_step(connection)
                done = connection.execute(
                    insert(schema.steps).values(time=now(), author=author(), command=command, reason=reason, summary="")
                )
                number = int(done.inserted_primary_key[0])  # type: ignore[index]
                step = Step(connection, number, since=since if since != before else None)
                yield step
                if step.is_empty:
                    connection.execute(schema.steps.delete().where(schema.steps.c.id == step.id))
                else:
                    connection.execute(
                        update(schema.steps).where(schema.steps.c.id == step.id).values(summary=step.summary)
                    )
            self.left_alone += step.meanwhile
            self.known = step.id
        finally:
            self.look_anew()

    @contextmanager
    def writing(self) -> Iterator[Connection]:
        """A transaction for derived data (runs, builds) that the journal does not carry."""
        try:
            with self._writing() as connection:
                yield connection
        finally:
            self.look_anew()

    @contextmanager
    def _writing(self) -> Iterator[Connection]:
        with (
            _database_errors(self.where),
            self.engine.connect().execution_options(**{_WRITES: True}) as connection,
            connection.begin(),
        ):
            yield connection

    @property
    def where(self) -> str:
        """Where its database is."""
        return self.settings.database or str(self.folder / DATABASE_FILE)

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


_PATIENCE = {
    "connect_timeout": 15, "keepalives": 1, "keepalives_idle": 30, "keepalives_interval": 10, "keepalives_count": 3,
    "tcp_user_timeout": 60_000, "application_name": "upright",
}  # fmt: skip
"""How long PostgreSQL's library waits for a server that says nothing: seconds, but the last in ms. The address of the database may say otherwise."""
_DATABASES = {"sqlite", "postgresql"}


def _engine(url: str | URL) -> Engine:
    try:
        address = make_url(url)
        if address.get_backend_name() not in _DATABASES:
            raise UsageError(
                f"{address.get_backend_name()} is no database that a ledger can be in",
                "such as postgresql+psycopg://user@host/name; without --database it is a file of the ledger",
            )
        if address.get_backend_name() == "sqlite" and address.database in {None, "", ":memory:"}:
            raise UsageError("a ledger in memory is lost when the command ends", "name a file, or leave --database out")
        more = {k: v for k, v in _PATIENCE.items() if k not in address.query}
        engine = create_engine(address, connect_args=more if address.get_backend_name() == "postgresql" else {})
    except (ArgumentError, NoSuchModuleError, ValueError):
        told = str(url).rpartition("@")[2].partition("?")[0]
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
    except (ArgumentError, ValueError):
        return
    if address.password or "password" in address.query:
        raise UsageError(
            "the address of the database holds a password",
            "leave it out: PostgreSQL takes it from ~/.pgpass or PGPASSWORD, and it is stored nowhere else",
        )


def _prepare_sqlite(engine: Engine) -> None:
    path = Path(engine.url.database or "")

    @event.listens_for(engine, "do_connect")
    def on_opening(_dialect: Any, _record: Any, _arguments: Any, options: dict[str, Any]) -> Any:
        if not path.is_file() or (os.access(path, os.W_OK) and os.access(path.parent, os.W_OK)):
            return None  # as usual
        # Somebody else's, or on a medium that cannot be written: to be read all the same.
        alone = "" if path.with_name(f"{path.name}-wal").exists() else "&immutable=1"
        return sqlite3.connect(f"file:{quote(str(path.absolute()))}?mode=ro{alone}", uri=True, **options)

    @event.listens_for(engine, "connect")
    def on_connect(connection: Any, _record: Any) -> None:
        connection.isolation_level = None  # the driver's own BEGIN comes too late to keep a step whole
        connection.execute("PRAGMA synchronous = NORMAL")
        connection.execute("PRAGMA foreign_keys = ON")
        connection.execute(f"PRAGMA cache_size = -{CACHE_KB}")
        connection.execute("PRAGMA temp_store = MEMORY")
        connection.execute(f"PRAGMA busy_timeout = {WAIT_SECONDS * 1000}")

    @event.listens_for(engine, "begin")
    def on_begin(connection: Connection) -> None:
        # One that is to write waits for its turn at once: one that began by reading could never get it.
        writes = connection.get_execution_options().get(_WRITES)
        connection.exec_driver_sql("BEGIN IMMEDIATE" if writes else "BEGIN")


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
    draft = folder / f".{FILE_NAME}"
    try:
        folder.mkdir(mode=0o700, parents=True, exist_ok=True)
        if draft.exists():  # somebody began here and was cut off: without settings there was no ledger
            for leftover in folder.glob(f"{DATABASE_FILE}*"):
                leftover.unlink()
        draft.touch(mode=0o600)
        draft.write_text(settings_text, encoding="utf-8")
    except OSError as error:
        raise InputError(
            f"{folder} cannot be made: {error.strerror or error}", "check the name and the permissions"
        ) from None
    try:
        ledger = Ledger(folder, read_settings(draft))
        if ledger.engine.dialect.name == "sqlite":
            # What it keeps beside this file takes its permissions.
            Path(ledger.engine.url.database or "").touch(mode=0o600)
            # The file keeps that: readers and writers do not wait for each other.
            with ledger.engine.connect() as connection:
                connection.connection.execute("PRAGMA journal_mode = WAL")
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
    """Open the ledger in a folder, bringing its schema up to date. Raises UsageError where there is none, InputError where it is damaged."""
    path = folder / FILE_NAME
    if not path.is_file():
        raise UsageError(
            f"there is no ledger in {'this folder' if folder == Path() else folder}",
            "make one with `upright open DIR --old URL --new URL`, or name one with --ledger DIR",
        )
    ledger = Ledger(folder, read_settings(path))
    if not ledger.settings.database and not (folder / DATABASE_FILE).is_file():
        raise InputError(f"{folder / DATABASE_FILE} is missing", "put it back from a copy of the ledger's folder")
    with _database_errors(ledger.where), ledger.engine.connect() as connection:
        present = schema_number(connection)
        ledger.known = last_step(connection) if present else None
    if not present:
        raise InputError(f"{ledger.where} holds no ledger", "put it back from a copy of the ledger")
    if present < NEWEST:
        with ledger.writing() as connection:
            migrate(connection)
    drafted = drafted_policy(folder)
    if (
        drafted is not None and drafted == ledger.stored_policy()[1]
    ):  # what folded all anew ended before it wrote the settings
        put_draft(folder)
        ledger.settings = read_settings(path)
    return ledger
