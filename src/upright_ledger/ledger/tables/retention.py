"""Retention: details of logs go after their time; daily counts stay, and that a line was counted is
never forgotten.
"""

from __future__ import annotations

from datetime import UTC, date, datetime, timedelta

from upright_ledger.core.monitoring.deploy_days import is_day, span_of
from upright_ledger.ledger.db.connection import Connection
from upright_ledger.settings.model import Retention


def prune(connection: Connection, retention: Retention) -> dict[str, int]:
    """Delete what is older than its time; kind of detail → rows that went.

    Time is counted back from today, or from a year after the newest day of the logs where that is
    earlier: a clock that runs far ahead must not delete what was read yesterday. Of the digests of
    a day's lines an empty one stays, by which the day is known to have been read.
    """
    gone = {"referrers": 0, "lines": 0}
    today = _reference_day(connection)
    if retention.referrers and today is not None:
        old = (
            "SELECT id FROM sources WHERE kind = 'access-log' "
            "AND COALESCE(NULLIF(period_end, ''), SUBSTR(time, 1, 10)) < :day"
        )
        change = f"DELETE FROM referrers WHERE source IN ({old})"
        gone["referrers"] = connection.run(change, day=_before(today, retention.referrers)).rowcount
    if retention.lines and today is not None:
        change = "UPDATE log_lines SET digests = :none WHERE day < :day AND LENGTH(digests) > 0"
        day = _before(today, retention.lines)
        gone["lines"] = connection.run(change, day=day, none=b"").rowcount
    return gone


def _reference_day(connection: Connection) -> date | None:
    """The day from which time is counted back; None where no log was read."""
    today = datetime.now(UTC).date()
    counted = "SELECT day, SUM(LENGTH(digests)) / 8 + 1 FROM log_lines GROUP BY day"
    counts = {day: float(n) for day, n in connection.rows(counted) if is_day(day)}
    newest = span_of(counts, today.isoformat()).last
    return min(today, date.fromisoformat(newest) + timedelta(366)) if newest else None


def _before(today: date, days: int) -> str:
    return (today - timedelta(days)).isoformat()
