"""Retiring: rules that nobody uses any more, never those to which others link or which people asked
for of late.
"""

from __future__ import annotations

from datetime import date, timedelta
from typing import NamedTuple

YOUNG, ASKED, LINKED, CLICKED, UNSEEN = (
    "not live long enough",
    "people asked for it",
    "others link to it",
    "search engines show it",
    "the logs do not cover the time",
)
"""Why a rule stays."""

_ENOUGH_COVERED = 0.9


class Use(NamedTuple):
    """How a rule is used. people, bots: requests within the time looked at; last: the last day on
    which a person asked, or empty; links: linking domains or pages; clicks, impressions: that
    search engines count; live: the day since when it is live, or empty; since: requests by people
    from then on.
    """

    people: float = 0.0
    bots: float = 0.0
    last: str = ""
    links: float = 0.0
    clicks: float = 0.0
    impressions: float = 0.0
    live: str = ""
    since: float = 0.0


def window(newest: str, days: int) -> tuple[str, str]:
    """First and last day of the time looked at: so many days, up to the newest one in the logs."""
    end = date.fromisoformat(newest)
    return (end - timedelta(days - 1)).isoformat(), newest


def why_kept(use: Use, first: str, covered: float) -> str:
    """Why a rule must stay, or an empty string. first: day of the time looked at; covered: the
    share of its days of which there are logs.
    """
    if use.links:
        return LINKED
    if use.people or use.last >= first:
        return ASKED
    if use.clicks or use.impressions:
        return CLICKED
    if not use.live or use.live >= first:
        return YOUNG
    return "" if covered >= _ENOUGH_COVERED else UNSEEN
