"""A connection to a ledger's database: what all that is asked and written goes through.

Statements are told as SQL that both databases read, and given to the driver itself. SQLAlchemy lays
out the tables, in the same transaction; it is loaded when it is asked for, as that takes longer
than most questions.
"""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Callable, Iterable, Iterator, Sequence
from contextlib import contextmanager
from functools import cached_property
from typing import TYPE_CHECKING, Any, ClassVar

from upright_ledger.ledger.clock import author

if TYPE_CHECKING:
    import sqlalchemy

AT_ONCE = 20_000
"""Rows that go to the driver in one call, or come from it."""


class Connection(ABC):
    """A connection, within one transaction. driver: that of the database's own library."""

    is_server = False
    """Whether the database is a server's, with a dialect of its own."""

    def __init__(self, driver: Any) -> None:
        self.driver = driver

    def author(self) -> str:
        """Who is at work."""
        return author()

    def run(self, statement: str, **values: Any) -> Any:
        """Execute a statement, with values as in ":name"; returns its cursor, which gives its rows
        as tuples.
        """
        return self.driver.execute(self._told(statement), values)

    def rows(self, statement: str, **values: Any) -> list[tuple[Any, ...]]:
        """The rows of a query."""
        found: list[tuple[Any, ...]] = self.run(statement, **values).fetchall()
        return found

    def column(self, statement: str, **values: Any) -> list[Any]:
        """The first value of each row of a query."""
        return [row[0] for row in self.run(statement, **values).fetchall()]

    def value(self, statement: str, **values: Any) -> Any:
        """The first value of the first row of a query; None where there is none."""
        row = self.run(statement, **values).fetchone()
        return row[0] if row is not None else None

    def _told(self, statement: str) -> str:
        return statement

    @abstractmethod
    def stream(self, statement: str) -> Iterator[tuple[Any, ...]]:
        """The rows of a query as they come."""

    @abstractmethod
    def load(self, table: str, columns: Sequence[str], rows: Iterable[tuple[Any, ...]]) -> None:
        """Insert rows (tuples in the order of `columns`)."""

    @contextmanager
    def filling(self, table: str) -> Iterator[None]:
        """While very many rows of a table are written, or most of it is changed."""
        del table  # most have nothing to do
        yield

    @abstractmethod
    def change(
        self,
        table: str,
        keys: Sequence[str],
        columns: Sequence[str],
        rows: Iterable[tuple[Any, ...]],
    ) -> None:
        """Change columns of rows (tuples in the order of `columns`, then `keys`)."""

    @abstractmethod
    def delete(self, table: str, keys: Sequence[str], rows: Sequence[tuple[Any, ...]]) -> None:
        """Delete rows by the values of their key columns."""

    @abstractmethod
    def has_table(self, name: str) -> bool:
        """Whether the database has a table of that name."""

    @abstractmethod
    def commit(self) -> None:
        """Let what was written stand."""

    @abstractmethod
    def close(self) -> None:
        """Let go of it; what was not committed is taken back."""

    @abstractmethod
    def drop(self) -> None:
        """As `close`, without a word to a database that may not listen any more."""

    @cached_property
    @abstractmethod
    def core(self) -> sqlalchemy.Connection:
        """The same transaction, as SQLAlchemy has it."""


class Database(ABC):
    """A database that holds a ledger. where: its address, or its file."""

    is_shared: ClassVar[bool] = False
    """Whether it is a team's, and holds the settings that decide meaning."""

    def __init__(self, where: str) -> None:
        self.where = where

    @abstractmethod
    def open(self, *, one_state: bool = False) -> Connection:
        """A connection. one_state: whether all that is asked is of one state of the database."""

    @abstractmethod
    def take_turn(self, connection: Connection, name: str, seconds: float) -> str:
        """Begin to write. name: of a step, for those who wait for it; empty for what is none.
        Returns for whom to wait where the turn does not come in some seconds.
        """

    @abstractmethod
    def wait_on(self, connection: Connection, seconds: float) -> bool:
        """Wait for the turn so many seconds; whether it came."""

    @contextmanager
    def alone_at(self, work: str, tell: Callable[[str], None]) -> Iterator[None]:
        """Do work of a sort that several should not do at once. tell: is told for whom it waits."""
        del work, tell  # a ledger of one's own is written by one at a time as it is
        yield

    def ledgers(self) -> list[str]:
        """The names of the ledgers in it, where it can hold several."""
        return []

    def lay_out(self) -> None:  # noqa: B027 - most have nothing to do
        """Begin it, where that is ours to do. Raises DatabaseError, OSError."""

    def keep_log(self) -> None:  # noqa: B027 - most have nothing to do
        """Let readers and writers not wait for each other, where it does not know that by
        itself.
        """

    def shorten_log(self) -> None:  # noqa: B027 - most have nothing to do
        """Take what was written into its place, where it does not do that by itself."""

    def dispose(self) -> None:  # noqa: B027 - most have nothing to do
        """Let go of all connections."""


def quoted(names: Iterable[str]) -> str:
    """Names of columns, as SQL lists them."""
    return ", ".join([f'"{n}"' for n in names])


def numbered(values: Iterable[Any], name: str = "v") -> tuple[str, dict[str, Any]]:
    """Values for `IN`: the text that stands behind it, and the values by their names in it, which
    begin with `name`.
    """
    named = {f"{name}{n}": value for n, value in enumerate(values)}
    return f"({', '.join([f':{told}' for told in named])})", named


def in_numbers(numbers: Iterable[int]) -> str:
    """What stands behind `IN` for numbers of rows, in order."""
    return f"({', '.join([str(int(n)) for n in sorted(numbers)]) or 'NULL'})"


def batches(rows: Iterable[Any], size: int) -> Iterator[list[Any]]:
    """Rows in lists of at most `size`."""
    chunk: list[Any] = []
    for row in rows:
        chunk.append(row)
        if len(chunk) == size:
            yield chunk
            chunk = []
    if chunk:
        yield chunk
