"""A team's database: PostgreSQL. This module, and the driver, are loaded when one is asked for."""

from __future__ import annotations

import json
import re
import sys
import time
from collections.abc import Callable, Generator, Iterable, Iterator, Sequence
from contextlib import closing, contextmanager
from functools import cache, lru_cache, partial
from itertools import count
from typing import Any

import sqlalchemy
from sqlalchemy import create_engine, event
from sqlalchemy.engine import URL

from upright_ledger.errors import InputError, UsageError
from upright_ledger.ledger.clock import named_author
from upright_ledger.ledger.db.connection import AT_ONCE, Connection, Database, quoted

_OF_CONNECTING: dict[str, Any] = {
    "connect_timeout": 15, "keepalives": 1, "keepalives_idle": 30, "keepalives_interval": 10,
    "keepalives_count": 3,
    "tcp_user_timeout": 60_000, "application_name": "upright",
}  # fmt: skip
"""How long PostgreSQL's library waits for a server that says nothing: seconds, but the last in ms.
The address of the database may say otherwise.
"""

_OF_SESSIONS = {
    "statement_timeout": "30min",
    "lock_timeout": "5min",
    "client_connection_check_interval": "5s",  # a statement of somebody who is gone is given up
    "tcp_keepalives_idle": "30",  # and what is locked by one whose connection is dead is let go of
    "tcp_keepalives_interval": "10",
    "tcp_keepalives_count": "3",
    "tcp_user_timeout": "60s",
}
"""How long the server waits, where nobody said otherwise: PGOPTIONS, the address, and what is set
for a role or a database hold.
"""
_SCHEMA = "schema"
_GRACE = 60.0
"""How much longer than a statement may take its answer is waited for, in seconds."""


class ServerConnection(Connection):
    """A connection to a team's database."""

    is_server = True

    def __init__(self, core: sqlalchemy.Connection) -> None:
        super().__init__(core.connection.driver_connection)
        self._core = core
        core.begin()  # or it would not know that there is something to commit

    @property
    def core(self) -> sqlalchemy.Connection:
        """The transaction, as SQLAlchemy has it."""
        return self._core

    def author(self) -> str:
        """Who is at work: as UPRIGHT_AUTHOR says, else the user of the database."""
        return named_author() or str(self.value("SELECT session_user"))

    def _told(self, statement: str) -> str:
        return _with_percents(statement)

    def stream(self, statement: str) -> Iterator[tuple[Any, ...]]:
        """The rows of a query as they come."""
        with self.driver.cursor(name=f"rows_{next(_CURSORS)}") as cursor:
            cursor.itersize = AT_ONCE
            yield from cursor.execute(statement)

    def load(self, table: str, columns: Sequence[str], rows: Iterable[tuple[Any, ...]]) -> None:
        """Insert rows (tuples in the order of `columns`); nothing can be asked until they came."""
        with self.driver.cursor().copy(f'COPY "{table}" ({quoted(columns)}) FROM STDIN') as copy:
            for row in rows:
                copy.write_row(row)

    def change(
        self,
        table: str,
        keys: Sequence[str],
        columns: Sequence[str],
        rows: Iterable[tuple[Any, ...]],
    ) -> None:
        """Change columns of rows (tuples in the order of `columns`, then `keys`)."""
        held = self._held(table, (*columns, *keys), rows)
        put = ", ".join(f'"{c}" = h."{c}"' for c in columns)
        self.run(f'UPDATE "{table}" t SET {put} FROM {held} h WHERE {_same(keys)}')

    def delete(self, table: str, keys: Sequence[str], rows: Sequence[tuple[Any, ...]]) -> None:
        """Delete rows by the values of their key columns."""
        held = self._held(table, keys, rows)
        self.run(f'DELETE FROM "{table}" t USING {held} h WHERE {_same(keys)}')

    def _held(self, table: str, columns: Sequence[str], rows: Iterable[tuple[Any, ...]]) -> str:
        """A temporary table that holds rows of some columns; its name."""
        name = f"held_{table}"
        self.run(f"DROP TABLE IF EXISTS {name}")
        alike = f'SELECT {quoted(columns)} FROM "{table}" LIMIT 0'
        self.run(f"CREATE TEMPORARY TABLE {name} AS {alike}")
        self.load(name, columns, rows)
        return name

    def has_table(self, name: str) -> bool:
        """Whether the database has a table of that name."""
        return self.value("SELECT to_regclass(:name)", name=name) is not None

    def commit(self) -> None:
        """Let what was written stand."""
        self._core.commit()

    def close(self) -> None:
        """Let go of it; what was not committed is taken back."""
        self._core.close()

    def drop(self) -> None:
        """As `close`, without a word to a database that may not listen any more."""
        self._core.invalidate()
        self._core.close()


_CURSORS = count()


def _same(keys: Sequence[str]) -> str:
    return " AND ".join(f't."{k}" = h."{k}"' for k in keys)


@lru_cache(maxsize=500)
def _with_percents(statement: str) -> str:
    """A statement with its values as the driver wants them."""
    return re.sub(r"(?<![:\w]):(\w+)", r"%(\1)s", statement.replace("%", "%%"))


class Server(Database):
    """A team's database. address: as SQLAlchemy reads it; its `schema` is that in which the ledger
    stands beside others. Raises ModuleNotFoundError where the driver is missing.
    """

    is_shared = True

    def __init__(self, where: str, address: URL) -> None:
        super().__init__(where)
        told = address.query.get(_SCHEMA, "")
        self.schema = told if isinstance(told, str) else told[0]
        self._engine = create_engine(address.difference_update_query([_SCHEMA]))
        event.listen(self._engine, "do_connect", partial(_on_opening, self.schema))

    def lay_out(self) -> None:
        """Make the schema, where the address names one and it is not there. Raises UsageError where
        that is not allowed.
        """
        if not self.schema:
            return
        with self._engine.connect() as core:
            driver: Any = core.connection.driver_connection
            known = "SELECT 1 FROM pg_namespace WHERE nspname = %s"
            if driver.execute(known, [self.schema]).fetchone():
                return
            try:
                driver.execute(f"CREATE SCHEMA {_quoted(self.schema)}")
                driver.commit()
            except _driver().errors.InsufficientPrivilege:
                raise UsageError(
                    f"this user may not make the schema {self.schema} in that database",
                    f"have its owner say: CREATE SCHEMA {_quoted(self.schema)} AUTHORIZATION you",
                ) from None

    @contextmanager
    def alone_at(self, work: str, tell: Callable[[str], None]) -> Iterator[None]:
        """See `Database`. Who is at it holds a connection, and lets go of the work with it."""
        with closing(self.open()) as connection:
            told = {"work": work, "name": f"upright {work}"}
            connection.run("SELECT set_config('application_name', :name, false)", name=told["name"])
            if not connection.value(f"SELECT pg_try_advisory_lock({_WORK})", work=work):
                rows = connection.rows(_AT_WORK, work=work)
                who = next((f"{user} ({place})" for user, place in rows), "somebody else")
                tell(f"waiting for {who}, who is at {work} on this ledger")
                connection.run("SET lock_timeout = 0")  # it may well take long
                connection.run(f"SELECT pg_advisory_lock({_WORK})", work=work)
            yield

    def ledgers(self) -> list[str]:
        """The schemas of the database that hold ledgers."""
        with self._engine.connect() as core:
            driver: Any = core.connection.driver_connection
            return [name for (name,) in driver.execute(_LEDGERS).fetchall()]

    def open(self, *, one_state: bool = False) -> Connection:
        """A connection. one_state: whether all that is asked is of one state of the database."""
        core = self._engine.connect()
        if one_state:
            core = core.execution_options(isolation_level="REPEATABLE READ")
        return ServerConnection(core)

    def dispose(self) -> None:
        """Let go of all connections."""
        self._engine.dispose()

    def take_turn(self, connection: Connection, name: str, seconds: float) -> str:
        """Begin to write: steps one after the other, as in SQLite; who reads is not held up.
        Returns for whom to wait where it does not come in some seconds.
        """
        if not name:
            return ""
        connection.run("SELECT set_config('application_name', :name, true)", name=name)
        return "" if self.wait_on(connection, seconds) else _writer(connection)

    def wait_on(self, connection: Connection, seconds: float) -> bool:
        """Wait for the turn so many seconds; whether it came."""
        before = connection.value("SHOW lock_timeout")
        try:
            with connection.core.begin_nested():
                connection.run(f"SET LOCAL lock_timeout = {int(seconds * 1000)}")
                connection.run("LOCK TABLE steps IN EXCLUSIVE MODE")
        except _driver().errors.LockNotAvailable:
            return False
        connection.run("SELECT set_config('lock_timeout', :before, true)", before=before)
        return True


_WORK = "hashtext(current_schema()), hashtext(:work)"
_AT_WORK = """
    SELECT a.usename, COALESCE(host(a.client_addr), 'this machine')
    FROM pg_locks l JOIN pg_stat_activity a ON a.pid = l.pid
    WHERE l.locktype = 'advisory' AND l.granted
      AND l.classid = CAST(CAST(hashtext(current_schema()) AS bigint) & 4294967295 AS oid)
      AND l.objid = CAST(CAST(hashtext(:work) AS bigint) & 4294967295 AS oid)
"""
_LEDGERS = """
    SELECT n.nspname FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
    WHERE c.relname IN ('policies', 'entry_lines') GROUP BY 1 HAVING COUNT(*) = 2 ORDER BY 1
"""


def _driver() -> Any:
    """The driver, loaded where a connection was opened."""
    return sys.modules["psycopg"]


def _quoted(name: str) -> str:
    return '"' + name.replace('"', '""') + '"'


def _on_opening(
    schema: str, _dialect: Any, _record: Any, arguments: Any, options: dict[str, Any]
) -> Any:
    """Let connections be opened as a ledger needs it."""
    connection = _patient().connect(*arguments, **{**_OF_CONNECTING, **options})
    encoding = connection.info.parameter_status("server_encoding")
    if encoding != "UTF8":
        name = connection.info.dbname
        connection.close()
        raise InputError(
            f"the database {name} keeps its texts in {encoding}, and a ledger needs UTF8",
            f"createdb --encoding UTF8 --template template0 {name}, or another name",
        )
    limits = (
        "SELECT name, set_config(name, CAST(%s AS json) ->> name, false) FROM pg_settings "
        "WHERE source = 'default' AND name = ANY(%s)"
    )
    connection.execute(limits, [json.dumps(_OF_SESSIONS), list(_OF_SESSIONS)])
    if schema:
        connection.execute(f"SET search_path TO {_quoted(schema)}")
    told = connection.execute(
        "SELECT setting FROM pg_settings WHERE name = 'statement_timeout'"
    ).fetchone()
    connection.commit()
    connection.longest = int(told[0]) / 1000 + _GRACE if told and int(told[0]) else None
    return connection


@cache
def _patient() -> Any:
    """The driver's connection, but one that does not wait for ever for an answer, and ends at once
    when it is interrupted.
    """
    import psycopg
    from psycopg import waiting
    from psycopg.pq import TransactionStatus

    class Patient(psycopg.Connection[Any]):
        longest: float | None = None
        """How long an answer is waited for, in seconds: a server, or a proxy, that is there and
        says nothing is known by no other sign.
        """

        def wait(self, gen: Any, interval: float = 0.1, timeout: float | None = None) -> Any:
            del timeout
            try:
                return waiting.wait(
                    _bounded(gen, self.longest), self.pgconn.socket, interval=interval
                )
            except BaseException as error:
                # Nobody waits for what was asked, or is on its way.
                asked = self.pgconn.transaction_status == TransactionStatus.ACTIVE
                if asked or not isinstance(error, Exception):
                    self.close()
                raise

        def rollback(self) -> None:
            """Take back what was begun. Who was interrupted does not wait for that: the server does
            it once the connection is gone.
            """
            error = sys.exception()
            while error is not None and not isinstance(error, KeyboardInterrupt):
                error = error.__context__
            if error is not None:
                self.close()
            super().rollback()

    def _bounded(gen: Any, longest: float | None) -> Generator[Any, Any, Any]:
        until = time.monotonic() + longest if longest else None
        ready = None
        while True:
            try:
                wanted = gen.send(ready)
            except StopIteration as end:
                return end.value
            ready = yield wanted
            if until and not ready and time.monotonic() > until:
                raise psycopg.OperationalError(f"it says nothing for {longest:.0f} seconds")

    return Patient


_WRITER = """
    SELECT a.application_name, a.usename, COALESCE(host(a.client_addr), 'this machine') AS place
    FROM pg_locks l JOIN pg_stat_activity a ON a.pid = l.pid
    WHERE l.granted AND l.mode = 'ExclusiveLock' AND l.relation = CAST('steps' AS regclass)
      AND l.database = (SELECT oid FROM pg_database WHERE datname = current_database())
"""


def _writer(connection: Connection) -> str:
    for name, user, place in connection.rows(_WRITER):
        return f"{name or 'another command'} ({user}, {place})"
    return "another command"
