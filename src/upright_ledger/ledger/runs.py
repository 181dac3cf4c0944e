"""Runs of rehearse and replay, and builds: derived data, kept for comparing."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

from sqlalchemy import Connection, Row, insert, select

from upright_ledger.core.verdicts import Hop, Trace
from upright_ledger.ledger import schema
from upright_ledger.ledger.bulk import insert_many
from upright_ledger.ledger.store import now


def begin_run(connection: Connection, kind: str, digest: str, at: str) -> int:
    """Note that a run began; returns its number."""
    done = connection.execute(
        insert(schema.runs).values(kind=kind, name="", started=now(), digest=digest, at=at, counts={})
    )
    return int(done.inserted_primary_key[0])  # type: ignore[index]


def add_traces(
    connection: Connection, run: int, rows: Iterable[tuple[int, Trace, float, tuple[str, ...], str]]
) -> None:
    """Store traces: (number, trace, hits, verdicts, expected address)."""
    insert_many(
        connection,
        schema.traces,
        [
            {
                "run": run,
                "number": number,
                "url": trace.url,
                "entry": None,
                "hits": hits,
                "verdicts": list(verdicts),
                "hops": [_hop(h) for h in trace.hops],
                "final_url": trace.final_url,
                "final_status": trace.final_status,
                "expected": expected,
            }
            for number, trace, hits, verdicts, expected in rows
        ],
    )


def _hop(hop: Hop) -> dict[str, Any]:
    return {
        "url": hop.url,
        "status": hop.status,
        "location": hop.location,
        "resolved": hop.resolved,
        "changed": list(hop.changed),
        "seconds": round(hop.seconds, 4),
        "error": hop.error,
    }


def finish_run(connection: Connection, run: int, counts: dict[str, int]) -> None:
    """Note that a run is complete, with its verdict counts."""
    connection.execute(schema.runs.update().where(schema.runs.c.id == run).values(finished=now(), counts=counts))


def last_run(connection: Connection, kind: str) -> Row[Any] | None:
    """The newest complete run of a kind."""
    r = schema.runs
    return connection.execute(
        select(r).where(r.c.kind == kind, r.c.finished != "").order_by(r.c.id.desc()).limit(1)
    ).one_or_none()


def add_build(connection: Connection, dialect: str, digest: str, folder: str, rules: int, held_back: int) -> None:
    """Note what was built, and where."""
    row = {
        "time": now(),
        "dialect": dialect,
        "digest": digest,
        "folder": folder,
        "rules": rules,
        "held_back": held_back,
        "live_from": "",
    }
    connection.execute(insert(schema.builds).values(**row))


def last_build(connection: Connection) -> Row[Any] | None:
    """The newest build."""
    return connection.execute(select(schema.builds).order_by(schema.builds.c.id.desc()).limit(1)).one_or_none()
