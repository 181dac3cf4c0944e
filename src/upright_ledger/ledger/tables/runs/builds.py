"""Builds, and what became of them: handed over, and live since when."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from sqlalchemy import Connection, Select, func, insert, select, update

from upright_ledger.ledger.clock import now
from upright_ledger.ledger.db import schema


@dataclass(frozen=True, slots=True)
class Build:
    """A build as it is stored. rules, held_back: how many; step: the newest one when it was made;
    handed_over, live_from: times in UTC, or empty.
    """

    id: int
    time: str
    dialect: str
    digest: str
    folder: str
    rules: int
    held_back: int
    step: int
    handed_over: str
    live_from: str


def _builds(connection: Connection, query: Select[Any]) -> list[Build]:
    return [Build(**row._asdict()) for row in connection.execute(query)]


def add_build(
    connection: Connection, dialect: str, digest: str, folder: str, rules: int, held_back: int
) -> None:
    """Note what was built, and where."""
    row = {
        "time": now(),
        "dialect": dialect,
        "digest": digest,
        "folder": folder,
        "rules": rules,
        "held_back": held_back,
    }
    step = connection.scalar(select(func.max(schema.steps.c.id))) or 0
    connection.execute(insert(schema.builds).values(**row, step=step, live_from="", handed_over=""))


def last_build(connection: Connection) -> Build | None:
    """The newest build."""
    query = select(schema.builds).order_by(schema.builds.c.id.desc()).limit(1)
    return next(iter(_builds(connection, query)), None)


def list_builds(connection: Connection) -> list[Build]:
    """All builds, the newest first."""
    return _builds(connection, select(schema.builds).order_by(schema.builds.c.id.desc()))


def live_builds(connection: Connection) -> list[Build]:
    """The builds that went live, in the order in which they did."""
    b = schema.builds
    live = select(b).where(b.c.live_from != "")
    return _builds(connection, live.order_by(b.c.live_from, b.c.id))


def mark_build(
    connection: Connection, number: int, *, handed_over: str = "", live_from: str = ""
) -> None:
    """Note when a build was handed over, or went live; an empty time changes nothing."""
    told = {
        name: time
        for name, time in (("handed_over", handed_over), ("live_from", live_from))
        if time
    }
    connection.execute(update(schema.builds).where(schema.builds.c.id == number).values(**told))


def changed_since(connection: Connection, step: int) -> bool:
    """Whether what is built from was changed after a step; a change that was taken back since is
    none.
    """
    c, s = schema.changes, schema.steps
    query = select(func.count()).select_from(s).join(c, c.c.step == s.c.id)
    built_from = c.c.table_name.in_(("answers", "claims", "templates", "policies"))
    stands = s.c.undone_by.is_(None) & (s.c.undoes.is_(None) | (s.c.undoes <= step))
    return bool(connection.scalar(query.where(built_from, s.c.id > step, stands)))
