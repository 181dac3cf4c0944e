"""The change to addresses in doubt, to digests of lines that a specification fixes, and to days
that the calendar has.
"""

from __future__ import annotations

import json
import logging
from typing import Any

from sqlalchemy import JSON, Column, MetaData, Table, insert, select, update
from sqlalchemy.types import NullType

from upright_ledger.core.inventory import noise
from upright_ledger.core.inventory.normalisation import FoldingPolicy, fold_target
from upright_ledger.core.monitoring.deploy_days import is_day
from upright_ledger.ledger.db.connection import Connection
from upright_ledger.ledger.db.rows import next_id
from upright_ledger.ledger.migrations.statements import run

_LOG = logging.getLogger(__name__)
_DIGEST = "xxh3-64"


def _tables() -> dict[str, Table]:
    """The tables of schema 9, as far as they are changed here."""
    documents = {"settings", "before"}
    columns = {
        "policies": "number settings",
        "steps": "id time author command reason summary",
        "changes": "step table_name row_key before",
        "sources": "id period_start period_end",
        "spellings": "id site spelling entry aside key",
        "observations": "source last_seen",
        "log_lines": "source day method digests",
        "evidence": ("spelling source unit status_class agent amount first_day last_day days"),
    }

    def column(name: str) -> Column[Any]:
        return (
            Column(name, JSON(none_as_null=True)) if name in documents else Column(name, NullType())
        )

    return {t: Table(t, MetaData(), *map(column, names.split())) for t, names in columns.items()}


_TABLES = _tables()
_IN_DOUBT = (noise.AsideClass.PROBE, noise.AsideClass.RANDOM, noise.AsideClass.BOTS_ONLY)


def sound_logs(connection: Connection) -> None:
    """Keys of addresses in doubt; lines known by a digest of an older kind count as let go; days
    that do not exist are taken out.
    """
    run(
        connection,
        "ALTER TABLE spellings ADD COLUMN key TEXT NOT NULL DEFAULT ''",
        "CREATE INDEX spellings_in_doubt ON spellings (site, key) WHERE key <> ''",
    )
    _name_keys(connection)
    lines = _TABLES["log_lines"]
    older = lines.c.method.like("duckdb-%")
    if connection.core.scalar(select(lines.c.source).where(older).limit(1)) is not None:
        connection.core.execute(update(lines).where(older).values(method=_DIGEST, digests=b""))
        _note(
            connection,
            "lines of logs are told apart by another digest from now on: of days that were read "
            "before, none counts again",
        )
    if days := _take_out_days(connection):
        shown = ", ".join(sorted(days)[:5])
        _note(
            connection,
            f"days that no calendar has ({shown}) were taken out of the evidence; the requests "
            "count without a day",
        )


def _note(connection: Connection, what: str) -> None:
    """Say what was done, here and in the journal."""
    from upright_ledger.ledger.clock import author, now

    row = {
        "id": next_id(connection, "steps"),
        "time": now(),
        "author": author(),
        "command": "migrate",
        "reason": "",
        "summary": what,
    }
    connection.core.execute(insert(_TABLES["steps"]).values(**row))
    _LOG.warning("upright: this ledger was made by an earlier version: %s", what)


def _name_keys(connection: Connection) -> None:
    p = _TABLES["spellings"]
    settings = connection.core.scalar(
        select(_TABLES["policies"].c.settings)
        .order_by(_TABLES["policies"].c.number.desc())
        .limit(1)
    )
    policy = FoldingPolicy.from_dict(settings or {})
    query = select(p.c.id, p.c.spelling, p.c.aside).where(
        p.c.entry.is_(None), p.c.aside.in_(_IN_DOUBT), p.c.site != ""
    )
    keys = []
    for number, spelling, aside in connection.core.execute(query).fetchall():
        path, _, query_text = spelling[spelling.index("/", 8) :].partition("?")
        doubtful = aside == noise.AsideClass.BOTS_ONLY or noise.doubtful_class(path) == aside
        if doubtful and not noise.set_aside_class(path):
            keys.append((number, fold_target(path, query_text, policy).key))
    for number, key in keys:
        connection.core.execute(update(p).where(p.c.id == number).values(key=key))


def _take_out_days(connection: Connection) -> set[str]:
    """Take days that do not exist out of periods, figures and digests; returns them."""
    s, lines = _TABLES["sources"], _TABLES["log_lines"]
    periods = connection.core.execute(select(s.c.id, s.c.period_start, s.c.period_end)).fetchall()
    told = connection.core.execute(select(lines.c.source, lines.c.day).distinct()).fetchall()
    bad = {day for _, day in told if not is_day(day)}
    bad |= {day for row in periods for day in row[1:] if day and not is_day(day)}
    if not bad:
        return bad
    sources = {n for n, day in told if day in bad} | {
        row[0] for row in periods if bad & set(row[1:])
    }
    for source in sorted(sources):
        days = sorted(day for n, day in told if n == source and is_day(day))
        first, last = (days[0], days[-1]) if days else ("", "")
        connection.core.execute(
            update(s).where(s.c.id == source).values(period_start=first, period_end=last)
        )
        _mend_figures(connection, source)
        observed = _TABLES["observations"]
        unsound = (observed.c.source == source) & observed.c.last_seen.in_(bad)
        connection.core.execute(update(observed).where(unsound).values(last_seen=""))
    connection.core.execute(lines.delete().where(lines.c.day.in_(bad)))
    _mend_images(connection, bad)
    return bad


def _days_in(packed: str) -> list[tuple[str, float]]:
    pairs = (part.rpartition(":") for part in packed.split())
    return [(day, float(amount)) for day, _, amount in pairs]


def _mend_figures(connection: Connection, source: int) -> None:
    v = _TABLES["evidence"]
    names = [c.name for c in v.columns]
    rows = [
        dict(r) for r in connection.core.execute(select(v).where(v.c.source == source)).mappings()
    ]
    for row in rows:
        days = [(day, n) for day, n in _days_in(row["days"]) if is_day(day[:10])]
        row["days"] = " ".join(f"{day}:{n:.15g}" for day, n in days)
        row["first_day"], row["last_day"] = (
            (days[0][0][:10], days[-1][0][:10]) if days else ("", "")
        )
    connection.core.execute(v.delete().where(v.c.source == source))
    connection.load("evidence", names, [tuple(row[n] for n in names) for row in rows])


def _mend_images(connection: Connection, bad: set[str]) -> None:
    """Undo must not bring them back."""
    c = _TABLES["changes"]
    query = select(c.c.step, c.c.row_key, c.c.before).where(
        c.c.table_name == "sources", c.c.before.is_not(None)
    )
    for step, key, before in connection.core.execute(query).fetchall():
        if before is None or not bad & {before.get("period_start"), before.get("period_end")}:
            continue
        number = json.loads(key)[0]
        s = _TABLES["sources"]
        now = connection.core.execute(
            select(s.c.period_start, s.c.period_end).where(s.c.id == number)
        ).one()
        values = {**before, "period_start": now[0], "period_end": now[1]}
        same = (c.c.step == step) & (c.c.table_name == "sources") & (c.c.row_key == key)
        connection.core.execute(update(c).where(same).values(before=values))
