"""Opening a ledger: its folder, its settings, its database, and one transaction a step."""

from __future__ import annotations

import os
import threading
from collections.abc import Callable, Iterator
from contextlib import closing, contextmanager, suppress
from dataclasses import dataclass, field
from functools import cached_property
from pathlib import Path

from upright_ledger.core.inventory.normalisation import FoldingPolicy
from upright_ledger.errors import DatabaseError, InputError, RefusedError, UsageError
from upright_ledger.ledger.clock import now
from upright_ledger.ledger.db.connection import Connection, Database
from upright_ledger.ledger.db.databases import (
    database_for,
    errors_of,
    has_password,
    is_lost,
    shown,
    take_turn,
    try_turn,
)
from upright_ledger.ledger.db.journal import Step, last_step
from upright_ledger.ledger.db.policies import shared_settings, stored_policy
from upright_ledger.ledger.db.versions import NEWEST, schema_number
from upright_ledger.ledger.lines.state import are_of
from upright_ledger.settings.file import FILE_NAME, drafted_policy, put_draft
from upright_ledger.settings.model import Settings
from upright_ledger.settings.reading import read_settings
from upright_ledger.settings.shared import differing

DATABASE_FILE = "ledger.db"
_MANY = 50_000
"""Entries that take longer than a moment to go through."""
STEP = ("id", "time", "author", "command", "reason", "summary")
"""The columns of a step that begins."""


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
    posted: list[int] = field(default_factory=list)
    """The steps that were made since it was opened."""
    tell: Callable[[str], None] = field(default=lambda _: None, repr=False)
    """Is told for whom a writer waits, when it takes long."""
    shadowed: bool = False
    """Whether each connection works lines out for itself, as those that are kept rest on other
    settings and cannot be written.
    """
    _views: dict[tuple[int, int], _View] = field(default_factory=dict, repr=False)

    otherwise: list[str] = field(default_factory=list)
    """The tables of the settings file that say otherwise than the team's, which hold."""

    def read_settings(self) -> None:
        """Take the settings as they are now: those of the file, but what a team has together."""
        self.take_own_settings()
        self.take_shared_settings()

    def take_shared_settings(self) -> None:
        """Take what a team has together in the place of what the file says."""
        if not self.settings.database:
            return
        with self._connection() as connection:
            shared = shared_settings(connection)
        if shared is not None:
            path = self.folder / FILE_NAME
            self.otherwise = differing(path, shared, self.settings.policy)
            if self.otherwise:
                self.settings = read_settings(path, shared)

    def take_own_settings(self) -> None:
        """Take the settings as the file alone says them."""
        self.settings, self.otherwise = read_settings(self.folder / FILE_NAME), []

    @cached_property
    def database(self) -> Database:
        """The database that the settings name."""
        return database_for(self.settings.database, self.own_file)

    @contextmanager
    def reading(self) -> Iterator[Connection]:
        """A connection to look things up. All that a command reads between two changes of its own
        is one state of the ledger.
        """
        with errors_of(self.where):
            try:
                yield self._view().connection
            except BaseException:
                self.drop_view()
                raise

    def _view(self) -> _View:
        key = (os.getpid(), threading.get_ident())
        if key not in self._views:
            connection = self.database.open(one_state=True)
            self._views[key] = _View(connection, last_step(connection))
            if self.shadowed:
                from upright_ledger.ledger.lines import keeping

                keeping.shadow(connection, self.settings)
        return self._views[key]

    def look_anew(self) -> None:
        """Let what is read from now on be the state that the ledger has then."""
        view = self._views.pop((os.getpid(), threading.get_ident()), None)
        if view is not None:
            with suppress(DatabaseError), errors_of(self.where):
                view.connection.close()  # what was read was read, though the database is gone

    def end(self) -> None:
        """Let go of the database."""
        self.drop_view()
        self.database.dispose()

    def drop_view(self) -> None:
        """Let go of what is being read, without a word to a database that may not listen any
        more.
        """
        view = self._views.pop((os.getpid(), threading.get_ident()), None)
        if view is not None:
            view.connection.drop()

    @contextmanager
    def step(self, command: str, reason: str = "", *, regardless: bool = False) -> Iterator[Step]:
        """One change, whole or not at all: a journal step in one transaction.

        A step that recorded nothing leaves no trace in the journal. What was read before it counts
        as it was read: entries that somebody else answered meanwhile are left alone
        (`Step.meanwhile`), unless it goes on regardless of what was read.
        """
        view = self._views.get((os.getpid(), threading.get_ident()))
        since = None if regardless else view.step if view is not None else self.known
        with self._writing(command) as connection:
            before = last_step(connection)
            # Numbered by hand: a sequence of PostgreSQL counts what came to nothing, too.
            begun = (before + 1, now(), connection.author(), command, reason, "")
            connection.load("steps", STEP, [begun])
            step = Step(connection, before + 1, since=since if since != before else None)
            yield step
            if step.changed_lines:
                from upright_ledger.ledger.lines import keeping

                keeping.follow(step, self.settings)
            if step.is_empty:
                connection.run("DELETE FROM steps WHERE id = :id", id=step.id)
            else:
                told = {"id": step.id, "summary": step.summary}
                connection.run("UPDATE steps SET summary = :summary WHERE id = :id", **told)
        self.left_alone += step.meanwhile
        self.known = step.id
        if not step.is_empty:
            self.posted.append(step.id)

    @contextmanager
    def writing(self) -> Iterator[Connection]:
        """A transaction for derived data (runs, builds) that the journal does not carry."""
        with self._writing() as connection:
            yield connection

    @contextmanager
    def alone_at(self, work: str) -> Iterator[None]:
        """Do work of a sort that two of a team should not do at once, by the ledger as it is when
        the other one is done.
        """
        with errors_of(self.where), self.database.alone_at(work, self.tell):
            if self.database.is_shared:  # the other one may have changed all there is
                self.look_anew()
                self.read_settings()
            yield

    def note(self, work: Callable[[Connection], None], name: str = "") -> bool:
        """Write derived data that is good to have and can be done without: not where somebody else
        is writing, or the database cannot be written. What is being read stays as it is. name: of
        what must not meet a step. Returns whether it was written.
        """
        with suppress(DatabaseError), self._connection() as connection:
            if try_turn(self.database, connection, name):
                work(connection)
                connection.commit()
                return True
        return False

    @contextmanager
    def _connection(self) -> Iterator[Connection]:
        """A connection of its own."""
        with errors_of(self.where), closing(self.database.open()) as connection:
            yield connection

    @contextmanager
    def _writing(self, command: str = "") -> Iterator[Connection]:
        """command: of a step, which waits for those that are under way."""
        with self._connection() as connection:
            name = f"upright {command}" if command else ""
            try:
                take_turn(self.database, connection, name, self.tell)
                yield connection
            except Exception:
                self.drop_view()
                raise
            except BaseException:  # stopped: it takes back by itself what was not committed
                self.drop_view()
                connection.drop()
                raise
            self._complete(connection)
            self.look_anew()
        self.database.shorten_log()

    def _complete(self, connection: Connection) -> None:
        """Let a step stand. Raises DatabaseError where nobody can say whether it does."""
        try:
            connection.commit()
        except Exception as error:
            if not is_lost(error):
                raise
            raise DatabaseError(
                f"the connection to {shown(self.where)} was lost while a step was made complete",
                "`upright history` tells whether it stands: it is whole, or not there",
            ) from error

    def keep_lines(self) -> None:
        """Work the lines of entries out anew where they rest on other settings than these."""
        with self._connection() as connection:
            if are_of(connection, self.settings):
                return
            many = (connection.value("SELECT MAX(id) FROM entries") or 0) > _MANY
        if many:
            self.tell("working out the figures of all entries, as settings or the program changed")
        from upright_ledger.ledger.lines import keeping

        def restate(connection: Connection) -> None:
            if not are_of(connection, self.settings):  # or somebody else did it meanwhile
                keeping.restate(connection, self.settings)

        self.note(restate, "upright settings")
        with self._connection() as connection:
            # It is somebody else's, somebody is writing to it, or there is no room.
            self.shadowed = not are_of(connection, self.settings)

    @property
    def own_file(self) -> Path:
        """Where its database is, if it is no other one that the settings name."""
        return self.folder / DATABASE_FILE

    @property
    def where(self) -> str:
        """Where its database is."""
        return self.settings.database or str(self.own_file)

    def stored_policy(self) -> tuple[int, FoldingPolicy]:
        """The folding policy under which the entries stand, and its number."""
        with self.reading() as connection:
            return stored_policy(connection)

    def policy_for(self, step: Step) -> int:
        """The number of the folding policy under which a step may name entries: that of the
        settings, put in force where there are no entries yet. Raises RefusedError where the entries
        stand under another one.
        """
        number, policy = stored_policy(step.connection)
        if policy == self.settings.policy:
            return number
        self.refuse_other_policy(step.connection)
        step.put(
            "policies",
            {"number": number + 1, "settings": self.settings.policy.as_dict(), "since": now()},
        )
        return number + 1

    def refuse_other_policy(self, connection: Connection) -> None:
        """Raises RefusedError where there are entries, and they stand under another folding policy
        than the settings say.
        """
        if stored_policy(connection)[1] != self.settings.policy and connection.value(
            "SELECT 1 FROM entries LIMIT 1"
        ):
            raise RefusedError(
                f"the folding settings in {self.folder / FILE_NAME} are not those under which the "
                "entries stand",
                "`upright fold --apply` folds all entries anew, as one step that can be undone; "
                "`upright fold --put-back` lets the file say what it said before",
            )


def _refuse_shown_password(ledger: Ledger) -> None:
    path = ledger.folder / FILE_NAME
    if (
        has_password(ledger.settings.database)
        and os.name == "posix"
        and path.stat().st_mode & 0o077
    ):
        raise UsageError(
            f"{path} holds the password of the database, and others can read it",
            "chmod 600 it, or leave the password to ~/.pgpass",
        )


def open_ledger(folder: Path, tell: Callable[[str], None] = lambda _: None) -> Ledger:
    """Open the ledger in a folder, bringing its schema and its lines up to date. Raises UsageError
    where there is none, InputError where it is damaged.

    tell: is told what takes long, and for whom a writer waits.
    """
    path = folder / FILE_NAME
    if not path.is_file():
        raise UsageError(
            f"there is no ledger in {'this folder' if folder == Path() else folder}",
            "make one with `upright open DIR --old URL --new URL`, or name one with --ledger DIR",
        )
    ledger = Ledger(folder, read_settings(path), tell=tell)
    _refuse_shown_password(ledger)
    if not ledger.settings.database and not ledger.own_file.is_file():
        raise InputError(
            f"{ledger.own_file} is missing", "put it back from a copy of the ledger's folder"
        )
    with ledger._connection() as connection:  # noqa: SLF001 - its own module
        present = schema_number(connection)
        ledger.known = last_step(connection) if present else None
    if not present:
        raise InputError(f"{ledger.where} holds no ledger", "put it back from a copy of the ledger")
    with errors_of(ledger.where):
        ledger.database.keep_log()
    if present < NEWEST:
        from upright_ledger.ledger.migrations.numbered import migrate

        with ledger._writing("migrate") as connection:  # noqa: SLF001 - alone, as a step is
            migrate(connection)
    ledger.take_shared_settings()
    ledger.keep_lines()
    stored = ledger.stored_policy()[1]
    if stored != ledger.settings.policy:
        if drafted_policy(folder) == stored:
            # What folded all anew ended, or stands, before it wrote the settings.
            put_draft(folder)
        ledger.read_settings()  # or it wrote them just after they were read here
    return ledger
