"""A ledger's own file: SQLite."""

from __future__ import annotations

import os
import re
import sqlite3
import threading
from collections.abc import Callable, Iterable, Iterator, Sequence
from contextlib import closing, contextmanager, suppress
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING, Any, cast
from urllib.parse import quote

from upright_ledger.errors import DatabaseError
from upright_ledger.ledger.db.connection import Connection, Database, quoted

if TYPE_CHECKING:
    import sqlalchemy

CACHE_KB = 24_000
"""What is looked up is little."""
WRITERS_CACHE_KB = 200_000
"""For the indexes of a million entries; with less, their pages are written again and again."""

_SETTINGS = (
    "synchronous = NORMAL",
    "foreign_keys = ON",
    f"cache_size = -{CACHE_KB}",
    "temp_store = MEMORY",
    # ms, of what is no turn of a writer's: a file that is being mended, say
    "busy_timeout = 60000",
)

_LONG_LOG = 64 << 20

_WRITERS_BYTE = 120
"""Which byte of the file `-shm` a writer locks; https://www.sqlite.org/walformat.html#wal_locks."""
_RESERVED_BYTE = 0x40000001
"""Which byte of the database itself where it keeps no log;
https://www.sqlite.org/fileformat2.html#the_lock_byte_page.
"""


class _Driver(sqlite3.Connection):
    """A connection of which SQLAlchemy is a guest: it ends none of its transactions, and does not
    close it.
    """

    def commit(self) -> None:
        """Nothing: `FileConnection` does it."""

    def rollback(self) -> None:
        """Nothing: what is not committed goes when the connection does."""

    def close(self) -> None:
        """Nothing: `FileConnection` does it."""


class FileConnection(Connection):
    """A connection to a ledger's file."""

    def __init__(self, driver: _Driver, guest: Callable[[_Driver], sqlalchemy.Connection]) -> None:
        super().__init__(driver)
        self._guest = guest

    @cached_property
    def core(self) -> sqlalchemy.Connection:
        """The same transaction, as SQLAlchemy has it."""
        return self._guest(self.driver)

    def stream(self, statement: str) -> Iterator[tuple[Any, ...]]:
        """The rows of a query as they come."""
        yield from self.driver.execute(statement)

    def load(self, table: str, columns: Sequence[str], rows: Iterable[tuple[Any, ...]]) -> None:
        """Insert rows (tuples in the order of `columns`)."""
        marks = ", ".join("?" for _ in columns)
        # names come from the schema
        self._many(f'INSERT INTO "{table}" ({quoted(columns)}) VALUES ({marks})', rows)

    @contextmanager
    def filling(self, table: str) -> Iterator[None]:
        """While a table that was emptied is filled with very many rows: its indexes are made
        afterwards, as in order they take a third of the time.
        """
        held = "FROM {} WHERE tbl_name = :table AND sql IS NOT NULL"
        if self.value(f"SELECT 1 {held.format('sqlite_temp_master')}", table=table) is not None:
            yield  # one that hides the ledger's
            return
        indexes = f"SELECT name, sql {held.format('sqlite_master')} AND type = 'index'"
        found = self.rows(indexes, table=table)
        for name, _ in found:
            self.run(f'DROP INDEX "{name}"')
        yield
        for _, statement in found:
            self.driver.execute(statement)

    def change(
        self,
        table: str,
        keys: Sequence[str],
        columns: Sequence[str],
        rows: Iterable[tuple[Any, ...]],
    ) -> None:
        """Change columns of rows (tuples in the order of `columns`, then `keys`)."""
        put = ", ".join(f'"{c}" = ?' for c in columns)
        self._many(f'UPDATE "{table}" SET {put} WHERE {_each(keys)}', rows)

    def delete(self, table: str, keys: Sequence[str], rows: Sequence[tuple[Any, ...]]) -> None:
        """Delete rows by the values of their key columns."""
        self._many(f'DELETE FROM "{table}" WHERE {_each(keys)}', rows)

    def _many(self, statement: str, rows: Iterable[tuple[Any, ...]]) -> None:
        """Execute a statement once a row."""
        self.driver.executemany(statement, rows)

    def has_table(self, name: str) -> bool:
        """Whether the file has a table of that name."""
        query = "SELECT 1 FROM sqlite_master WHERE type = 'table' AND name = :name"
        return self.value(query, name=name) is not None

    def commit(self) -> None:
        """Let what was written stand."""
        self.driver.execute("COMMIT")

    def close(self) -> None:
        """Let go of it; what was not committed is taken back."""
        if "core" in vars(self):
            self.core.close()
        sqlite3.Connection.close(self.driver)

    drop = close


def _each(keys: Sequence[str]) -> str:
    return " AND ".join(f'"{k}" = ?' for k in keys)


class File(Database):
    """A ledger's own file."""

    def __init__(self, path: Path) -> None:
        super().__init__(str(path))
        self.path = path
        self._handed = threading.local()

    def open(self, *, one_state: bool = False) -> Connection:
        """A connection. Raises DatabaseError where it is no database any more."""
        driver = self._driver()
        try:
            for setting in _SETTINGS:
                driver.execute(f"PRAGMA {setting}")
        except UnicodeDecodeError:  # even what SQLite says of it quotes it
            raise DatabaseError(
                f"{self.path} is damaged", "put it back from a copy of the ledger"
            ) from None
        if one_state:
            driver.execute("BEGIN")
        return FileConnection(driver, self._guest)

    def _driver(self) -> _Driver:
        path = self.path
        # The driver's own BEGIN comes too late to keep a step whole.
        how: dict[str, Any] = {
            "isolation_level": None,
            "check_same_thread": False,
            "factory": _Driver,
        }
        if not path.is_file() or (os.access(path, os.W_OK) and os.access(path.parent, os.W_OK)):
            connection = cast(_Driver, sqlite3.connect(path, **how))
            if _has_room(connection):
                return connection
            sqlite3.Connection.close(connection)
        # Somebody else's, on a medium that cannot be written, or on a full one: to be read all the
        # same.
        log = path.with_name(f"{path.name}-wal")
        alone = "" if log.exists() and log.stat().st_size else "&immutable=1"
        address = f"file:{quote(str(path.absolute()))}?mode=ro{alone}"
        return cast(_Driver, sqlite3.connect(address, uri=True, **how))

    def _guest(self, driver: _Driver) -> sqlalchemy.Connection:
        self._handed.driver = driver
        return self._engine.connect()

    @cached_property
    def _engine(self) -> sqlalchemy.Engine:
        from sqlalchemy import create_engine
        from sqlalchemy.pool import NullPool

        return create_engine("sqlite://", creator=lambda: self._handed.driver, poolclass=NullPool)

    def lay_out(self) -> None:
        """Begin a file in which readers and writers do not wait for each other. Raises
        DatabaseError, OSError.
        """
        self.path.touch(mode=0o600)  # what SQLite keeps beside it takes its permissions
        with closing(self.open()) as connection:
            try:
                connection.run("PRAGMA journal_mode = WAL")
            except sqlite3.Error as error:
                raise DatabaseError(
                    f"{self.path} cannot be made: {error}", "check the folder, and the space left"
                ) from None

    def keep_log(self) -> None:
        """Let readers and writers not wait for each other in a ledger that was restored from a copy
        or a dump without that, too, unless somebody is at it or it cannot be written.
        """
        with closing(self.open()) as connection:
            if connection.value("PRAGMA journal_mode") == "wal":
                return
            connection.run("PRAGMA busy_timeout = 0")
            with suppress(sqlite3.OperationalError):
                connection.value("PRAGMA journal_mode = WAL")

    def shorten_log(self) -> None:
        """Take what was written into the file itself, where SQLite's own log of it has become long:
        as somebody reads whenever it tries, it would grow for ever.
        """
        log = self.path.with_name(f"{self.path.name}-wal")
        if not log.exists() or log.stat().st_size < _LONG_LOG:
            return
        with closing(self.open()) as connection:
            connection.run("PRAGMA busy_timeout = 0")
            # says whether it could; the next one will
            connection.rows("PRAGMA wal_checkpoint(TRUNCATE)")

    def take_turn(self, connection: Connection, name: str, seconds: float) -> str:
        """Begin to write: at once, as one that began by reading could never get its turn. Returns
        for whom to wait where it does not come in some seconds.
        """
        del name  # who writes is known by the lock
        connection.run(f"PRAGMA cache_size = -{WRITERS_CACHE_KB}")
        return "" if self.wait_on(connection, seconds) else _writer(self.path)

    def wait_on(self, connection: Connection, seconds: float) -> bool:
        """Wait for the turn so many seconds; whether it came."""
        connection.run(f"PRAGMA busy_timeout = {seconds * 1000:.0f}")
        try:
            connection.run("BEGIN IMMEDIATE")
        except sqlite3.OperationalError as error:
            if error.sqlite_errorcode & 0xFF == sqlite3.SQLITE_BUSY:
                return False
            raise
        return True


def _has_room(connection: sqlite3.Connection) -> bool:
    """Whether the files can be made that SQLite keeps beside a database while it is open."""
    try:
        connection.execute("SELECT 1 FROM sqlite_master LIMIT 1").fetchall()
    except sqlite3.OperationalError as error:
        return error.sqlite_errorcode & 0xFF not in {
            sqlite3.SQLITE_CANTOPEN,
            sqlite3.SQLITE_FULL,
            sqlite3.SQLITE_IOERR,
        }
    except (sqlite3.DatabaseError, UnicodeDecodeError):  # it is damaged, and told so
        return True
    return True


_LOCK = re.compile(
    r"\d+: POSIX\s+ADVISORY\s+WRITE\s+(\d+)\s+[0-9a-f]+:[0-9a-f]+:(\d+)\s+(\d+)\s+(\d+)"
)
"""A line of /proc/locks: process, inode, first and last byte; proc_locks(5)."""


def _writer(database: Path) -> str:
    """Who is writing, in words, as far as this system tells."""
    places = {}
    for path, byte in (
        (database.with_name(f"{database.name}-shm"), _WRITERS_BYTE),
        (database, _RESERVED_BYTE),
    ):
        with suppress(OSError):
            places[path.stat().st_ino] = byte
    with suppress(OSError):
        for line in Path("/proc/locks").read_text(encoding="ascii", errors="replace").splitlines():
            found = _LOCK.match(line)
            if (
                found
                and (byte := places.get(int(found[2]), -1)) >= 0
                and int(found[3]) <= byte <= int(found[4])
            ):
                return f"{_command(int(found[1]))} (process {found[1]})"
    return "another command"


def _command(process: int) -> str:
    """Which of our commands a process is; no more of its command line, as that may hold secrets."""
    with suppress(OSError):
        words = Path(f"/proc/{process}/cmdline").read_bytes().decode("utf-8", "replace").split("\0")
        names = [Path(word).name for word in words]
        if "upright" in names:
            behind = iter(words[names.index("upright") + 1 :])
            for word in behind:
                if word == "--ledger":
                    next(behind, "")
                elif re.fullmatch(r"[a-z]+", word):
                    return f"upright {word}"
    return "another command"
