"""Rules that were read from servers' files."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable

from sqlalchemy import Connection, select

from upright_ledger.core.rules.imported.rule import ImportedRule
from upright_ledger.ledger.db import schema
from upright_ledger.ledger.db.bulk import insert_many


def add_imported(connection: Connection, source: int, rules: Iterable[ImportedRule]) -> None:
    """Store the rules of one source."""
    insert_many(
        connection,
        schema.imported,
        [{"source": source, "number": n, "rule": r.as_dict()} for n, r in enumerate(rules)],
    )


def load_imported(connection: Connection) -> list[list[ImportedRule]]:
    """The rules of every source that counts, a list a source, each in its order."""
    i, s = schema.imported, schema.sources
    query = (
        select(i.c.source, i.c.rule).join(s, s.c.id == i.c.source).where(s.c.withdrawn.is_(False))
    )
    found: dict[int, list[ImportedRule]] = defaultdict(list)
    for row in connection.execute(query.order_by(i.c.source, i.c.number)):
        found[row.source].append(ImportedRule.from_dict(row.rule))
    return list(found.values())
