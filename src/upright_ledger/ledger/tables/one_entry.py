"""What the ledger holds of one entry, and of addresses that are none."""

from __future__ import annotations

from collections import defaultdict
from dataclasses import dataclass

from sqlalchemy import Connection, func, select

from upright_ledger.core.inventory.evidence import Asker, per_30_days
from upright_ledger.core.inventory.packed import unpack_referrers
from upright_ledger.core.inventory.units import LISTED, PER_PERIOD
from upright_ledger.core.monitoring.traffic_origin import BY_CAMPAIGN
from upright_ledger.ledger.db import schema
from upright_ledger.ledger.tables.sources import days_of_exports


@dataclass(frozen=True, slots=True)
class EvidenceRow:
    """One figure of one source about an entry. per_30_days: for units that grow with time, else the
    amount itself.
    """

    source: str
    kind: str
    unit: str
    agent: str
    status_class: str
    amount: float
    per_30_days: float
    first_day: str
    last_day: str


def evidence_of(connection: Connection, entry: int) -> list[EvidenceRow]:
    """All that the sources that count say of one entry, source by source."""
    v, s, p = schema.evidence, schema.sources, schema.spellings
    by = (s.c.id, s.c.name, s.c.kind, v.c.unit, v.c.agent, v.c.status_class)
    first, last = func.min(v.c.first_day).label("first"), func.max(v.c.last_day).label("last")
    query = select(*by, func.sum(v.c.amount).label("amount"), first, last).join(
        s, s.c.id == v.c.source
    )
    query = query.join(p, p.c.id == v.c.spelling).where(
        p.c.entry == entry, s.c.withdrawn.is_(False)
    )
    periods = days_of_exports(connection)
    found = []
    for r in connection.execute(query.group_by(*by).order_by(*by)):
        rate = per_30_days(r.amount, len(periods[r.id])) if r.unit in PER_PERIOD else r.amount
        found.append(
            EvidenceRow(
                r.name, r.kind, r.unit, r.agent, r.status_class, r.amount, rate, r.first, r.last
            )
        )
    return found


def spellings_of(connection: Connection, entry: int) -> list[str]:
    """The spellings of an entry, as observed."""
    p = schema.spellings
    return list(
        connection.scalars(select(p.c.spelling).where(p.c.entry == entry).order_by(p.c.spelling))
    )


def referrers_of(connection: Connection, entry: int) -> list[tuple[str, float]]:
    """The pages that link to an entry or led to it, the most frequent first; those without a name
    together as "".
    """
    r, s, p = schema.referrers, schema.sources, schema.spellings
    query = select(r.c.referrers).join(s, s.c.id == r.c.source).join(p, p.c.id == r.c.spelling)
    found: dict[str, float] = defaultdict(float)
    for told in connection.scalars(query.where(p.c.entry == entry, s.c.withdrawn.is_(False))):
        for address, amount in unpack_referrers(told):
            found[address.removeprefix(BY_CAMPAIGN)] += amount
    return sorted(found.items(), key=lambda item: (-item[1], item[0]))


@dataclass(frozen=True, slots=True)
class AsideUrl:
    """An address that was set aside: its class, and the requests by people and by bots (or
    mentions) there are.
    """

    aside: str
    spelling: str
    hits: float
    bots: float
    listed: float


def load_aside(connection: Connection, kind: str = "") -> list[AsideUrl]:
    """Addresses set aside, of one class or all, the most requested first."""
    v, s, p = schema.evidence, schema.sources, schema.spellings
    query = select(
        p.c.aside, p.c.spelling, v.c.unit, v.c.agent, func.sum(v.c.amount).label("amount")
    )
    query = query.join(v, v.c.spelling == p.c.id).join(s, s.c.id == v.c.source)
    query = query.where(s.c.withdrawn.is_(False), p.c.entry.is_(None))
    if kind:
        query = query.where(p.c.aside == kind)
    found: dict[tuple[str, str], list[float]] = defaultdict(lambda: [0.0, 0.0, 0.0])
    for row in connection.execute(query.group_by(p.c.aside, p.c.spelling, v.c.unit, v.c.agent)):
        at = 2 if row.unit == LISTED else 1 if row.agent == Asker.BOTS else 0
        found[row.aside, row.spelling][at] += row.amount
    urls = [AsideUrl(*name, *figures) for name, figures in found.items()]
    return sorted(urls, key=lambda u: (-u.hits - u.bots - u.listed, u.spelling))
