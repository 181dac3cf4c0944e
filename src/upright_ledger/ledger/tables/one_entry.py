"""What the ledger holds of one entry, and of addresses that are none."""

from __future__ import annotations

from collections import defaultdict
from typing import NamedTuple

from upright_ledger.core.inventory.evidence import PERSONS, per_30_days
from upright_ledger.core.inventory.packed import unpack_referrers
from upright_ledger.core.inventory.units import LISTED, PER_PERIOD
from upright_ledger.core.monitoring.campaigns import plain_name
from upright_ledger.ledger.db.connection import Connection
from upright_ledger.ledger.tables.sources import days_of_exports


class EvidenceRow(NamedTuple):
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
    by = "s.id, s.name, s.kind, v.unit, v.agent, v.status_class"
    query = (
        f"SELECT {by}, SUM(v.amount), MIN(v.first_day), MAX(v.last_day) FROM spellings p "
        "JOIN evidence v ON v.spelling = p.id JOIN sources s ON s.id = v.source "
        f"WHERE p.entry = :entry AND NOT s.withdrawn GROUP BY {by} ORDER BY {by}"
    )
    periods = days_of_exports(connection)
    found = []
    for source, name, kind, unit, agent, code, amount, first, last in connection.rows(
        query, entry=entry
    ):
        rate = per_30_days(amount, len(periods[source])) if unit in PER_PERIOD else amount
        found.append(EvidenceRow(name, kind, unit, agent, code, amount, rate, first, last))
    return found


def spellings_of(connection: Connection, entry: int) -> list[str]:
    """The spellings of an entry, as observed."""
    query = "SELECT spelling FROM spellings WHERE entry = :entry ORDER BY spelling"
    return connection.column(query, entry=entry)


def referrers_of(connection: Connection, entry: int) -> list[tuple[str, float]]:
    """The pages that link to an entry or led to it, the most frequent first; those without a name
    together as "".
    """
    query = (
        "SELECT r.referrers FROM spellings p JOIN referrers r ON r.spelling = p.id "
        "JOIN sources s ON s.id = r.source WHERE p.entry = :entry AND NOT s.withdrawn"
    )
    found: dict[str, float] = defaultdict(float)
    for told in connection.column(query, entry=entry):
        for address, amount in unpack_referrers(told):
            found[plain_name(address)] += amount
    return sorted(found.items(), key=lambda item: (-item[1], item[0]))


class AsideUrl(NamedTuple):
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
    query = (
        "SELECT p.aside, p.spelling, v.unit, v.agent, SUM(v.amount) FROM spellings p "
        "JOIN evidence v ON v.spelling = p.id JOIN sources s ON s.id = v.source "
        "WHERE NOT s.withdrawn AND p.entry IS NULL AND (p.aside = :kind OR :kind = '') "
        "GROUP BY p.aside, p.spelling, v.unit, v.agent"
    )
    found: dict[tuple[str, str], list[float]] = defaultdict(lambda: [0.0, 0.0, 0.0])
    for aside, spelling, unit, agent, amount in connection.rows(query, kind=kind):
        at = 2 if unit == LISTED else 0 if agent in PERSONS else 1
        found[aside, spelling][at] += amount
    urls = [AsideUrl(*name, *figures) for name, figures in found.items()]
    return sorted(urls, key=lambda u: (-u.hits - u.bots - u.listed, u.spelling))
