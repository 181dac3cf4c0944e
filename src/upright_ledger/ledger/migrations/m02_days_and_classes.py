"""Days packed beside their figure; addresses that are set aside as spellings; digests of lines."""

from __future__ import annotations

from upright_ledger.ledger.db.connection import Connection
from upright_ledger.ledger.migrations.statements import run

_ASIDE = ("spellings", "evidence", "observations", "referrers")

_OLD = (
    "DROP INDEX IF EXISTS evidence_by_spelling",
    "DROP INDEX IF EXISTS evidence_by_source",
    "DROP INDEX IF EXISTS referrers_by_spelling",
    "DROP INDEX IF EXISTS ix_spellings_entry",
    *(f"ALTER TABLE {name} RENAME TO {name}_1" for name in _ASIDE),
    "ALTER TABLE sources ADD COLUMN aside JSON",
    # never filled, and worked out when asked for
    "ALTER TABLE entries DROP COLUMN section",
    "ALTER TABLE entries DROP COLUMN family",
)
_ON_POSTGRESQL = (
    "ALTER TABLE spellings_1 DROP CONSTRAINT spellings_by_text",
    "ALTER TABLE observations_1 DROP CONSTRAINT observations_by_spelling",
)
_NEW = (
    (
        "CREATE TABLE spellings (id <id> NOT NULL, site VARCHAR NOT NULL, spelling TEXT NOT NULL, "
        "entry INTEGER, variant TEXT NOT NULL, aside VARCHAR NOT NULL, PRIMARY KEY (id), "
        "CONSTRAINT spellings_by_text UNIQUE (site, spelling), "
        "FOREIGN KEY(entry) REFERENCES entries (id))"
    ),
    "CREATE INDEX ix_spellings_entry ON spellings (entry)",
    (
        "CREATE TABLE evidence (spelling INTEGER NOT NULL, source INTEGER NOT NULL, "
        "unit VARCHAR NOT NULL, status_class VARCHAR NOT NULL, agent VARCHAR NOT NULL, "
        "amount FLOAT NOT NULL, first_day VARCHAR NOT NULL, last_day VARCHAR NOT NULL, "
        "days TEXT NOT NULL, FOREIGN KEY(spelling) REFERENCES spellings (id), "
        "FOREIGN KEY(source) REFERENCES sources (id))"
    ),
    "CREATE INDEX evidence_by_spelling ON evidence (spelling)",
    (
        "CREATE TABLE observations (spelling INTEGER NOT NULL, source INTEGER NOT NULL, "
        "title TEXT NOT NULL, anchor TEXT NOT NULL, language VARCHAR NOT NULL, "
        "status INTEGER NOT NULL, last_seen VARCHAR NOT NULL, "
        "FOREIGN KEY(spelling) REFERENCES spellings (id), "
        "FOREIGN KEY(source) REFERENCES sources (id))"
    ),
    "CREATE INDEX observations_by_spelling ON observations (spelling)",
    (
        "CREATE TABLE referrers (spelling INTEGER NOT NULL, source INTEGER NOT NULL, "
        "referrers TEXT NOT NULL, FOREIGN KEY(spelling) REFERENCES spellings (id), "
        "FOREIGN KEY(source) REFERENCES sources (id))"
    ),
    "CREATE INDEX referrers_by_spelling ON referrers (spelling)",
    (
        "CREATE TABLE log_lines (source INTEGER NOT NULL, day VARCHAR NOT NULL, "
        "method VARCHAR NOT NULL, digests <bytes> NOT NULL, "
        "FOREIGN KEY(source) REFERENCES sources (id))"
    ),
    "CREATE INDEX log_lines_by_day ON log_lines (day)",
)
_ROWS = (
    (
        "INSERT INTO spellings (id, site, spelling, entry, variant, aside) "
        "SELECT id, site, spelling, entry, variant, '' FROM spellings_1"
    ),
    (
        "INSERT INTO observations (spelling, source, title, language, status, last_seen, anchor) "
        "SELECT spelling, source, title, language, status, last_seen, '' FROM observations_1"
    ),
    (
        "INSERT INTO referrers (spelling, source, referrers) SELECT spelling, source, "
        "<joined>(CAST(CAST(amount AS INTEGER) AS TEXT) || ' ' || referrer, '\n') "
        "FROM referrers_1 GROUP BY spelling, source"
    ),
    (
        "INSERT INTO evidence (spelling, source, unit, status_class, agent, amount, days, "
        "first_day, "
        "last_day) SELECT spelling, source, unit, status_class, agent, amount, "
        "CASE WHEN day = '' THEN '' ELSE day || '\\:' || "
        "CAST(CAST(amount AS INTEGER) AS TEXT) END, "
        "day, day FROM evidence_1"
    ),
)


def days_and_classes(connection: Connection) -> None:
    """From schema 1 to 2."""
    run(connection, *_OLD)
    if connection.is_server:
        run(connection, *_ON_POSTGRESQL)
    run(connection, *_NEW, *_ROWS)
    if connection.is_server:  # numbers go on after those that were taken over
        run(
            connection,
            "SELECT setval(pg_get_serial_sequence('spellings', 'id'), "
            "COALESCE((SELECT MAX(id) FROM spellings), 0) + 1, false)",
        )
    run(connection, *(f"DROP TABLE {name}_1" for name in reversed(_ASIDE)))
