"""Schema 12: what is worked out of entries is kept; it is worked out when the ledger is opened."""

from __future__ import annotations

from upright_ledger.ledger.db.connection import Connection
from upright_ledger.ledger.migrations.statements import run


def lines_of_entries(connection: Connection) -> None:
    """Make the tables of lines, which nobody has filled yet."""
    run(
        connection,
        "CREATE TABLE entry_lines (entry INTEGER NOT NULL, site VARCHAR NOT NULL, "
        "url <ordered> NOT NULL, section VARCHAR NOT NULL, family TEXT NOT NULL, "
        "value FLOAT NOT NULL, hits FLOAT NOT NULL, bots FLOAT NOT NULL, visits FLOAT NOT NULL, "
        "clicks FLOAT NOT NULL, impressions FLOAT NOT NULL, links FLOAT NOT NULL, "
        "logged FLOAT NOT NULL, traffic FLOAT NOT NULL, domains FLOAT NOT NULL, "
        "pages FLOAT NOT NULL, shown FLOAT NOT NULL, variants INTEGER NOT NULL, "
        "sources VARCHAR NOT NULL, "
        "first_seen VARCHAR NOT NULL, last_seen VARCHAR NOT NULL, statuses VARCHAR NOT NULL, "
        "title TEXT NOT NULL, language VARCHAR NOT NULL, kind VARCHAR NOT NULL, "
        'status INTEGER NOT NULL, destination TEXT NOT NULL, "query" VARCHAR NOT NULL, '
        '"by" VARCHAR NOT NULL, "where" VARCHAR NOT NULL, PRIMARY KEY (entry), '
        "FOREIGN KEY(entry) REFERENCES entries (id))",
        "CREATE INDEX entry_lines_by_value ON entry_lines (value DESC, url)",
        "CREATE INDEX entry_lines_by_answer ON entry_lines (kind, value DESC, url)",
        "CREATE TABLE kept (name VARCHAR NOT NULL, step INTEGER NOT NULL, value JSON NOT NULL, "
        "PRIMARY KEY (name))",
        "CREATE INDEX evidence_by_source ON evidence (source, spelling)",
        "CREATE INDEX destinations_by_key ON destinations (page)",
    )
