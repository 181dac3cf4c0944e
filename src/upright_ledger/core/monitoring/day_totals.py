"""What the days of logs add up to."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import date, timedelta
from itertools import pairwise
from typing import NamedTuple

Days = Mapping[str, Mapping[str, float]]
"""Day → class of status → requests by people, in the order of days."""

_WEEK = 7
_DAY = timedelta(1)


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


def gaps_of(days: Days) -> list[tuple[str, str]]:
    """First and last day of each time of which no log tells, within the time that there is."""
    known = sorted(date.fromisoformat(day) for day, classes in days.items() if classes)
    return [
        ((before + _DAY).isoformat(), (after - _DAY).isoformat())
        for before, after in pairwise(known)
        if after - before > _DAY
    ]


def with_gaps(days: Days) -> dict[str, Mapping[str, float]]:
    """The days, with nothing for the first day of each time of which no log tells."""
    nothing: dict[str, Mapping[str, float]] = {first: {} for first, _ in gaps_of(days)}
    return dict(sorted((nothing | dict(days)).items()))


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
    if not days or _span(days) < 2 * _WEEK:
        return None
    after = date.fromisoformat(max(days))
    before, last = _week_until(days, after - _WEEK * _DAY), _week_until(days, after)
    return (_share(before), _share(last)) if any(before) and any(last) else None


def _span(days: Days) -> int:
    first, last = (date.fromisoformat(day) for day in (min(days), max(days)))
    return (last - first).days + 1


def _week_until(days: Days, last: date) -> list[Mapping[str, float]]:
    return [days.get((last - n * _DAY).isoformat(), {}) for n in range(_WEEK)]


def _share(days: list[Mapping[str, float]]) -> float:
    whole = sum(sum(classes.values()) for classes in days)
    return sum(c.get("404", 0.0) for c in days) / whole if whole else 0.0
