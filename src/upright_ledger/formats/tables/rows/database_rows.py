"""Databases in a file of their own (https://www.sqlite.org/fileformat.html) as rows: those of the
table that holds addresses.
"""

from __future__ import annotations

import sqlite3
from collections.abc import Iterator
from contextlib import closing
from itertools import islice
from pathlib import Path
from urllib.parse import quote

from upright_ledger.errors import InputError, NoAddressesError
from upright_ledger.formats.tables.cells import Row, cell_text
from upright_ledger.formats.tables.rows.sql_rows import SAMPLE, addresses_in, note_of_others

_OURS = frozenset(["entries", "spellings", "evidence", "steps"])
_LONGEST = 1 << 24  # bytes of a value


def database_rows(path: Path, notes: list[str]) -> Iterator[Row]:
    """The rows of the table in which most addresses are, under its columns' names. notes: gets the
    names of other such tables. Raises InputError; NoAddressesError for a ledger.
    """
    try:
        with closing(_opened(path)) as database:
            yield from _rows(path, database, notes)
    except sqlite3.Error as error:
        raise InputError(f"{path} is a damaged database: {error}", "export it as CSV") from None


def _opened(path: Path) -> sqlite3.Connection:
    """A database as it lies there: nothing is written, not even what it left beside itself, and
    nothing in its own statements is run that could reach further.
    """
    address = f"file:{quote(str(path.absolute()))}?mode=ro&immutable=1"
    database = sqlite3.connect(address, uri=True)
    database.execute("PRAGMA trusted_schema = OFF")
    database.setlimit(sqlite3.SQLITE_LIMIT_LENGTH, _LONGEST)
    database.text_factory = lambda told: told.decode("utf-8", "replace")
    return database


def _rows(path: Path, database: sqlite3.Connection, notes: list[str]) -> Iterator[Row]:
    made = (
        "SELECT name FROM sqlite_master WHERE type = 'table' AND name NOT LIKE 'sqlite|_%' "
        "ESCAPE '|' AND sql NOT LIKE 'CREATE VIRTUAL%' ORDER BY rowid"
    )
    names = [name for (name,) in database.execute(made)]
    if set(names) >= _OURS:
        raise NoAddressesError(
            f"{path} is a ledger", "write its entries with `upright entries --csv FILE`"
        )
    ranked = sorted(((_addresses(database, name), name) for name in names), key=lambda t: -t[0])
    if not ranked or not ranked[0][0]:
        raise NoAddressesError(
            f"{path} is a database that holds no addresses", "export the list as CSV or text"
        )
    if (log := Path(f"{path}-wal")).is_file() and log.stat().st_size:
        notes.append(f"what its program has written into {log.name} only is not read")
    notes += note_of_others(ranked[0][1], [name for many, name in ranked[1:] if many])
    found = database.execute(_all_of(ranked[0][1]))
    yield 0, [column[0] for column in found.description]
    for number, row in enumerate(found, 1):
        cells = [*map(cell_text, row)]
        yield number, cells if any(cells) else []


def _addresses(database: sqlite3.Connection, name: str) -> int:
    """How many rows of a table hold an address in the column that holds most of them."""
    seen = [[*map(cell_text, row)] for row in islice(database.execute(_all_of(name)), SAMPLE)]
    (many,) = database.execute(f"SELECT COUNT(*) FROM ({_all_of(name)})").fetchone()  # noqa: S608
    return addresses_in(seen, many)


def _all_of(table: str) -> str:
    name = table.replace('"', '""')
    return f'SELECT * FROM "{name}"'  # noqa: S608 (it is quoted)
