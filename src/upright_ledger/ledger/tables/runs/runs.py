"""Runs of rehearse, replay and survey: derived data, kept for comparing."""

from __future__ import annotations

import os
import platform
import secrets
from collections.abc import Mapping
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from typing import Any

from sqlalchemy import Connection, Row, Select, insert, select

from upright_ledger.core.tracing.run_kind import RunKind
from upright_ledger.errors import RefusedError
from upright_ledger.ledger.clock import now
from upright_ledger.ledger.db import schema
from upright_ledger.processes import lives


@dataclass(frozen=True, slots=True)
class Run:
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


def _run_of(row: Row[Any]) -> Run:
    values = row._asdict()
    return Run(**{**values, "kind": RunKind(values["kind"]), "counts": values["counts"] or {}})


def _one(connection: Connection, query: Select[Any]) -> Run | None:
    row = connection.execute(query).one_or_none()
    return _run_of(row) if row is not None else None


HELD_SECONDS = 120
"""How long a run stays somebody's who is not heard of."""


def new_owner() -> str:
    """A name for who is at a run: this machine, this process, and a number of its own."""
    return f"{platform.node()} {os.getpid()} {secrets.token_hex(4)}"


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
    values = {
        "kind": kind,
        "name": name,
        "started": now(),
        "digest": digest,
        "at": at,
        "counts": {},
    }
    held = {"owner": owner, "held_until": _later() if owner else "", "asked": asked}
    done = connection.execute(insert(schema.runs).values(**values, **held))
    return int(done.inserted_primary_key[0])  # type: ignore[index]


def take_over(connection: Connection, run: Run, owner: str) -> None:
    """Go on with a run that was stopped. Raises RefusedError where somebody is at it."""
    if run.owner and run.held_until > now() and not _is_dead(run.owner):
        machine, process = _place_of(run.owner)
        raise RefusedError(
            f"somebody is at run {run.id}: process {process} on {machine}",
            "let it end, or stop it, and resume then",
        )
    connection.execute(
        schema.runs.update()
        .where(schema.runs.c.id == run.id)
        .values(owner=owner, held_until=_later())
    )


def hold(connection: Connection, run: int, owner: str) -> None:
    """Say that one is still at a run. Raises RefusedError where somebody else took it over."""
    r = schema.runs
    done = connection.execute(
        r.update().where(r.c.id == run, r.c.owner == owner).values(held_until=_later())
    )
    if not done.rowcount:
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
    return machine == platform.node() and process.isdigit() and not lives(int(process))


def finish_run(connection: Connection, run: int, counts: dict[str, int]) -> None:
    """Note that a run is complete, with its verdict counts."""
    values = {"finished": now(), "counts": counts, "owner": "", "held_until": ""}
    connection.execute(schema.runs.update().where(schema.runs.c.id == run).values(**values))


def name_run(connection: Connection, run: int, name: str) -> None:
    """Call a run by a name; one that had it before loses it."""
    r = schema.runs
    connection.execute(r.update().where(r.c.name == name).values(name=""))
    connection.execute(r.update().where(r.c.id == run).values(name=name))


def list_runs(connection: Connection) -> list[Run]:
    """All runs, the newest first."""
    query = select(schema.runs).order_by(schema.runs.c.id.desc())
    return [_run_of(row) for row in connection.execute(query)]


def find_run(connection: Connection, text: str, kind: RunKind | None = None) -> Run | None:
    """A run (of a kind, where one is given) by its number or its name; "last" is the newest
    complete one. Surveys, whose rows are of another sort, are found where that is the kind.
    """
    r = schema.runs
    query = (
        select(r).where(r.c.kind == kind) if kind else select(r).where(r.c.kind != RunKind.SURVEY)
    )
    if text == "last":
        return _one(connection, query.where(r.c.finished != "").order_by(r.c.id.desc()).limit(1))
    wanted = (
        r.c.id == int(text)
        if text.isascii() and text.isdigit() and len(text) < 10
        else r.c.name == text
    )
    return _one(connection, query.where(wanted))


def open_run(connection: Connection, kind: RunKind, at: str) -> Run | None:
    """The newest run of a kind at a place, if it was never finished."""
    r = schema.runs
    query = select(r).where(r.c.kind == kind, r.c.at == at).order_by(r.c.id.desc()).limit(1)
    found = _one(connection, query)
    return found if found is not None and not found.finished else None


def last_run(connection: Connection, kind: RunKind) -> Run | None:
    """The newest complete run of a kind."""
    r = schema.runs
    complete = select(r).where(r.c.kind == kind, r.c.finished != "")
    return _one(connection, complete.order_by(r.c.id.desc()).limit(1))
