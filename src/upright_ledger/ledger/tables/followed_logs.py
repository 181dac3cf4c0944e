"""What is followed: how far each log was read, what was said last, and messages that are still to
go out.
"""

from __future__ import annotations

import json
from collections.abc import Iterable, Mapping
from typing import Any, NamedTuple

from upright_ledger.ledger.clock import now
from upright_ledger.ledger.db.connection import Connection, quoted
from upright_ledger.ledger.db.shapes import unpacked
from upright_ledger.ledger.tables.sources import newest_source

ACCESS_LOG = "access-log"
"""The kind of sources that are logs."""


class Followed(NamedTuple):
    """A log that is followed. head: digest of its first line, with a number behind it where several
    logs begin alike; place: of the file that holds it; name: the path of that file; read:
    uncompressed bytes; tail: digest of the last bytes of them; source: the newest source of the
    ledger by then; time: when it was read.
    """

    head: str
    place: str
    name: str
    read: int
    tail: str
    source: int = 0
    time: str = ""


def followed_logs(connection: Connection) -> dict[str, Followed]:
    """Head → log."""
    rows = connection.rows(f"SELECT {quoted(Followed._fields)} FROM followed")
    return {row[0]: Followed(*row) for row in rows}


def note_read(connection: Connection, log: Followed) -> None:
    """Note how far a log was read, as the ledger stands."""
    connection.run("DELETE FROM followed WHERE head = :head", head=log.head)
    told = log._replace(source=newest_source(connection), time=now())
    connection.load("followed", Followed._fields, [told])


def mark_followed(connection: Connection, head: str) -> None:
    """Note of the source that was just added that it is a part of a log that is followed."""
    connection.change("sources", ("id",), ("head_digest",), [(head, newest_source(connection))])


def newest_by_hand(connection: Connection) -> int:
    """The number of the newest log that was gathered by hand; 0 where there is none."""
    query = "SELECT MAX(id) FROM sources WHERE kind = :kind AND head_digest = '' AND NOT withdrawn"
    return connection.value(query, kind=ACCESS_LOG) or 0


def last_reported(connection: Connection) -> dict[int, tuple[str, float]]:
    """Entry → the state in which it was said to be, and how much was lost then."""
    rows = connection.rows("SELECT entry, state, lost FROM reported")
    return {entry: (state, lost) for entry, state, lost in rows}


def note_reported(connection: Connection, states: Mapping[int, tuple[str, float]]) -> None:
    """Note what is said of entries now, in place of all that was said before."""
    connection.run("DELETE FROM reported")
    rows = [(entry, state, lost) for entry, (state, lost) in states.items()]
    connection.load("reported", ("entry", "state", "lost"), rows)


def said_to_be_silent(connection: Connection) -> set[str]:
    """The logs and sites that were said to be silent, and were not heard since."""
    return set(connection.column("SELECT name FROM silent"))


def note_silent(connection: Connection, names: Iterable[str]) -> None:
    """Note what is silent now, in place of all that was before."""
    connection.run("DELETE FROM silent")
    connection.load("silent", ("name",), [(name,) for name in names])


def enqueue(
    connection: Connection,
    channels: Iterable[str],
    message: str,
    subject: str,
    body: str,
    data: dict[str, Any],
) -> None:
    """Keep a message for some channels until it has gone out."""
    told = (message, now(), subject, body, json.dumps(data), "")
    names = ("channel", "message", "created", "subject", "body", "data", "sent")
    connection.load("outbox", names, [(channel, *told) for channel in channels])


class Message(NamedTuple):
    """A message that goes out by one channel. message: its identity; created, sent: times in UTC,
    sent empty until it has gone out.
    """

    id: int
    message: str
    channel: str
    created: str
    subject: str
    body: str
    data: dict[str, Any]
    sent: str


_MESSAGE = Message._fields


def waiting_messages(connection: Connection) -> list[Message]:
    """Messages that have not gone out, the oldest first."""
    query = f"SELECT {quoted(_MESSAGE)} FROM outbox WHERE sent = '' ORDER BY id"
    rows = (dict(zip(_MESSAGE, row, strict=True)) for row in connection.rows(query))
    return [Message(**{**row, "data": unpacked(row["data"])}) for row in rows]


def note_sent(connection: Connection, number: int) -> None:
    """Note that a message has gone out."""
    connection.change("outbox", ("id",), ("sent",), [(now(), number)])
