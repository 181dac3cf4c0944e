"""Retention: details of logs go after their time; daily counts stay, and that a line was counted is
never forgotten.
"""

from __future__ import annotations

from datetime import UTC, date, datetime, timedelta

from sqlalchemy import Connection, delete, func, select, update

from upright_ledger.core.monitoring.deploy_days import is_day, span_of
from upright_ledger.ledger.db import schema
from upright_ledger.settings.model import Retention


def prune(connection: Connection, retention: Retention) -> dict[str, int]:
    """Delete what is older than its time; kind of detail → rows that went.

    Time is counted back from today, or from a year after the newest day of the logs where that is
    earlier: a clock that runs far ahead must not delete what was read yesterday. Of the digests of
    a day's lines an empty one stays, by which the day is known to have been read.
    """
    gone = {"referrers": 0, "lines": 0}
    today = _reference_day(connection)
    s, r, lines = schema.sources, schema.referrers, schema.log_lines
    if retention.referrers and today is not None:
        ended = func.coalesce(func.nullif(s.c.period_end, ""), func.substr(s.c.time, 1, 10))
        old = select(s.c.id).where(
            ended < _before(today, retention.referrers), s.c.kind == "access-log"
        )
        gone["referrers"] = connection.execute(delete(r).where(r.c.source.in_(old))).rowcount
    if retention.lines and today is not None:
        old_days = (lines.c.day < _before(today, retention.lines)) & (
            func.length(lines.c.digests) > 0
        )
        gone["lines"] = connection.execute(
            update(lines).where(old_days).values(digests=b"")
        ).rowcount
    return gone


def _reference_day(connection: Connection) -> date | None:
    """The day from which time is counted back; None where no log was read."""
    lines = schema.log_lines
    today = datetime.now(UTC).date()
    query = select(lines.c.day, func.sum(func.length(lines.c.digests)) / 8 + 1).group_by(
        lines.c.day
    )
    counts = {day: float(n) for day, n in connection.execute(query) if is_day(day)}
    newest = span_of(counts, today.isoformat()).last
    return min(today, date.fromisoformat(newest) + timedelta(366)) if newest else None


def _before(today: date, days: int) -> str:
    return (today - timedelta(days)).isoformat()
