"""Answers for whole families of addresses: template rules as somebody decided them."""

from __future__ import annotations

from dataclasses import asdict, dataclass

from sqlalchemy import Connection, func, select

from upright_ledger.core.inventory.answer import AnsweredBy
from upright_ledger.core.url.query import QueryPolicy
from upright_ledger.ledger.db import schema
from upright_ledger.ledger.db.journal import Step


@dataclass(frozen=True, slots=True)
class StoredTemplate:
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
    t = schema.templates
    rows = connection.execute(select(t).order_by(t.c.site, t.c.source)).mappings()
    return [StoredTemplate(**{k: v for k, v in row.items() if k != "id"}) for row in rows]


def remove_template(step: Step, site: str, source: str) -> None:
    """Take a template answer out."""
    t = schema.templates
    known = step.connection.scalar(select(t.c.id).where(t.c.site == site, t.c.source == source))
    if known is not None:
        step.remove("templates", [{"id": known}])


def post_template(step: Step, template: StoredTemplate) -> StoredTemplate | None:
    """Put a template answer in place of the one of the same source; returns that one, where there
    was one.
    """
    t = schema.templates
    known = (
        step.connection.execute(
            select(t).where(t.c.site == template.site, t.c.source == template.source)
        )
        .mappings()
        .one_or_none()
    )
    number = known["id"] if known else (step.connection.scalar(select(func.max(t.c.id))) or 0) + 1
    step.put("templates", {"id": number, **asdict(template)})
    return StoredTemplate(**{k: v for k, v in known.items() if k != "id"}) if known else None
