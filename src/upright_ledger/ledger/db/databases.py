"""The databases a ledger can be in: how one is reached, how a writer gets its turn, and how one is
named in messages.
"""

from __future__ import annotations

import re
import sqlite3
import sys
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any
from urllib.parse import quote

from anyascii import anyascii

from upright_ledger.errors import DatabaseError, InputError, LostError, UsageError
from upright_ledger.ledger.db.connection import Connection, Database
from upright_ledger.ledger.db.sqlite import File

WAIT_SECONDS = 300
"""How long a writer waits for its turn: a step of a million rows may be under way."""
SILENT_SECONDS = 2
"""How long it waits before it says for whom."""

_SCHEMA = "schema"
"""The parameter of a server's address that names a ledger's place in its database."""
_LONGEST = 60  # letters of a name

_EXAMPLE = "such as postgresql+psycopg://user@host/name"


def database_for(url: str, own_file: Path) -> Database:
    """The database with an address, or the ledger's own file where that is empty; a file that is
    named without its folder lies in the ledger's. Raises UsageError for an address that is none, or
    none that a ledger can be in.
    """
    if not url:
        return File(own_file)
    scheme, mark, rest = url.partition("://")
    kind, _, driver = scheme.partition("+")
    no_address = UsageError(f"{shown(url)!r} is no database address", _EXAMPLE)
    if not mark or not re.fullmatch(r"[a-z0-9]+", kind):
        raise no_address
    if kind not in {"sqlite", "postgresql"}:
        raise UsageError(
            f"{kind} is no database that a ledger can be in",
            f"{_EXAMPLE}; without --database it is a file of the ledger",
        )
    if driver not in {"", "psycopg", "pysqlite"}:
        raise no_address
    if kind == "sqlite":
        name = rest.partition("?")[0].removeprefix("/")
        if name in {"", ":memory:"}:
            raise UsageError(
                "a ledger in memory is lost when the command ends",
                "name a file, or leave --database out",
            )
        return File(own_file.parent / name)
    try:
        from upright_ledger.ledger.db.postgresql import Server

        return Server(url)
    except ValueError:
        raise no_address from None
    except ModuleNotFoundError as error:
        raise UsageError(
            f"the driver {error.name} is not installed", "pip install 'upright-ledger[postgresql]'"
        ) from None


def with_schema(url: str, name: str) -> str:
    """The address of a ledger's own place in a server's database, called as the ledger is, where it
    names none.
    """
    if not url.startswith("postgresql") or f"{_SCHEMA}=" in url:
        return url
    plain = re.sub(r"[^a-z0-9]+", "_", anyascii(name).lower()).strip("_")[:_LONGEST] or "ledger"
    place = f"ledger_{plain}" if plain[0].isdecimal() or plain.startswith("pg_") else plain
    return _at(url, place)


def _at(url: str, place: str) -> str:
    """An address with a schema."""
    return f"{url}{'&' if '?' in url else '?'}{_SCHEMA}={quote(place)}"


def one_ledger_at(url: str) -> str:
    """The address of the only ledger in a server's database, where an address names none of them.
    Raises UsageError.
    """
    database = database_for(url, Path())
    if not database.is_shared:
        raise UsageError(
            "only a ledger on PostgreSQL can be joined",
            f"name its database: --database {_EXAMPLE.removeprefix('such as ')}",
        )
    if f"{_SCHEMA}=" in url:
        return url
    with errors_of(url):
        found = database.ledgers()
    database.dispose()
    if len(found) != 1:
        several = f"several ledgers: {', '.join(found)}" if found else "no ledger"
        raise UsageError(
            f"that database holds {several}",
            "name the one that is meant: ?schema=NAME" if found else "make one, without --join",
        )
    return _at(url, found[0])


def take_turn(
    database: Database, connection: Connection, name: str, tell: Callable[[str], None]
) -> None:
    """Begin a transaction that is to write, and wait for its turn.

    name: of a step, for those who wait for it: steps come one after the other, on PostgreSQL, too;
    empty for what is no step. tell: is told for whom it waits, when that takes longer than a
    moment. Raises InputError where its turn does not come.
    """
    other = database.take_turn(connection, name, SILENT_SECONDS)
    if not other:
        return
    tell(f"waiting for {other}, which is writing to this ledger")
    if not database.wait_on(connection, WAIT_SECONDS - SILENT_SECONDS):
        raise InputError(
            f"{other} has been writing to this ledger for more than {WAIT_SECONDS // 60} minutes",
            "wait until it is done, or end it; then do this again",
        )


def try_turn(database: Database, connection: Connection, name: str = "") -> bool:
    """As `take_turn`, where its turn comes at once; returns whether it did."""
    return not database.take_turn(connection, name, 0.1)


def has_password(url: str) -> bool:
    """Whether the address of a database holds a password."""
    place, _, query = url.partition("://")[2].partition("?")
    user, at, _ = place.rpartition("@")
    keys = (part.partition("=")[0].lower() for part in query.split("&"))
    return bool(at and ":" in user) or any("password" in key for key in keys)


def refuse_password(url: str) -> None:
    """Raises UsageError for a database address that holds a password: it would stand in a file, and
    in the list of processes.
    """
    if has_password(url):
        raise UsageError(
            "the address of the database holds a password",
            "leave it out: PostgreSQL takes it from ~/.pgpass or PGPASSWORD, and it is stored "
            "nowhere else",
        )


def shown(url: str) -> str:
    """The address of a database, or its file, without its user and password."""
    if "://" not in url:
        return url
    scheme, _, rest = url.partition("://")
    _, at, behind = rest.rpartition("@")
    bare = (behind if at else rest).partition("?")[0]
    host, colon, port = bare.partition("/")[0].rpartition(":")
    if (
        not at and colon and not port.isdecimal() and not port.endswith("]")
    ):  # it may be a password that nothing ends
        bare = f"{host}:..."
    return f"{scheme.partition('+')[0]}://{bare}"


@contextmanager
def errors_of(where: str) -> Iterator[None]:
    """Tell what a database says in words. where: its address, or its file. Raises DatabaseError,
    and UsageError for what it cannot keep.
    """
    try:
        yield
    except UnicodeEncodeError as error:  # what the command line brings may be any bytes
        raise UsageError(
            f"{error.object!r} holds bytes that are no UTF-8, and cannot be kept",
            "say it in UTF-8, as the language settings of the terminal should have it; this step "
            "was not made",
        ) from None
    except _errors() as error:
        kind = LostError if is_lost(error) else DatabaseError
        raise kind(
            f"the ledger's database {shown(where)} failed: {_cause(error)}",
            "this step was not made; check the database and try again",
        ) from error


def _errors() -> tuple[type[Exception], ...]:
    """What is raised for a database: by a driver, or by SQLAlchemy, as far as they are loaded."""
    postgresql, sqlalchemy = sys.modules.get("psycopg"), sys.modules.get("sqlalchemy.exc")
    others = (
        *((postgresql.Error,) if postgresql is not None else ()),
        *((sqlalchemy.SQLAlchemyError,) if sqlalchemy is not None else ()),
    )
    return (sqlite3.Error, *others)


_GONE = frozenset(["57P01", "57P02", "57P03"])
"""What a server says when it ends a connection (PostgreSQL, appendix A); what it says of
connections in all begins with 08, and what nobody said has no code.
"""


def is_lost(error: BaseException) -> bool:
    """Whether a connection to a server was lost, or could not be had."""
    driver = sys.modules.get("psycopg")
    cause = getattr(error, "orig", None) or error
    if driver is None or not isinstance(cause, driver.OperationalError):
        return False
    code = cause.sqlstate or ""
    return not code or code.startswith("08") or code in _GONE


def _cause(error: Exception) -> str:
    cause: Any = getattr(error, "orig", None) or error
    if "readonly database" in str(cause):
        return "it can be read, but not written: it is somebody else's, or the disk is full"
    lines = str(cause).strip().splitlines()
    return lines[0] if lines else type(cause).__name__
