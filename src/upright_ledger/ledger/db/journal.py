"""The journal: every change as a step with before-images, and undo as one more step."""

from __future__ import annotations

import json
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

from sqlalchemy import Connection, Row, Table, and_, delete, func, insert, or_, select, update

from upright_ledger.errors import RefusedError, UsageError
from upright_ledger.ledger.db.schema import JOURNALLED, changes, metadata, policies, sources, steps

_FIXED = ("open", "migrate")
"""Commands whose steps are never undone."""


@dataclass
class Step:
    """One step under way. All changes to journalled tables go through `put` and `remove`."""

    connection: Connection
    id: int
    summary: str = ""
    touched: int = field(default=0)
    noted: bool = field(default=False)
    sources: set[int] = field(default_factory=set)
    """Those that began or ceased to count, or may have."""
    entries: set[int] = field(default_factory=set)
    """Those that were answered otherwise, or have other spellings."""
    ruled: bool = False
    """Whether a template came, changed or went."""
    refolded: bool = False
    """Whether another folding policy came into force."""
    since: int | None = None
    """The last step that was known when that was read which this step goes by; None where nothing
    came after it.
    """
    _recorded: set[tuple[str, str]] = field(default_factory=set, repr=False)
    meanwhile: int = 0
    """Entries that were left alone, as they were answered, or seen anew, after they were read."""

    @property
    def is_empty(self) -> bool:
        return self.touched == 0 and not self.noted

    def put(self, table_name: str, row: Mapping[str, Any]) -> None:
        """Insert or replace one row, keeping what was there before."""
        self.put_many(table_name, [row])

    def put_many(self, table_name: str, rows: Sequence[Mapping[str, Any]]) -> None:
        """Insert or replace rows with equal columns; rows that are the same already are left
        alone.
        """
        table, keys = _journalled(table_name)
        before = self._before(table, keys, rows)
        self._note(table_name, rows)
        fresh: list[dict[str, Any]] = []
        replaced: list[dict[str, Any]] = []
        images: list[dict[str, Any]] = []
        for row in rows:
            key = _row_key(keys, row)
            old = before.get(key)
            if old is not None and all(old[c] == v for c, v in row.items()):
                continue
            images.append(
                {"step": self.id, "table_name": table_name, "row_key": key, "before": old}
            )
            (fresh if old is None else replaced).append(dict(row))
        if fresh:
            self.connection.execute(insert(table), fresh)
        for row in replaced:
            self.connection.execute(update(table).where(_is_row(table, keys, row)).values(**row))
        self._record(images)

    def remove(self, table_name: str, rows: Iterable[Mapping[str, Any]]) -> None:
        """Delete rows by their keys, keeping what they held."""
        table, keys = _journalled(table_name)
        rows = list(rows)
        self._note(table_name, rows)
        before = self._before(table, keys, rows)
        for row in rows:
            self.connection.execute(delete(table).where(_is_row(table, keys, row)))
        self._record(
            [
                {"step": self.id, "table_name": table_name, "row_key": k, "before": old}
                for k, old in before.items()
            ]
        )

    def _note(self, table_name: str, rows: Sequence[Mapping[str, Any]]) -> None:
        """Remember of what something is worked out that changes with these rows."""
        if table_name == "sources":
            self.sources |= {row["id"] for row in rows}
        elif table_name == "answers":
            self.entries |= {row["entry"] for row in rows}
        self.ruled |= table_name == "templates"
        self.refolded |= table_name == "policies"

    def _record(self, images: list[dict[str, Any]]) -> None:
        """Keep what rows held before this step; of what it changes twice, the first counts."""
        images = [i for i in images if (i["table_name"], i["row_key"]) not in self._recorded]
        self._recorded |= {(i["table_name"], i["row_key"]) for i in images}
        if images:
            self.connection.execute(insert(changes), images)
            self.touched += len(images)

    def _before(
        self, table: Table, keys: tuple[str, ...], rows: Sequence[Mapping[str, Any]]
    ) -> dict[str, dict[str, Any]]:
        """Row key → the row as it stands, for those of `rows` that exist."""
        first = keys[0]
        wanted = sorted({row[first] for row in rows})
        found = {}
        for at in range(0, len(wanted), 500):
            for row in self.connection.execute(
                select(table).where(table.c[first].in_(wanted[at : at + 500]))
            ).mappings():
                values = dict(row)
                found[_row_key(keys, values)] = values
        asked = {_row_key(keys, row) for row in rows}
        return {k: v for k, v in found.items() if k in asked}


def _journalled(name: str) -> tuple[Table, tuple[str, ...]]:
    return metadata.tables[name], JOURNALLED[name]


def _row_key(keys: tuple[str, ...], row: Mapping[str, Any]) -> str:
    return json.dumps([row[k] for k in keys])


def _is_row(table: Table, keys: tuple[str, ...], row: Mapping[str, Any]) -> Any:
    return and_(*(table.c[k] == row[k] for k in keys))


def last_step(connection: Connection) -> int:
    """The number of the last step in the journal."""
    return connection.scalar(select(func.max(steps.c.id))) or 0


@dataclass(frozen=True, slots=True)
class PastStep:
    """A step of the journal. time: in UTC. undoes: the step that it takes back; undone_by: the one
    that took it back.
    """

    id: int
    time: str
    author: str
    command: str
    reason: str
    summary: str
    undoes: int | None
    undone_by: int | None


def history(connection: Connection) -> list[PastStep]:
    """All steps, the newest first."""
    rows = connection.execute(select(steps).order_by(steps.c.id.desc()))
    return [PastStep(**row._asdict()) for row in rows]


def last_undoable(connection: Connection, before: int) -> int:
    """The newest step before this one that is neither undone nor an undo. Raises UsageError when
    there is none.
    """
    query = select(steps.c.id).where(
        steps.c.id < before,
        steps.c.undone_by.is_(None),
        steps.c.undoes.is_(None),
        steps.c.command.not_in(_FIXED),
    )
    found = connection.scalar(query.order_by(steps.c.id.desc()).limit(1))
    if found is None:
        raise UsageError("there is no step to undo", "`upright history` lists the steps")
    return int(found)


def undo(step: Step, target: int) -> str:
    """Put back what a step changed, in this new step, which may undo several; returns what the
    target was.

    Raises RefusedError, naming the later step, where a row was changed since.
    """
    connection = step.connection
    row = connection.execute(select(steps).where(steps.c.id == target)).one_or_none()
    if row is None or target == step.id:
        raise UsageError(f"there is no step {target}", "`upright history` lists the steps")
    if row.undone_by is not None:
        raise RefusedError(
            f"step {target} was undone already, by step {row.undone_by}",
            "`upright history` lists the steps",
        )
    if row.command in _FIXED:
        raise RefusedError(
            f"step {target} ({row.command}) cannot be undone", "edit upright.toml instead"
        )
    images = list(connection.execute(select(changes).where(changes.c.step == target)))
    _refuse_later_changes(connection, step.id, target, images)
    # What an undo had taken back stands again, and what it had let stand is taken back again.
    for taken in connection.scalars(select(steps.c.id).where(steps.c.undone_by == target)).all():
        _mark(step, taken, None)
    for image in images:
        if image.table_name == steps.name:
            _mark(step, json.loads(image.row_key)[0], image.before["undone_by"])
        else:
            _restore(step, image)
    _mark(step, target, step.id)
    # Of several the first one: those after it came after it, too.
    connection.execute(update(steps).where(steps.c.id == step.id).values(undoes=target))
    step.noted = True
    return f"step {target} ({row.command}: {row.summary})"


def _mark(step: Step, number: int, undone_by: int | None) -> None:
    """Say by which step a step is undone, or that it stands, and keep what was said before."""
    before = step.connection.scalar(select(steps.c.undone_by).where(steps.c.id == number))
    step.connection.execute(update(steps).where(steps.c.id == number).values(undone_by=undone_by))
    image = {
        "step": step.id,
        "table_name": steps.name,
        "row_key": json.dumps([number]),
        "before": {"undone_by": before},
    }
    step._record([image])  # noqa: SLF001 - the journal's own


def _refuse_later_changes(
    connection: Connection, now: int, target: int, images: list[Row[Any]]
) -> None:
    """A later step is in the way where it changed the same, unless it and its undo, or what it
    undoes, came after the target, too.
    """
    later = (
        select(changes.c.table_name, changes.c.row_key, steps.c.id, steps.c.command, steps.c.time)
        .join(steps, steps.c.id == changes.c.step)
        .where(
            changes.c.step > target,
            changes.c.step < now,
            steps.c.undone_by.is_(None),
            or_(steps.c.undoes.is_(None), steps.c.undoes < target),
        )
        .order_by(steps.c.id)
    )
    ours = {(i.table_name, i.row_key) for i in images if i.table_name != steps.name}
    for row in connection.execute(later):
        if (row.table_name, row.row_key) in ours:
            raise RefusedError(
                f"step {row.id} ({row.command}, {row.time}) changed the same {row.table_name} "
                "since",
                f"undo step {row.id} first",
            )


def _whole(table: Table, before: Mapping[str, Any]) -> dict[str, Any]:
    """A row as it stood, with the defaults of columns that came to the table since."""
    usual = {c.name: getattr(c.default, "arg", None) for c in table.columns if c.name not in before}
    return {
        **{
            name: value
            for name, value in usual.items()
            if value is not None or table.c[name].nullable
        },
        **before,
    }


def _restore(step: Step, image: Row[Any]) -> None:
    keys = JOURNALLED[image.table_name]
    key = dict(zip(keys, json.loads(image.row_key), strict=True))
    if image.before is not None:
        step.put(image.table_name, _whole(metadata.tables[image.table_name], image.before))
    elif image.table_name == "policies":
        # Policies are only ever added; what was in force before comes into force again under a new
        # number.
        newest = step.connection.scalar(select(func.max(policies.c.number))) or 0
        before = (
            step.connection.execute(select(policies).where(policies.c.number == key["number"] - 1))
            .mappings()
            .one()
        )
        step.put("policies", dict(before) | {"number": newest + 1})
    elif image.table_name == "sources":
        # What a source said is a fact and stays; it only counts no longer.
        current = (
            step.connection.execute(select(sources).where(sources.c.id == key["id"]))
            .mappings()
            .one()
        )
        step.put("sources", dict(current) | {"withdrawn": True})
    else:
        step.remove(image.table_name, [key])
