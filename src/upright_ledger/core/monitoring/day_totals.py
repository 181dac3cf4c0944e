"""What the days of logs add up to."""

from __future__ import annotations

from collections.abc import Mapping
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


def totals(days: Days) -> DayTotals:
    """The sums over days."""
    return DayTotals(
        sum(n for classes in days.values() for n in classes.values()),
        sum(c.get("404", 0.0) + c.get("410", 0.0) for c in days.values()),
        sum(classes.get("5xx", 0.0) for classes in days.values()),
    )


def weekly_shares(days: Days) -> tuple[float, float] | None:
    """The share of requests that were not found (404) in the seven days before the last seven, and
    in these; None where there are fewer days.
    """
    listed = list(days.values())
    if len(listed) < 2 * _WEEK:
        return None
    before, last = listed[-2 * _WEEK : -_WEEK], listed[-_WEEK:]
    return _share(before), _share(last)


def _share(days: list[Mapping[str, float]]) -> float:
    whole = sum(sum(classes.values()) for classes in days)
    return sum(c.get("404", 0.0) for c in days) / whole if whole else 0.0
