"""Days of logs, taken apart where a build went live: what was asked before it, and after it.

A label is a day as the log has it, "2026-05-14", and on a day on which a build went live that day
with a letter and the time (UTC) behind it: "2026-05-14B2026-05-14T03:00:00Z" before it,
"2026-05-14A2026-05-14T03:00:00Z" from then on.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from datetime import UTC, date, datetime, timedelta
from itertools import pairwise
from typing import NamedTuple

BEFORE, AFTER = "B", "A"


YEARS = range(1990, 2101)
"""In which web servers run that are moved now; none answered a browser before. Clocks may be
wrong.
"""
_GAP = 31  # days
_STRAYS = 0.001  # of all requests
_FEW = 2  # requests
_AHEAD = 0.1  # of all requests


def is_day(text: str) -> bool:
    """Whether a text is a day of the calendar, YYYY-MM-DD, on which there could be a request."""
    try:
        # Weeks of a year ("2026-W01-1") are dates to the reader, too.
        return text[4:5] == text[7:8] == "-" and date.fromisoformat(text).year >= YEARS[0]
    except ValueError:
        return False


def to_the_minute(time: str) -> str:
    """A time (UTC, ISO 8601) as people read it, as in "2026-05-14 03:00 UTC"."""
    return f"{time[:16].replace('T', ' ')} UTC" if time else ""


class Span(NamedTuple):
    """The days that most requests tell of: the first and the last; and the days far from them, with
    their requests.
    """

    first: str
    last: str
    strays: Mapping[str, float]


def span_of(days: Mapping[str, float], today: str) -> Span:
    """The span of days (YYYY-MM-DD → requests), without those that a wrong clock wrote.

    At either end a few requests (2, or one in a thousand) with more than 31 days between them and
    all others are strays, and so is what lies after tomorrow where it is less than a tenth of all.
    today: YYYY-MM-DD.
    """
    kept = {day: days[day] for day in sorted(days)}
    total, tomorrow = sum(kept.values()), _ordinal(today) + 1
    ahead = [day for day in kept if _ordinal(day) > tomorrow]
    if sum(kept[day] for day in ahead) <= _AHEAD * total and len(ahead) < len(kept):
        kept = {day: n for day, n in kept.items() if day not in ahead}
    for at_end in (True, False):
        ordered = sorted(kept, reverse=at_end)
        count = 0.0
        for n, (one, following) in enumerate(pairwise(ordered), 1):
            count += kept[one]
            if count > max(_FEW, _STRAYS * total) or count * 4 > total:
                break
            if abs(_ordinal(one) - _ordinal(following)) > _GAP:
                kept = {day: days[day] for day in ordered[n:]}
    strays = {day: n for day, n in sorted(days.items()) if day not in kept}
    return Span(min(kept, default=""), max(kept, default=""), strays)


def _ordinal(day: str) -> int:
    return date.fromisoformat(day).toordinal()


class Split(NamedTuple):
    """A time at which a build went live, as a log's clock has it. day: YYYY-MM-DD; second: of that
    day; live: the time in UTC.
    """

    day: str
    second: int
    live: str


def splits_of(live: Iterable[str], minutes: int) -> list[Split]:
    """Times (ISO 8601, UTC) as a clock shows them that is so many minutes ahead of UTC, in their
    order.
    """
    found = []
    for text in sorted(live):
        time = datetime.strptime(text, "%Y-%m-%dT%H:%M:%SZ").replace(tzinfo=UTC) + timedelta(
            minutes=minutes
        )
        second = time.hour * 3600 + time.minute * 60 + time.second
        found.append(Split(time.strftime("%Y-%m-%d"), second, text))
    return found


def split_days(splits: Iterable[Split]) -> list[str]:
    """The days that need a label: those on which a build went live by the log's clock, or in
    UTC.
    """
    return sorted({day for s in splits for day in (s.day, s.live[:10])})


def label_of(day: str, second: int, splits: Sequence[Split]) -> str:
    """The label of a second of a day."""
    here = [s for s in splits if day in {s.day, s.live[:10]}]
    if not here:
        return day
    passed = [s for s in here if (s.day, s.second) <= (day, second)]
    return f"{day}{AFTER}{passed[-1].live}" if passed else f"{day}{BEFORE}{here[0].live}"


def is_after(label: str, live: str) -> bool:
    """Whether what has a label was asked after a build went live. Of a day that is not taken apart,
    and on which it did, nothing is.
    """
    if not live:
        return False
    if len(label) > 10:
        return label[11:] >= live if label[10] == AFTER else label[11:] > live
    return label > live[:10]
