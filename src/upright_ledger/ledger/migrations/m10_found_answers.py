"""Who decided an answer, and the confidence, reasons and runner-up of the proposal that it is; how
sources were to be read.
"""

from __future__ import annotations

from upright_ledger.ledger.db.connection import Connection
from upright_ledger.ledger.migrations.statements import run

_PROPOSED = (
    "SELECT p.confidence FROM proposals p JOIN steps s ON s.id = p.step "
    "WHERE s.undone_by IS NULL AND p.confidence > 0 "
    "AND p.entry = answers.entry AND p.destination = answers.destination"
)


def found_answers(connection: Connection) -> None:
    """From schema 9 to 10."""
    number = "DOUBLE PRECISION" if connection.is_server else "FLOAT"
    run(
        connection,
        "ALTER TABLE sources ADD COLUMN asked JSON",
        f"ALTER TABLE answers ADD COLUMN confidence {number}",
        "ALTER TABLE answers ADD COLUMN author TEXT NOT NULL DEFAULT ''",
        "ALTER TABLE answers ADD COLUMN reasons TEXT NOT NULL DEFAULT ''",
        "ALTER TABLE answers ADD COLUMN runner_up TEXT NOT NULL DEFAULT ''",
        f"UPDATE answers SET confidence = ({_PROPOSED} ORDER BY p.step DESC LIMIT 1)",
    )
