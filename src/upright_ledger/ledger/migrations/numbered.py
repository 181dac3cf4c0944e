"""Numbered changes of the schema, each applied once, in a transaction."""

from __future__ import annotations

from collections.abc import Callable
from datetime import UTC, datetime

from upright_ledger.ledger.db import derived, schema
from upright_ledger.ledger.db.connection import Connection
from upright_ledger.ledger.db.versions import NEWEST, schema_number
from upright_ledger.ledger.migrations.m02_days_and_classes import days_and_classes
from upright_ledger.ledger.migrations.m06_traces_in_blocks import traces_in_blocks
from upright_ledger.ledger.migrations.m09_sound_logs import sound_logs
from upright_ledger.ledger.migrations.m10_found_answers import found_answers
from upright_ledger.ledger.migrations.m12_lines_of_entries import lines_of_entries
from upright_ledger.ledger.migrations.statements import run


def _sql(*statements: str) -> Callable[[Connection], None]:
    """A change that is statements alone."""
    return lambda connection: run(connection, *statements)


def _begin(_: Connection) -> None:
    """Where ledgers begin: one without a schema gets the newest at once."""


MIGRATIONS: tuple[tuple[int, str, Callable[[Connection], None]], ...] = (
    (1, "first schema", _begin),
    (2, "days and classes", days_and_classes),
    (
        3,
        "items and sections",
        _sql(
            "ALTER TABLE observations ADD COLUMN item TEXT NOT NULL DEFAULT ''",
            "ALTER TABLE destinations ADD COLUMN section TEXT NOT NULL DEFAULT ''",
            "ALTER TABLE destinations ADD COLUMN item TEXT NOT NULL DEFAULT ''",
        ),
    ),
    (
        4,
        "templates",
        _sql(
            "CREATE TABLE templates (id <id> NOT NULL, site VARCHAR NOT NULL, "
            "source TEXT NOT NULL, status INTEGER NOT NULL, destination TEXT NOT NULL, "
            '"query" VARCHAR NOT NULL, "by" VARCHAR NOT NULL, "where" VARCHAR NOT NULL, '
            "PRIMARY KEY (id), CONSTRAINT templates_by_source UNIQUE (site, source))",
            "CREATE TABLE imported (source INTEGER NOT NULL, number INTEGER NOT NULL, "
            "rule JSON NOT NULL, FOREIGN KEY(source) REFERENCES sources (id))",
            "CREATE INDEX imported_by_source ON imported (source, number)",
        ),
    ),
    (
        5,
        "values and pages of traces",
        _sql(
            "ALTER TABLE traces ADD COLUMN value FLOAT NOT NULL DEFAULT 0",
            "ALTER TABLE traces ADD COLUMN page JSON",
        ),
    ),
    (6, "traces in blocks", traces_in_blocks),
    (
        7,
        "handovers",
        _sql(
            "ALTER TABLE builds ADD COLUMN handed_over VARCHAR NOT NULL DEFAULT ''",
            "ALTER TABLE builds ADD COLUMN step INTEGER NOT NULL DEFAULT 0",
            # the newest step when a build was made, as their times tell
            "UPDATE builds SET step = (SELECT COALESCE(MAX(steps.id), 0) FROM steps "
            "WHERE steps.time <= builds.time)",
        ),
    ),
    (
        8,
        "following",
        _sql(
            "CREATE TABLE followed (head VARCHAR NOT NULL, place VARCHAR NOT NULL, "
            "name TEXT NOT NULL, read INTEGER NOT NULL, tail VARCHAR NOT NULL, "
            "source INTEGER NOT NULL, time VARCHAR NOT NULL, PRIMARY KEY (head))",
            "CREATE TABLE outbox (id <id> NOT NULL, message VARCHAR NOT NULL, "
            "channel VARCHAR NOT NULL, created VARCHAR NOT NULL, subject TEXT NOT NULL, "
            "body TEXT NOT NULL, data JSON NOT NULL, sent VARCHAR NOT NULL, PRIMARY KEY (id))",
            "CREATE TABLE reported (entry INTEGER NOT NULL, state VARCHAR NOT NULL, "
            "lost FLOAT NOT NULL, PRIMARY KEY (entry), "
            "FOREIGN KEY(entry) REFERENCES entries (id))",
        ),
    ),
    (9, "sound logs", sound_logs),
    (10, "how answers were found", found_answers),
    (
        11,
        "owned runs",
        _sql(
            "ALTER TABLE runs ADD COLUMN owner VARCHAR NOT NULL DEFAULT ''",
            "ALTER TABLE runs ADD COLUMN held_until VARCHAR NOT NULL DEFAULT ''",
            "ALTER TABLE runs ADD COLUMN asked VARCHAR NOT NULL DEFAULT ''",
        ),
    ),
    (12, "lines of entries", lines_of_entries),
    (
        13,
        "days of answers",
        _sql(
            "ALTER TABLE answers ADD COLUMN until VARCHAR NOT NULL DEFAULT ''",
            "CREATE INDEX answers_with_a_day ON answers (until) WHERE until <> ''",
        ),
    ),
    (
        14,
        "what is silent",
        _sql("CREATE TABLE silent (name VARCHAR NOT NULL, PRIMARY KEY (name))"),
    ),
    (
        15,
        "waves",
        _sql(
            "ALTER TABLE builds ADD COLUMN wave VARCHAR NOT NULL DEFAULT ''",
            "ALTER TABLE builds ADD COLUMN sections TEXT NOT NULL DEFAULT ''",
        ),
    ),
    (
        16,
        "settings of a team",
        _sql(
            "CREATE TABLE shared (number <id> NOT NULL, value JSON NOT NULL, PRIMARY KEY (number))",
            "CREATE TABLE lent (entry INTEGER NOT NULL, holder VARCHAR NOT NULL, "
            "until VARCHAR NOT NULL, PRIMARY KEY (entry), "
            "FOREIGN KEY(entry) REFERENCES entries (id))",
        ),
    ),
)
"""Number, name and change, from the schema before it. Each holds its own statements, so that what
the program's schema becomes later changes none of them.
"""


def migrate(connection: Connection) -> int:
    """Bring a database to the newest schema; returns its number. Raises InputError for one that is
    newer.
    """
    present = schema_number(connection)
    if not present:
        derived.metadata.create_all(connection.core)
        run(connection, *schema.MORE)
    for number, name, change in MIGRATIONS:
        if number > present:
            if present:
                change(connection)
            applied = datetime.now(UTC).isoformat(timespec="seconds")
            connection.load("migrations", ("number", "name", "applied"), [(number, name, applied)])
    return NEWEST
