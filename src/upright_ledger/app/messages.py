"""Messages about what changed: kept until they are handed over, by every channel that the settings
name.
"""

from __future__ import annotations

import hashlib
import os
from collections.abc import Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from msgspec import structs

from upright_ledger.core.monitoring.changes import News, body_of, subject_of
from upright_ledger.errors import InputError, UprightError
from upright_ledger.formats.files.atomic import json_bytes
from upright_ledger.formats.files.outputs import write_output
from upright_ledger.ledger.clock import now
from upright_ledger.ledger.db.connection import Connection
from upright_ledger.ledger.store import Ledger
from upright_ledger.ledger.tables.followed_logs import enqueue, note_sent, waiting_messages
from upright_ledger.settings.model import Notify
from upright_ledger.web.notify import Mail, post_json, send_mail

MAIL, POST, FILE = "mail", "post", "file"
PASSWORD = "UPRIGHT_SMTP_PASSWORD"  # noqa: S105 (the name of a variable)


@dataclass
class Delivered:
    """What became of messages. sent: channels by which they went out; failed: those that could
    not, with the reason.
    """

    sent: list[str] = field(default_factory=list)
    failed: list[UprightError] = field(default_factory=list)

    def as_dict(self) -> dict[str, Any]:
        """As data."""
        return {"sent": self.sent, "failed": [str(e) for e in self.failed]}


def as_data(found: Sequence[News]) -> list[dict[str, Any]]:
    """What changed, as data."""
    return [{"kind": n.kind, **n.item._asdict()} for n in found]


def keep_message(
    connection: Connection,
    ledger: Ledger,
    found: Sequence[News],
    read: str,
    shown: str,
    file: Path | None,
) -> None:
    """Keep a message, to go out by each channel: within the transaction that notes what it says as
    said. read: what was looked at, in words; shown: the command that shows all of it; file: where
    to write it, too.
    """
    name = ledger.settings.name or ledger.folder.name
    enqueue(
        connection,
        _channels(ledger.settings.notify, file),
        f"{now().replace(':', '')}-{_digest(found)}",
        subject_of(name, found),
        body_of(found, read, shown),
        {"name": name, "time": now(), "news": as_data(found)},
    )


def _channels(notify: Notify, file: Path | None) -> list[str]:
    return [
        *([MAIL] if notify.to else []),
        *([POST] if notify.post else []),
        *([FILE] if file is not None else []),
    ]


def _digest(found: Sequence[News]) -> str:
    """A number for a message, by what it says."""
    return hashlib.blake2b(repr(found).encode(), digest_size=6).hexdigest()


def deliver(ledger: Ledger, file: Path | None) -> Delivered:
    """Hand over what waits, each message by itself."""
    notify, result = ledger.settings.notify, Delivered()
    with ledger.reading() as connection:
        waiting = waiting_messages(connection)
    for message in waiting:
        try:
            if message.channel == MAIL and notify.to:
                for refused in send_mail(
                    _mail(notify), message.message, message.subject, message.body
                ):
                    result.failed.append(
                        InputError(
                            f"the mail server refused {refused}",
                            "check [notify] of upright.toml; the others have it",
                        )
                    )
            elif message.channel == POST and notify.post:
                post_json(
                    notify.post, {"id": message.message, "subject": message.subject, **message.data}
                )
            elif message.channel == FILE and file is not None:
                said = {"id": message.message, "subject": message.subject, "text": message.body}
                write_output(file, json_bytes(said | message.data))
            else:
                continue  # the settings do not name that channel any more
        except UprightError as error:
            result.failed.append(error)
            continue
        with ledger.writing() as connection:
            note_sent(connection, message.id)
        result.sent.append(message.channel)
    return result


def _mail(notify: Notify) -> Mail:
    told = structs.asdict(notify)
    for name in ("post", "least", "silent_after"):
        del told[name]
    return Mail(**told, password=os.environ.get(PASSWORD, ""))
