"""Builds, and what became of them: handed over, and live since when."""

from __future__ import annotations

import json
from typing import NamedTuple

from upright_ledger.core.inventory.sections import Wave
from upright_ledger.ledger.clock import now
from upright_ledger.ledger.db.connection import Connection
from upright_ledger.ledger.db.journal import last_step


class Build(NamedTuple):
    """A build as it is stored. rules, held_back: how many; step: the newest one when it was made;
    handed_over, live_from: times in UTC, or empty. wave: of which it is, or empty; sections: a JSON
    list of those that are live with it, or empty for the whole site.
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
    wave: str
    sections: str

    @property
    def as_wave(self) -> Wave:
        """What is live with it."""
        named = json.loads(self.sections) if self.sections else ()
        return Wave(self.wave, (), frozenset(named))


_COLUMNS = Build._fields
_BUILDS = f"SELECT {', '.join(_COLUMNS)} FROM builds"


def add_build(
    connection: Connection,
    dialect: str,
    digest: str,
    folder: str,
    rules: int,
    held_back: int,
    wave: Wave | None,
) -> None:
    """Note what was built, and where; of the whole site, where wave is None."""
    sections = json.dumps(sorted(wave.sections)) if wave is not None and wave.sections else ""
    name, step = wave.name if wave is not None else "", last_step(connection)
    told = (now(), dialect, digest, folder, rules, held_back, step, "", "", name, sections)
    connection.load("builds", _COLUMNS[1:], [told])


def last_build(connection: Connection, wave: str = "") -> Build | None:
    """The newest build, of a wave where one is named."""
    which = " WHERE wave = :wave" if wave else ""
    values = {"wave": wave} if wave else {}
    rows = connection.rows(f"{_BUILDS}{which} ORDER BY id DESC LIMIT 1", **values)
    return Build(*rows[0]) if rows else None


def list_builds(connection: Connection) -> list[Build]:
    """All builds, the newest first."""
    return [Build(*row) for row in connection.rows(f"{_BUILDS} ORDER BY id DESC")]


def live_builds(connection: Connection) -> list[Build]:
    """The builds that went live, in the order in which they did."""
    live = f"{_BUILDS} WHERE live_from <> '' ORDER BY live_from, id"
    return [Build(*row) for row in connection.rows(live)]


def mark_build(
    connection: Connection,
    number: int,
    *,
    handed_over: str | None = None,
    live_from: str | None = None,
) -> None:
    """Note when a build was handed over, or went live; an empty time takes that back."""
    for name, time in (("handed_over", handed_over), ("live_from", live_from)):
        if time is not None:
            connection.change("builds", ("id",), (name,), [(time, number)])


def changed_since(connection: Connection, step: int) -> bool:
    """Whether what is built from was changed after a step; a change that was taken back since is
    none.
    """
    query = (
        "SELECT 1 FROM steps s JOIN changes c ON c.step = s.id WHERE s.id > :step "
        "AND c.table_name IN ('answers', 'claims', 'templates', 'policies') "
        "AND s.undone_by IS NULL AND (s.undoes IS NULL OR s.undoes <= :step) LIMIT 1"
    )
    return connection.value(query, step=step) is not None
