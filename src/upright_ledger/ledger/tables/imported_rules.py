"""Rules that were read from servers' files."""

from __future__ import annotations

import json
from collections import defaultdict
from collections.abc import Iterable

from upright_ledger.core.rules.imported.rule import ImportedRule
from upright_ledger.ledger.db.connection import Connection
from upright_ledger.ledger.db.shapes import unpacked


def add_imported(connection: Connection, source: int, rules: Iterable[ImportedRule]) -> None:
    """Store the rules of one source."""
    told = [(source, n, json.dumps(rule.as_dict())) for n, rule in enumerate(rules)]
    connection.load("imported", ("source", "number", "rule"), told)


def load_imported(connection: Connection) -> list[list[ImportedRule]]:
    """The rules of every source that counts, a list a source, each in its order."""
    query = (
        "SELECT i.source, i.rule FROM imported i JOIN sources s ON s.id = i.source "
        "WHERE NOT s.withdrawn ORDER BY i.source, i.number"
    )
    found: dict[int, list[ImportedRule]] = defaultdict(list)
    for source, rule in connection.rows(query):
        found[source].append(ImportedRule.from_dict(unpacked(rule)))
    return list(found.values())
