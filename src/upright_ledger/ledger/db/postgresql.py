"""A team's database: PostgreSQL. This module, and the driver, are loaded when one is asked for."""

from __future__ import annotations

import json
import re
import sys
import time
from collections.abc import Callable, Generator, Iterable, Iterator, Sequence
from contextlib import closing, contextmanager
from functools import cache, cached_property, lru_cache
from itertools import count
from typing import TYPE_CHECKING, Any
from urllib.parse import unquote

from upright_ledger.errors import InputError, UsageError
from upright_ledger.ledger.clock import named_author
from upright_ledger.ledger.db.connection import AT_ONCE, Connection, Database, quoted

if TYPE_CHECKING:
    import sqlalchemy

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
_SCHEMA = "schema="
_GRACE = 60.0
"""How much longer than a statement may take its answer is waited for, in seconds."""


class ServerConnection(Connection):
    """A connection to a team's database."""

    is_server = True

    def __init__(self, driver: Any, give_back: Callable[[Any], None]) -> None:
        super().__init__(driver)
        self._give_back = give_back

    @cached_property
    def core(self) -> sqlalchemy.Connection:
        """The same transaction, as SQLAlchemy has it."""
        from sqlalchemy import create_engine
        from sqlalchemy.pool import NullPool

        self.driver.is_lent = True
        engine = create_engine(
            "postgresql+psycopg://", creator=lambda: self.driver, poolclass=NullPool
        )
        return engine.connect()

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
        self.driver.complete()

    def close(self) -> None:
        """Let go of it; what was not committed is taken back."""
        if "core" in vars(self):
            self.drop()  # SQLAlchemy may have changed it
            return
        try:
            self.driver.rollback()
        except _driver().Error:  # it is gone, and what was not committed with it
            self.drop()
        else:
            self._give_back(self.driver)

    def drop(self) -> None:
        """As `close`, without a word to a database that may not listen any more."""
        self.driver.is_lent = False
        self.driver.close()


_CURSORS = count()


def _same(keys: Sequence[str]) -> str:
    return " AND ".join(f't."{k}" = h."{k}"' for k in keys)


@lru_cache(maxsize=500)
def _with_percents(statement: str) -> str:
    """A statement with its values as the driver wants them."""
    return re.sub(r"(?<![:\w]):(\w+)", r"%(\1)s", statement.replace("%", "%%"))


class Server(Database):
    """A team's database. where: its address, as PostgreSQL's library reads it; `schema` in it is
    that in which the ledger stands beside others. Raises ModuleNotFoundError where the driver is
    missing, ValueError for an address that is none.
    """

    is_shared = True

    def __init__(self, where: str) -> None:
        super().__init__(where)
        self._told, self.schema = _read(where)
        self._free: list[Any] = []

    def lay_out(self) -> None:
        """Make the schema, where the address names one and it is not there. Raises UsageError where
        that is not allowed.
        """
        if not self.schema:
            return
        with closing(self.open()) as connection:
            known = "SELECT 1 FROM pg_namespace WHERE nspname = :name"
            if connection.value(known, name=self.schema):
                return
            try:
                connection.run(f"CREATE SCHEMA {_quoted(self.schema)}")
                connection.commit()
            except _driver().errors.InsufficientPrivilege:
                raise UsageError(
                    f"this user may not make the schema {self.schema} in that database",
                    f"have its owner say: CREATE SCHEMA {_quoted(self.schema)} AUTHORIZATION you",
                ) from None

    @contextmanager
    def alone_at(self, work: str, tell: Callable[[str], None]) -> Iterator[None]:
        """See `Database`. Who is at it holds a connection, and lets go of the work with it."""
        connection = self.open()
        try:
            connection.run(
                "SELECT set_config('application_name', :name, false)", name=f"upright {work}"
            )
            if not connection.value(f"SELECT pg_try_advisory_lock({_WORK})", work=work):
                rows = connection.rows(_AT_WORK, work=work)
                who = next((f"{user} ({place})" for user, place in rows), "somebody else")
                tell(f"waiting for {who}, who is at {work} on this ledger")
                connection.run("SET lock_timeout = 0")  # it may well take long
                connection.run(f"SELECT pg_advisory_lock({_WORK})", work=work)
            yield
        finally:
            connection.drop()

    def ledgers(self) -> list[str]:
        """The schemas of the database that hold ledgers."""
        with closing(self.open()) as connection:
            return [str(name) for name in connection.column(_LEDGERS)]

    def open(self, *, one_state: bool = False) -> Connection:
        """A connection. one_state: whether all that is asked is of one state of the database."""
        driver = self._free.pop() if self._free else _opened(self._told, self.schema)
        driver.isolation_level = _driver().IsolationLevel.REPEATABLE_READ if one_state else None
        return ServerConnection(driver, self._free.append)

    def dispose(self) -> None:
        """Let go of all connections."""
        while self._free:
            self._free.pop().close()

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
            with connection.driver.transaction():
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


def _read(where: str) -> tuple[dict[str, Any], str]:
    """The parts of an address, and the schema that it names. Raises ValueError where it is none."""
    import psycopg
    from psycopg.conninfo import conninfo_to_dict

    scheme, mark, rest = where.partition("://")
    address, _, query = rest.partition("?")
    parts = [part for part in query.split("&") if part]
    named = [part.partition("=")[2] for part in parts if part.startswith(_SCHEMA)]
    others = "&".join(part for part in parts if not part.startswith(_SCHEMA))
    try:
        told = conninfo_to_dict(f"{scheme.partition('+')[0]}{mark}{address}?{others}")
    except psycopg.Error as error:
        raise ValueError(str(error)) from None
    if not str(told.get("port") or "0").replace(",", "").isdecimal():
        raise ValueError("its port is no number")
    return told, unquote(named[0]) if named else ""


def _opened(told: dict[str, Any], schema: str) -> Any:
    """A connection as a ledger needs it."""
    connection = _patient().connect(**{**_OF_CONNECTING, **told})
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
    limit = connection.execute(
        "SELECT setting FROM pg_settings WHERE name = 'statement_timeout'"
    ).fetchone()
    connection.commit()
    connection.longest = int(limit[0]) / 1000 + _GRACE if limit and int(limit[0]) else None
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
        is_lent = False
        """Whether SQLAlchemy has it, which must not end what is under way."""
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

        def complete(self) -> None:
            """Let what was written stand."""
            super().commit()

        def commit(self) -> None:
            if not self.is_lent:
                super().commit()

        def close(self) -> None:
            if not self.is_lent:
                super().close()

        def rollback(self) -> None:
            """Take back what was begun. Who was interrupted does not wait for that: the server does
            it once the connection is gone.
            """
            if self.is_lent:
                return
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
