"""Runs of rehearse, replay and survey: derived data, kept for comparing."""

from __future__ import annotations

import json
import os
from collections.abc import Mapping
from datetime import UTC, datetime, timedelta
from typing import Any, NamedTuple

from upright_ledger.core.tracing.run_kind import RunKind
from upright_ledger.errors import RefusedError
from upright_ledger.ledger.clock import now
from upright_ledger.ledger.db.connection import Connection, quoted
from upright_ledger.ledger.db.shapes import unpacked
from upright_ledger.processes import lives


class Run(NamedTuple):
    """A run as it is stored. started, finished: times in UTC, empty while it is not over. digest:
    of the rules; at: the place; counts: verdict or outcome → URLs. owner: who is at it (machine,
    process, and a number drawn for this run), and until when it is theirs; asked: a digest of what
    it is to ask.
    """

    id: int
    kind: RunKind
    name: str
    started: str
    finished: str
    digest: str
    at: str
    counts: Mapping[str, int]
    owner: str
    held_until: str
    asked: str


_COLUMNS = Run._fields
_RUNS = f"SELECT {quoted(_COLUMNS)} FROM runs"


def _runs(connection: Connection, which: str, **values: Any) -> list[Run]:
    """which: what stands behind the columns."""
    rows = connection.rows(f"{_RUNS} {which}", **values)
    found = (dict(zip(_COLUMNS, row, strict=True)) for row in rows)
    return [
        Run(**{**r, "kind": RunKind(r["kind"]), "counts": unpacked(r["counts"]) or {}})
        for r in found
    ]


def _one(connection: Connection, which: str, **values: Any) -> Run | None:
    return next(iter(_runs(connection, f"{which} LIMIT 1", **values)), None)


HELD_SECONDS = 120
"""How long a run stays somebody's who is not heard of."""


def new_owner() -> str:
    """A name for who is at a run: this machine, this process, and a number of its own."""
    return f"{_machine()} {os.getpid()} {os.urandom(4).hex()}"


def _machine() -> str:
    import platform

    return platform.node()


def begin_run(
    connection: Connection,
    kind: RunKind,
    digest: str,
    at: str,
    name: str = "",
    *,
    owner: str = "",
    asked: str = "",
) -> int:
    """Note that a run began; returns its number. owner: who is at it; asked: a digest of what it is
    to ask.
    """
    told = (kind, name, now(), "", digest, at, "{}", owner, _later() if owner else "", asked)
    values = dict(zip(_COLUMNS[1:], told, strict=True))
    marks = ", ".join(f":{column}" for column in values)
    query = f"INSERT INTO runs ({quoted(values)}) VALUES ({marks}) RETURNING id"
    return int(connection.value(query, **values))


def take_over(connection: Connection, run: Run, owner: str) -> None:
    """Go on with a run that was stopped. Raises RefusedError where somebody is at it."""
    if run.owner and run.held_until > now() and not _is_dead(run.owner):
        machine, process = _place_of(run.owner)
        raise RefusedError(
            f"somebody is at run {run.id}: process {process} on {machine}",
            "let it end, or stop it, and resume then",
        )
    connection.change("runs", ("id",), ("owner", "held_until"), [(owner, _later(), run.id)])


def hold(connection: Connection, run: int, owner: str) -> None:
    """Say that one is still at a run. Raises RefusedError where somebody else took it over."""
    change = "UPDATE runs SET held_until = :until WHERE id = :run AND owner = :owner"
    if not connection.run(change, until=_later(), run=run, owner=owner).rowcount:
        raise RefusedError(
            f"somebody else went on with run {run}", "what was asked until then is kept"
        )


def _later() -> str:
    return (datetime.now(UTC) + timedelta(seconds=HELD_SECONDS)).strftime("%Y-%m-%dT%H:%M:%SZ")


def _place_of(owner: str) -> tuple[str, str]:
    """Machine and process of an owner."""
    machine, _, rest = owner.partition(" ")
    return machine, rest.partition(" ")[0]


def _is_dead(owner: str) -> bool:
    """Whether a process of this machine is gone."""
    machine, process = _place_of(owner)
    return machine == _machine() and process.isdigit() and not lives(int(process))


def finish_run(connection: Connection, run: int, counts: dict[str, int]) -> None:
    """Note that a run is complete, with its verdict counts."""
    told = (now(), json.dumps(counts), "", "", run)
    connection.change("runs", ("id",), ("finished", "counts", "owner", "held_until"), [told])


def name_run(connection: Connection, run: int, name: str) -> None:
    """Call a run by a name; one that had it before loses it."""
    connection.run("UPDATE runs SET name = '' WHERE name = :name", name=name)
    connection.change("runs", ("id",), ("name",), [(name, run)])


def list_runs(connection: Connection) -> list[Run]:
    """All runs, the newest first."""
    return _runs(connection, "ORDER BY id DESC")


def find_run(connection: Connection, text: str, kind: RunKind | None = None) -> Run | None:
    """A run (of a kind, where one is given) by its number or its name; "last" is the newest
    complete one. Surveys, whose rows are of another sort, are found where that is the kind.
    """
    which = "WHERE kind = :kind" if kind else "WHERE kind <> :kind"
    values: dict[str, Any] = {"kind": kind or RunKind.SURVEY}
    if text == "last":
        return _one(connection, f"{which} AND finished <> '' ORDER BY id DESC", **values)
    if text.isascii() and text.isdigit() and len(text) < 10:
        return _one(connection, f"{which} AND id = :number", number=int(text), **values)
    return _one(connection, f"{which} AND name = :name", name=text, **values)


def open_run(connection: Connection, kind: RunKind, at: str) -> Run | None:
    """The newest run of a kind at a place, if it was never finished."""
    newest = 'WHERE kind = :kind AND "at" = :at ORDER BY id DESC'
    found = _one(connection, newest, kind=kind, at=at)
    return found if found is not None and not found.finished else None


def last_run(connection: Connection, kind: RunKind, at: str = "") -> Run | None:
    """The newest complete run of a kind; at: at this place, where one is named."""
    complete = "WHERE kind = :kind AND finished <> ''"
    if at:
        return _one(connection, f'{complete} AND "at" = :at ORDER BY id DESC', kind=kind, at=at)
    return _one(connection, f"{complete} ORDER BY id DESC", kind=kind)
