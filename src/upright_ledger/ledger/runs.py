"""Runs of rehearse, replay and survey: derived data, kept for comparing."""

from __future__ import annotations

from typing import Any

from sqlalchemy import Connection, Row, insert, select

from upright_ledger.ledger import schema
from upright_ledger.ledger.store import now

Run = Row[Any]
"""A run as it is stored."""

SURVEY = "survey"
"""The kind of runs whose rows are of another sort; see ledger.surveys."""


def begin_run(connection: Connection, kind: str, digest: str, at: str, name: str = "") -> int:
    """Note that a run began; returns its number."""
    done = connection.execute(
        insert(schema.runs).values(kind=kind, name=name, started=now(), digest=digest, at=at, counts={})
    )
    return int(done.inserted_primary_key[0])  # type: ignore[index]


def finish_run(connection: Connection, run: int, counts: dict[str, int]) -> None:
    """Note that a run is complete, with its verdict counts."""
    connection.execute(schema.runs.update().where(schema.runs.c.id == run).values(finished=now(), counts=counts))


def name_run(connection: Connection, run: int, name: str) -> None:
    """Call a run by a name; one that had it before loses it."""
    r = schema.runs
    connection.execute(r.update().where(r.c.name == name).values(name=""))
    connection.execute(r.update().where(r.c.id == run).values(name=name))


def list_runs(connection: Connection) -> list[Run]:
    """All runs, the newest first."""
    return list(connection.execute(select(schema.runs).order_by(schema.runs.c.id.desc())))


def find_run(connection: Connection, text: str, kind: str = "") -> Run | None:
    """A run (of a kind, where one is given) by its number or its name; "last" is the newest complete one."""
    r = schema.runs
    query = select(r).where(r.c.kind == kind) if kind else select(r).where(r.c.kind != SURVEY)
    if text == "last":
        return connection.execute(query.where(r.c.finished != "").order_by(r.c.id.desc()).limit(1)).one_or_none()
    wanted = r.c.id == int(text) if text.isascii() and text.isdigit() and len(text) < 10 else r.c.name == text
    return connection.execute(query.where(wanted)).one_or_none()


def open_run(connection: Connection, kind: str, at: str) -> Run | None:
    """The newest run of a kind at a place, if it was never finished."""
    r = schema.runs
    query = select(r).where(r.c.kind == kind, r.c.at == at).order_by(r.c.id.desc()).limit(1)
    found = connection.execute(query).one_or_none()
    return found if found is not None and not found.finished else None


def last_run(connection: Connection, kind: str) -> Run | None:
    """The newest complete run of a kind."""
    r = schema.runs
    return connection.execute(
        select(r).where(r.c.kind == kind, r.c.finished != "").order_by(r.c.id.desc()).limit(1)
    ).one_or_none()
