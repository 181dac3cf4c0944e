"""Numbered changes of the schema, each applied once, in a transaction."""

from __future__ import annotations

from collections.abc import Callable
from datetime import UTC, datetime

from sqlalchemy import Connection, func, insert, inspect, select, text

from upright_ledger.errors import InputError
from upright_ledger.ledger.db import schema


def _first_schema(connection: Connection) -> None:
    schema.metadata.create_all(connection)


def _days_and_classes(connection: Connection) -> None:
    """Days packed beside their figure; URLs that are set aside as spellings; digests of log
    lines.
    """
    if "days" in {c["name"] for c in inspect(connection).get_columns("evidence")}:
        return  # made by the first migration of a newer program
    old = {name: f"{name}_1" for name in ("spellings", "evidence", "observations", "referrers")}
    for index in (
        "evidence_by_spelling",
        "evidence_by_source",
        "referrers_by_spelling",
        "ix_spellings_entry",
    ):
        connection.execute(text(f"DROP INDEX IF EXISTS {index}"))
    for name, kept in old.items():
        connection.execute(text(f"ALTER TABLE {name} RENAME TO {kept}"))
    connection.execute(text("ALTER TABLE sources ADD COLUMN aside JSON"))
    for column in ("section", "family"):  # never filled, and worked out when asked for
        connection.execute(text(f"ALTER TABLE entries DROP COLUMN {column}"))
    if connection.dialect.name == "postgresql":
        for table, constraint in (
            ("spellings_1", "spellings_by_text"),
            ("observations_1", "observations_by_spelling"),
        ):
            connection.execute(text(f"ALTER TABLE {table} DROP CONSTRAINT {constraint}"))
    schema.metadata.create_all(connection)
    columns = {
        "spellings": "id, site, spelling, entry, variant",
        "observations": "spelling, source, title, language, status, last_seen",
    }
    for name, listed in columns.items():
        new = {"spellings": "aside", "observations": "anchor"}.get(name)
        more, value = (f", {new}", ", ''") if new else ("", "")
        into, origin = f"{name} ({listed}{more})", old[name]
        copy = f"INSERT INTO {into} SELECT {listed}{value} FROM {origin}"  # noqa: S608
        connection.execute(text(copy))
    joined = "string_agg" if connection.dialect.name == "postgresql" else "group_concat"
    connection.execute(
        text(
            "INSERT INTO referrers (spelling, source, referrers) SELECT spelling, source, "
            + joined
            + "(CAST(CAST(amount AS INTEGER) AS TEXT) || ' ' || referrer, '\n') "
            "FROM referrers_1 GROUP BY spelling, source"
        )
    )
    connection.execute(
        text(
            "INSERT INTO evidence (spelling, source, unit, status_class, agent, amount, days, "
            "first_day, last_day) "
            "SELECT spelling, source, unit, status_class, agent, amount, "
            "CASE WHEN day = '' THEN '' ELSE day || ':' || "
            "CAST(CAST(amount AS INTEGER) AS TEXT) END, "
            "day, day FROM evidence_1"
        )
    )
    for kept in reversed(old.values()):
        connection.execute(text(f"DROP TABLE {kept}"))


def _items_and_sections(connection: Connection) -> None:
    """Item numbers on both sides, and the sections of destinations."""
    for table, name in (
        ("observations", "item"),
        ("destinations", "section"),
        ("destinations", "item"),
    ):
        if name not in {c["name"] for c in inspect(connection).get_columns(table)}:
            connection.execute(
                text(f"ALTER TABLE {table} ADD COLUMN {name} TEXT NOT NULL DEFAULT ''")
            )


def _templates(connection: Connection) -> None:
    """Template answers, and rules of servers' files."""
    schema.metadata.create_all(connection)


def _traces_in_blocks(connection: Connection) -> None:
    from upright_ledger.ledger.migrations.traces_in_blocks import traces_in_blocks

    traces_in_blocks(connection)


def _handovers(connection: Connection) -> None:
    """When a build was handed over, and the newest step when it was made: of earlier ones as their
    times tell.
    """
    if "handed_over" in {c["name"] for c in inspect(connection).get_columns("builds")}:
        return  # made by the first migration of a newer program
    connection.execute(
        text("ALTER TABLE builds ADD COLUMN handed_over VARCHAR NOT NULL DEFAULT ''")
    )
    connection.execute(text("ALTER TABLE builds ADD COLUMN step INTEGER NOT NULL DEFAULT 0"))
    newest = "SELECT COALESCE(MAX(steps.id), 0) FROM steps WHERE steps.time <= builds.time"
    connection.execute(text(f"UPDATE builds SET step = ({newest})"))  # noqa: S608


def _following(connection: Connection) -> None:
    """Logs that are followed, what was said last, and messages."""
    schema.metadata.create_all(connection)


def _sound_logs(connection: Connection) -> None:
    from upright_ledger.ledger.migrations.sound_logs import sound_logs

    sound_logs(connection)


def _how_answers_were_found(connection: Connection) -> None:
    """Who decided an answer, and the confidence, reasons and runner-up of the proposal that it is;
    how sources were to be read.
    """
    if "asked" not in {c["name"] for c in inspect(connection).get_columns("sources")}:
        connection.execute(text("ALTER TABLE sources ADD COLUMN asked JSON"))
    if "confidence" in {c["name"] for c in inspect(connection).get_columns("answers")}:
        return  # made by the first migration of a newer program
    number = "DOUBLE PRECISION" if connection.dialect.name == "postgresql" else "FLOAT"
    columns = (
        f"confidence {number}",
        *(f"{n} TEXT NOT NULL DEFAULT ''" for n in ("author", "reasons", "runner_up")),
    )
    for column in columns:
        connection.execute(text(f"ALTER TABLE answers ADD COLUMN {column}"))
    told = (
        "SELECT DISTINCT p.entry, p.confidence, p.destination FROM proposals p "
        "JOIN steps s ON s.id = p.step WHERE s.undone_by IS NULL AND p.confidence > 0"
    )
    for entry, confidence, destination in connection.execute(text(told)).fetchall():
        same = {"entry": entry, "confidence": confidence, "destination": destination}
        connection.execute(
            text(
                "UPDATE answers SET confidence = :confidence "
                "WHERE entry = :entry AND destination = :destination"
            ),
            same,
        )


def _owned_runs(connection: Connection) -> None:
    """Who is at a run, until when it is theirs, and what it is to ask."""
    present = {c["name"] for c in inspect(connection).get_columns("runs")}
    for name in ("owner", "held_until", "asked"):
        if name not in present:
            connection.execute(
                text(f"ALTER TABLE runs ADD COLUMN {name} VARCHAR NOT NULL DEFAULT ''")
            )


MIGRATIONS: tuple[tuple[int, str, Callable[[Connection], None]], ...] = (
    (1, "first schema", _first_schema),
    (2, "days and classes", _days_and_classes),
    (3, "items and sections", _items_and_sections),
    (4, "templates", _templates),
    (6, "traces in blocks", _traces_in_blocks),
    (7, "handovers", _handovers),
    (8, "following", _following),
    (9, "sound logs", _sound_logs),
    (10, "how answers were found", _how_answers_were_found),
    (11, "owned runs", _owned_runs),
)


NEWEST = MIGRATIONS[-1][0]
"""The number of the schema that this program writes."""


def migrate(connection: Connection) -> int:
    """Bring a database to the newest schema; returns its number. Raises InputError for one that is
    newer.
    """
    present = schema_number(connection)
    for number, name, change in MIGRATIONS:
        if number > present:
            change(connection)
            applied = datetime.now(UTC).isoformat(timespec="seconds")
            connection.execute(
                insert(schema.migrations).values(number=number, name=name, applied=applied)
            )
    return NEWEST


def schema_number(connection: Connection) -> int:
    """The number of a database's schema; 0 for one that has none. Raises InputError for one that is
    newer than this program.
    """
    present = 0
    if inspect(connection).has_table("migrations"):
        present = connection.scalar(select(func.max(schema.migrations.c.number))) or 0
    if present > NEWEST:
        raise InputError(
            f"this ledger has schema {present}, and this program knows {NEWEST}",
            "use a newer upright",
        )
    return int(present)
