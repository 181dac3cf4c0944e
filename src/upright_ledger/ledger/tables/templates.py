"""Answers for whole families of addresses: template rules as somebody decided them."""

from __future__ import annotations

from typing import NamedTuple

from upright_ledger.core.inventory.answer import AnsweredBy
from upright_ledger.core.url.query import QueryPolicy
from upright_ledger.ledger.db.connection import Connection, quoted
from upright_ledger.ledger.db.journal import Step
from upright_ledger.ledger.db.rows import next_id


class StoredTemplate(NamedTuple):
    """One template answer. status 0: its addresses are left alone. where: the file and row it came
    from, or empty.
    """

    site: str
    source: str
    status: int
    destination: str
    query: QueryPolicy
    by: AnsweredBy
    where: str = ""


def load_templates(connection: Connection) -> list[StoredTemplate]:
    """All template answers, by site and source."""
    return [StoredTemplate(*row) for row in connection.rows(f"{_TEMPLATES} ORDER BY site, source")]


_TEMPLATES = f"SELECT {quoted(StoredTemplate._fields)} FROM templates"
_OF_SOURCE = "WHERE site = :site AND source = :source"


def remove_template(step: Step, site: str, source: str) -> None:
    """Take a template answer out."""
    query = f"SELECT id FROM templates {_OF_SOURCE}"
    known = step.connection.value(query, site=site, source=source)
    if known is not None:
        step.remove("templates", [{"id": known}])


def post_template(step: Step, template: StoredTemplate) -> StoredTemplate | None:
    """Put a template answer in place of the one of the same source; returns that one, where there
    was one.
    """
    connection, named = step.connection, {"site": template.site, "source": template.source}
    before = connection.rows(f"{_TEMPLATES} {_OF_SOURCE}", **named)
    number = connection.value(f"SELECT id FROM templates {_OF_SOURCE}", **named)
    number = number or next_id(connection, "templates")
    step.put("templates", {"id": number, **template._asdict()})
    return StoredTemplate(*before[0]) if before else None
