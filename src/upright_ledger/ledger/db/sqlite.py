"""A ledger's own file: SQLite."""

from __future__ import annotations

import os
import re
import sqlite3
from contextlib import suppress
from pathlib import Path
from typing import Any
from urllib.parse import quote

from sqlalchemy import Connection, Engine, event

from upright_ledger.errors import DatabaseError

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

_WRITES = "upright_writes"
_WRITERS_BYTE = 120
"""Which byte of the file `-shm` a writer locks; https://www.sqlite.org/walformat.html#wal_locks."""
_RESERVED_BYTE = 0x40000001
"""Which byte of the database itself where it keeps no log;
https://www.sqlite.org/fileformat2.html#the_lock_byte_page.
"""


def prepare(engine: Engine) -> None:
    """Let connections be opened and begin as a ledger needs it."""
    path = Path(engine.url.database or "")

    @event.listens_for(engine, "do_connect")
    def on_opening(_dialect: Any, _record: Any, arguments: Any, options: dict[str, Any]) -> Any:
        if not path.is_file() or (os.access(path, os.W_OK) and os.access(path.parent, os.W_OK)):
            connection = sqlite3.connect(*arguments, **options)
            if _has_room(connection):
                return connection
            connection.close()
        # Somebody else's, on a medium that cannot be written, or on a full one: to be read all the
        # same.
        log = path.with_name(f"{path.name}-wal")
        alone = "" if log.exists() and log.stat().st_size else "&immutable=1"
        return sqlite3.connect(
            f"file:{quote(str(path.absolute()))}?mode=ro{alone}", uri=True, **options
        )

    @event.listens_for(engine, "connect")
    def on_connect(connection: Any, _record: Any) -> None:
        connection.isolation_level = (
            None  # the driver's own BEGIN comes too late to keep a step whole
        )
        try:
            for setting in _SETTINGS:
                connection.execute(f"PRAGMA {setting}")
        except UnicodeDecodeError:  # even what SQLite says of it quotes it
            raise DatabaseError(
                f"{path} is damaged", "put it back from a copy of the ledger"
            ) from None

    @event.listens_for(engine, "begin")
    def on_begin(connection: Connection) -> None:
        if not connection.get_execution_options().get(_WRITES):
            connection.exec_driver_sql("BEGIN")


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


def lay_out(engine: Engine) -> None:
    """Begin a file in which readers and writers do not wait for each other. Raises DatabaseError,
    OSError.
    """
    path = Path(engine.url.database or "")
    path.touch(mode=0o600)  # what SQLite keeps beside it takes its permissions
    with engine.connect() as connection:
        try:
            connection.connection.execute("PRAGMA journal_mode = WAL")
        except sqlite3.Error as error:
            raise DatabaseError(
                f"{path} cannot be made: {error}", "check the folder, and the space left"
            ) from None


def keep_log(engine: Engine) -> None:
    """Let readers and writers not wait for each other in a ledger that was restored from a copy or
    a dump without that, too, unless somebody is at it or it cannot be written.
    """
    with engine.connect() as connection:
        driver: Any = connection.connection.driver_connection
        if driver.execute("PRAGMA journal_mode").fetchone() == ("wal",):
            return
        driver.execute("PRAGMA busy_timeout = 0")
        with suppress(sqlite3.OperationalError):
            driver.execute("PRAGMA journal_mode = WAL").fetchone()
        driver.execute(f"PRAGMA {_SETTINGS[-1]}")


def shorten_log(engine: Engine) -> None:
    """Take what was written into the file itself, where SQLite's own log of it has become long: as
    somebody reads whenever it tries, it would grow for ever.
    """
    path = Path(engine.url.database or "")
    log = path.with_name(f"{path.name}-wal")
    if not log.exists() or log.stat().st_size < _LONG_LOG:
        return
    with engine.connect() as connection:
        driver: Any = connection.connection.driver_connection
        driver.execute("PRAGMA busy_timeout = 0")
        driver.execute(
            "PRAGMA wal_checkpoint(TRUNCATE)"
        ).fetchall()  # says whether it could; the next one will
        driver.execute(f"PRAGMA {_SETTINGS[-1]}")


def take_turn(connection: Connection, name: str, seconds: float) -> str:
    """Begin to write: at once, as one that began by reading could never get its turn. Returns for
    whom to wait where it does not come in some seconds.
    """
    del name  # who writes is known by the lock
    connection.execution_options(**{_WRITES: True})
    driver: Any = connection.connection.driver_connection
    driver.execute(f"PRAGMA cache_size = -{WRITERS_CACHE_KB}")
    connection.begin()
    if wait_on(connection, seconds):
        return ""
    return _writer(Path(connection.engine.url.database or ""))


def wait_on(connection: Connection, seconds: float) -> bool:
    """Wait for the turn so many seconds; whether it came."""
    driver: Any = connection.connection.driver_connection
    driver.execute(f"PRAGMA busy_timeout = {seconds * 1000:.0f}")
    try:
        driver.execute("BEGIN IMMEDIATE")
    except sqlite3.OperationalError as error:
        if _is_busy(error):
            return False
        connection.exec_driver_sql(
            "BEGIN IMMEDIATE"
        )  # fails again, and is told in SQLAlchemy's way
    return True


def _is_busy(error: sqlite3.Error) -> bool:
    return error.sqlite_errorcode & 0xFF == sqlite3.SQLITE_BUSY


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
