"""What the days of logs add up to."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import date, timedelta
from typing import NamedTuple

Days = Mapping[str, Mapping[str, float]]
"""Day → class of status → requests by people, in the order of days."""

_WEEK = 7


class DayTotals(NamedTuple):
    """Requests by people: all, those for what was not found or is gone, and those that the server
    failed to answer.
    """

    requests: float
    not_found: float
    errors: float

    @property
    def share(self) -> float:
        """What was not found, of all (0 to 1)."""
        return self.not_found / self.requests if self.requests else 0.0


def every_day(days: Days) -> dict[str, Mapping[str, float]]:
    """All days from the first to the last, with nothing for those of which no log tells."""
    if not days:
        return {}
    first, last = (date.fromisoformat(day) for day in (min(days), max(days)))
    listed = (first + timedelta(n) for n in range((last - first).days + 1))
    return {day.isoformat(): days.get(day.isoformat(), {}) for day in listed}


def gaps_of(days: Days) -> list[tuple[str, str]]:
    """First and last day of each time of which no log tells, within the time that there is."""
    found: list[tuple[str, str]] = []
    for day, classes in every_day(days).items():
        if classes:
            continue
        before = (date.fromisoformat(day) - timedelta(1)).isoformat()
        if found and found[-1][1] == before:
            found[-1] = (found[-1][0], day)
        else:
            found.append((day, day))
    return found


def totals(days: Days) -> DayTotals:
    """The sums over days."""
    return DayTotals(
        sum(n for classes in days.values() for n in classes.values()),
        sum(c.get("404", 0.0) + c.get("410", 0.0) for c in days.values()),
        sum(classes.get("5xx", 0.0) for classes in days.values()),
    )


def weekly_shares(days: Days) -> tuple[float, float] | None:
    """The share of requests that were not found (404) in the seven days before the last seven, and
    in these; None where there are fewer days, or no request in either.
    """
    listed = list(every_day(days).values())
    if len(listed) < 2 * _WEEK or not (any(listed[-2 * _WEEK : -_WEEK]) and any(listed[-_WEEK:])):
        return None
    before, last = listed[-2 * _WEEK : -_WEEK], listed[-_WEEK:]
    return _share(before), _share(last)


def _share(days: list[Mapping[str, float]]) -> float:
    whole = sum(sum(classes.values()) for classes in days)
    return sum(c.get("404", 0.0) for c in days) / whole if whole else 0.0
