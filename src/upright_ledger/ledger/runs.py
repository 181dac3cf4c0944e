"""Runs of rehearse and replay, and builds: derived data, kept for comparing."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from typing import Any

from sqlalchemy import Connection, Row, insert, select

from upright_ledger.core.verdicts import Hop, Page, Trace
from upright_ledger.ledger import schema
from upright_ledger.ledger.bulk import insert_many
from upright_ledger.ledger.store import now

_MOST_AT_ONCE = 20_000


@dataclass(frozen=True, slots=True)
class StoredTrace:
    """One traced URL of a run: its verdicts (worst first), the address or status that was due, and its value."""

    number: int
    trace: Trace
    hits: float
    verdicts: tuple[str, ...]
    expected: str
    value: float


def begin_run(connection: Connection, kind: str, digest: str, at: str, name: str = "") -> int:
    """Note that a run began; returns its number."""
    done = connection.execute(
        insert(schema.runs).values(kind=kind, name=name, started=now(), digest=digest, at=at, counts={})
    )
    return int(done.inserted_primary_key[0])  # type: ignore[index]


def add_traces(connection: Connection, run: int, rows: Iterable[StoredTrace]) -> None:
    """Store traces of a run."""
    insert_many(
        connection,
        schema.traces,
        [
            {
                "run": run,
                "number": row.number,
                "url": row.trace.url,
                "entry": None,
                "hits": row.hits,
                "verdicts": list(row.verdicts),
                "hops": [_hop(h) for h in row.trace.hops],
                "final_url": row.trace.final_url,
                "final_status": row.trace.final_status,
                "expected": row.expected,
                "value": row.value,
                "page": _page(row.trace.page),
            }
            for row in rows
        ],
    )


def _hop(hop: Hop) -> dict[str, Any]:
    told = (
        ("location", hop.location), ("resolved", hop.resolved), ("changed", list(hop.changed)), ("seconds", round(hop.seconds, 4)),
        ("error", hop.error), ("cache", hop.cache), ("how", hop.how), ("rule", hop.rule),
    )  # fmt: skip
    return {"url": hop.url, "status": hop.status} | {name: value for name, value in told if value}


def _page(page: Page) -> dict[str, Any]:
    """What a page said; most say little."""
    told = (
        ("title", page.title),
        ("canonical", page.canonical),
        ("noindex", page.noindex),
        ("refresh", page.refresh),
        ("heading", page.heading),
    )
    return {name: value for name, value in told if value}


def load_traces(connection: Connection, run: int) -> Iterator[StoredTrace]:
    """All traces of a run, in the order in which they were asked."""
    t = schema.traces
    for row in connection.execution_options(yield_per=_MOST_AT_ONCE).execute(
        select(t).where(t.c.run == run).order_by(t.c.number)
    ):
        hops = tuple(Hop(**(h | {"changed": tuple(h.get("changed", ()))})) for h in row.hops)
        loops = "loop" in row.verdicts
        trace = Trace(row.url, hops, row.final_url, row.final_status, Page(**(row.page or {})), loops=loops)
        yield StoredTrace(row.number, trace, row.hits, tuple(row.verdicts), row.expected, row.value)


def traced_urls(connection: Connection, run: int) -> dict[str, int]:
    """The URLs that a run has asked already, with their numbers."""
    t = schema.traces
    return {r.url: r.number for r in connection.execute(select(t.c.url, t.c.number).where(t.c.run == run))}


def finish_run(connection: Connection, run: int, counts: dict[str, int]) -> None:
    """Note that a run is complete, with its verdict counts."""
    connection.execute(schema.runs.update().where(schema.runs.c.id == run).values(finished=now(), counts=counts))


def name_run(connection: Connection, run: int, name: str) -> None:
    """Call a run by a name; one that had it before loses it."""
    r = schema.runs
    connection.execute(r.update().where(r.c.name == name).values(name=""))
    connection.execute(r.update().where(r.c.id == run).values(name=name))


def list_runs(connection: Connection) -> list[Row[Any]]:
    """All runs, the newest first."""
    return list(connection.execute(select(schema.runs).order_by(schema.runs.c.id.desc())))


def find_run(connection: Connection, text: str) -> Row[Any] | None:
    """A run by its number or its name; "last" is the newest complete one."""
    r = schema.runs
    if text == "last":
        return connection.execute(select(r).where(r.c.finished != "").order_by(r.c.id.desc()).limit(1)).one_or_none()
    wanted = r.c.id == int(text) if text.isdigit() and len(text) < 10 else r.c.name == text
    return connection.execute(select(r).where(wanted)).one_or_none()


def open_run(connection: Connection, kind: str, at: str) -> Row[Any] | None:
    """The newest run of a kind at a place, if it was never finished."""
    r = schema.runs
    query = select(r).where(r.c.kind == kind, r.c.at == at).order_by(r.c.id.desc()).limit(1)
    found = connection.execute(query).one_or_none()
    return found if found is not None and not found.finished else None


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
