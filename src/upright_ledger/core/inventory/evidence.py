"""Evidence: what sources say about an entry, each in its own unit, and the one formula of value."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from typing import NamedTuple

from upright_ledger.core.inventory.packed import NO_DAYS, PackedDays, add_days
from upright_ledger.core.inventory.units import (
    CLICKS,
    HITS,
    IMPRESSIONS,
    LINKING_DOMAINS,
    LINKING_PAGES,
    VISITS,
)
from upright_ledger.core.word import Word


class Asker(Word):
    """Who asks: people, or programs that say so, by what they are for."""

    PEOPLE = "people"
    BOTS = "bots"  # all others than these
    SEARCH = "search engines"
    ASSISTANTS = "assistants"
    PREVIEWS = "link previews"
    MONITORS = "monitors"
    LIBRARIES = "libraries"
    SCANNERS = "scanners"


ASKERS = tuple(Asker)
PERSONS = ("", Asker.PEOPLE)
"""Of a figure's agents those that are not programs; an export tells none."""
KNOWING = (Asker.PEOPLE, Asker.SEARCH)
"""Whose requests show that an address is known somewhere, though the site answers it no more."""


SOFT_404, BAD_REDIRECT = "soft 404", "redirect error"
"""Classes of status that only lists of errors tell."""


class Figure(NamedTuple):
    """One figure a source gives. days: how it spreads; empty where nobody knows."""

    unit: str
    amount: float
    status_class: str = ""
    agent: str = ""
    days: PackedDays = NO_DAYS


def added_up(figures: Iterable[Figure]) -> list[Figure]:
    """Figures of one sort (unit, status class, agent) as one, amounts and days added; those with
    days stay apart from those without.
    """
    groups: dict[tuple[str, str, str, bool], list[Figure]] = {}
    for f in figures:
        groups.setdefault((f.unit, f.status_class, f.agent, bool(f.days)), []).append(f)
    return [
        same[0]
        if len(same) == 1
        else same[0]._replace(
            amount=sum(f.amount for f in same), days=add_days(f.days for f in same)
        )
        for same in groups.values()
    ]


def status_class(status: int) -> str:
    """404 and 410 by themselves, all others by their hundred; empty for 0."""
    if status in {404, 410}:
        return str(status)
    return f"{status // 100}xx" if status else ""


@dataclass(frozen=True, slots=True)
class Weights:
    """The weights of the value formula; see `value`."""

    traffic: float = 1.0
    linking_domains: float = 5.0
    linking_pages: float = 1.0
    impressions: float = 0.01


def value(per_30_days: Mapping[str, float], weights: Weights) -> float:
    """What an entry is worth, in visits per 30 days.

    traffic × the largest of hits, visits and clicks (they count the same people in different
    ways, so they are not added up)
    + linking_domains × linking domains, or linking_pages × linking pages where no domains are known
    + impressions × impressions.
    """
    traffic = max(
        per_30_days.get(HITS, 0.0), per_30_days.get(VISITS, 0.0), per_30_days.get(CLICKS, 0.0)
    )
    domains, pages = per_30_days.get(LINKING_DOMAINS, 0.0), per_30_days.get(LINKING_PAGES, 0.0)
    links = weights.linking_domains * domains if domains else weights.linking_pages * pages
    return (
        weights.traffic * traffic + links + weights.impressions * per_30_days.get(IMPRESSIONS, 0.0)
    )


def per_30_days(amount: float, days: int) -> float:
    """An amount over a period of `days`; a period that is not known (0) is taken as 30 days."""
    return amount * 30.0 / days if days > 0 else amount


@dataclass(slots=True)
class EntryEvidence:
    """The figures of one entry, gathered from all its sources.

    hits, bot_requests: raw requests; links: linking domains, or linking pages where no domains are
    known; value: see `value`.
    """

    hits: float = 0.0
    bot_requests: float = 0.0
    visits: float = 0.0
    clicks: float = 0.0
    impressions: float = 0.0
    links: float = 0.0
    value: float = 0.0
