"""A team's database: PostgreSQL. The driver is loaded when one is asked for."""

from __future__ import annotations

import json
import sys
import time
from collections.abc import Generator
from functools import cache
from typing import Any

from sqlalchemy import Connection, Engine, event, text
from sqlalchemy.exc import OperationalError

from upright_ledger.errors import InputError

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
_GRACE = 60.0
"""How much longer than a statement may take its answer is waited for, in seconds."""


def prepare(engine: Engine) -> None:
    """Let connections be opened as a ledger needs it."""

    @event.listens_for(engine, "do_connect")
    def on_opening(_dialect: Any, _record: Any, arguments: Any, options: dict[str, Any]) -> Any:
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


def take_turn(connection: Connection, name: str, seconds: float) -> str:
    """Begin to write: steps one after the other, as in SQLite; who reads is not held up. Returns
    for whom to wait where it does not come in some seconds.
    """
    connection.begin()
    if not name:
        return ""
    connection.execute(text("SELECT set_config('application_name', :name, true)"), {"name": name})
    return "" if wait_on(connection, seconds) else _writer(connection)


def wait_on(connection: Connection, seconds: float) -> bool:
    """Wait for the turn so many seconds; whether it came."""
    before = connection.scalar(text("SHOW lock_timeout"))
    try:
        with connection.begin_nested():
            connection.execute(text(f"SET LOCAL lock_timeout = {int(seconds * 1000)}"))
            connection.execute(text("LOCK TABLE steps IN EXCLUSIVE MODE"))
    except OperationalError as error:
        if getattr(error.orig, "sqlstate", "") == _LOCK_NOT_AVAILABLE:
            return False
        raise
    connection.execute(text("SELECT set_config('lock_timeout', :before, true)"), {"before": before})
    return True


_LOCK_NOT_AVAILABLE = "55P03"
_WRITER = """
    SELECT a.application_name, a.usename, COALESCE(host(a.client_addr), 'this machine') AS place
    FROM pg_locks l JOIN pg_stat_activity a ON a.pid = l.pid
    WHERE l.granted AND l.mode = 'ExclusiveLock' AND l.relation = CAST('steps' AS regclass)
      AND l.database = (SELECT oid FROM pg_database WHERE datname = current_database())
"""


def _writer(connection: Connection) -> str:
    row = connection.execute(text(_WRITER)).first()
    return (
        f"{row.application_name or 'another command'} ({row.usename}, {row.place})"
        if row
        else "another command"
    )
