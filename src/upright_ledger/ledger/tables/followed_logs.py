"""What is followed: how far each log was read, what was said last, and messages that are still to
go out.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from typing import Any, NamedTuple

from sqlalchemy import Connection, delete, func, insert, select, update

from upright_ledger.ledger.clock import now
from upright_ledger.ledger.db import schema
from upright_ledger.ledger.db.bulk import load_rows
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
    f = schema.followed
    rows = connection.execute(
        select(f.c.head, f.c.place, f.c.name, f.c.read, f.c.tail, f.c.source, f.c.time)
    )
    return {row.head: Followed(*row) for row in rows}


def note_read(connection: Connection, log: Followed) -> None:
    """Note how far a log was read, as the ledger stands."""
    f = schema.followed
    connection.execute(delete(f).where(f.c.head == log.head))
    connection.execute(
        insert(f).values(**log._replace(source=newest_source(connection), time=now())._asdict())
    )


def mark_followed(connection: Connection, head: str) -> None:
    """Note of the source that was just added that it is a part of a log that is followed."""
    s = schema.sources
    connection.execute(
        update(s).where(s.c.id == newest_source(connection)).values(head_digest=head)
    )


def newest_by_hand(connection: Connection) -> int:
    """The number of the newest log that was gathered by hand; 0 where there is none."""
    s = schema.sources
    query = select(func.max(s.c.id)).where(
        s.c.kind == ACCESS_LOG, s.c.head_digest == "", s.c.withdrawn.is_(False)
    )
    return connection.scalar(query) or 0


def last_reported(connection: Connection) -> dict[int, tuple[str, float]]:
    """Entry → the state in which it was said to be, and how much was lost then."""
    r = schema.reported
    return {row.entry: (row.state, row.lost) for row in connection.execute(select(r))}


def note_reported(connection: Connection, states: Mapping[int, tuple[str, float]]) -> None:
    """Note what is said of entries now, in place of all that was said before."""
    connection.execute(delete(schema.reported))
    rows = [(entry, state, lost) for entry, (state, lost) in states.items()]
    load_rows(connection, schema.reported, ("entry", "state", "lost"), rows)


def enqueue(
    connection: Connection,
    channels: Iterable[str],
    message: str,
    subject: str,
    body: str,
    data: dict[str, Any],
) -> None:
    """Keep a message for some channels until it has gone out."""
    row = {
        "message": message,
        "created": now(),
        "subject": subject,
        "body": body,
        "data": data,
        "sent": "",
    }
    for channel in channels:
        connection.execute(insert(schema.outbox).values(**row, channel=channel))


@dataclass(frozen=True, slots=True)
class Message:
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


def waiting_messages(connection: Connection) -> list[Message]:
    """Messages that have not gone out, the oldest first."""
    o = schema.outbox
    query = select(o).where(o.c.sent == "").order_by(o.c.id)
    return [Message(**row._asdict()) for row in connection.execute(query)]


def note_sent(connection: Connection, number: int) -> None:
    """Note that a message has gone out."""
    connection.execute(update(schema.outbox).where(schema.outbox.c.id == number).values(sent=now()))
