"""Retention: details of logs go after their time; daily counts stay."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta

from sqlalchemy import Connection, delete, func, select

from upright_ledger.ledger import schema
from upright_ledger.ledger.settings import Retention


def let_go(connection: Connection, retention: Retention) -> dict[str, int]:
    """Delete what is older than its time; kind of detail → rows that went."""
    gone = {"referrers": 0, "lines": 0}
    s, r, lines = schema.sources, schema.referrers, schema.log_lines
    if retention.referrers:
        ended = func.coalesce(func.nullif(s.c.period_end, ""), func.substr(s.c.time, 1, 10))
        old = select(s.c.id).where(ended < _day(retention.referrers), s.c.kind == "access-log")
        gone["referrers"] = connection.execute(delete(r).where(r.c.source.in_(old))).rowcount
    if retention.lines:
        gone["lines"] = connection.execute(delete(lines).where(lines.c.day < _day(retention.lines))).rowcount
    return gone


def _day(days: int) -> str:
    return (datetime.now(UTC) - timedelta(days)).strftime("%Y-%m-%d")
