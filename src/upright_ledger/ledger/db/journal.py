"""The journal: every change as a step with before-images, and undo as one more step."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any, NamedTuple

import msgspec
from sqlalchemy import (
    JSON,
    Connection,
    Table,
    Text,
    and_,
    cast,
    func,
    or_,
    select,
    update,
)

from upright_ledger.errors import RefusedError, UsageError
from upright_ledger.ledger.db.bulk import change_rows, delete_rows, load_rows, these_rows
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
    _recorded: dict[str, set[str]] = field(default_factory=lambda: defaultdict(set), repr=False)
    meanwhile: int = 0
    """Entries that were left alone, as they were answered, or seen anew, after they were read."""

    @property
    def is_empty(self) -> bool:
        return self.touched == 0 and not self.noted

    @property
    def changed_lines(self) -> bool:
        """Whether lines of entries may have to be worked out anew."""
        return bool(self.entries or self.sources or self.ruled or self.refolded)

    def put(self, table_name: str, row: Mapping[str, Any]) -> None:
        """Insert or replace one row, keeping what was there before."""
        self.put_many(table_name, [row])

    def put_many(self, table_name: str, rows: Sequence[Mapping[str, Any]]) -> None:
        """Insert or replace rows with equal columns; rows that are the same already are left
        alone.
        """
        table, keys = _journalled(table_name)
        self._note(table_name, rows)
        before = self._before(table, keys, rows)
        fresh: list[Mapping[str, Any]] = []
        replaced: list[Mapping[str, Any]] = []
        images: list[tuple[str, Mapping[str, Any] | None]] = []
        for row in rows:
            key = _row_key(keys, row)
            old = before.get(key)
            if old is not None and all(old[c] == v for c, v in row.items()):
                continue
            images.append((key, old))
            (fresh if old is None else replaced).append(row)
        if fresh:
            names = tuple(_whole(table, fresh[0]))
            load_rows(self.connection, table, names, _stored(table, names, fresh))
        if replaced:
            names = tuple(c for c in replaced[0] if c not in keys)
            change_rows(
                self.connection, table, keys, names, _stored(table, (*names, *keys), replaced)
            )
        self._record(table_name, images)

    def remove(self, table_name: str, rows: Iterable[Mapping[str, Any]]) -> None:
        """Delete rows by their keys, keeping what they held."""
        table, keys = _journalled(table_name)
        rows = list(rows)
        self._note(table_name, rows)
        before = self._before(table, keys, rows)
        delete_rows(
            self.connection, table, keys, [tuple(r[k] for k in keys) for r in before.values()]
        )
        self._record(table_name, list(before.items()))

    def _note(self, table_name: str, rows: Sequence[Mapping[str, Any]]) -> None:
        """Remember of what something is worked out that changes with these rows."""
        if table_name == "sources":
            self.sources |= {row["id"] for row in rows}
        elif table_name == "answers":
            self.entries |= {row["entry"] for row in rows}
        self.ruled |= table_name == "templates"
        self.refolded |= table_name == "policies"

    def _record(
        self, table_name: str, images: Iterable[tuple[str, Mapping[str, Any] | None]]
    ) -> None:
        """Keep what rows held before this step (key, row); of what it changes twice, the first
        counts.
        """
        recorded = self._recorded[table_name]
        new = [(key, before) for key, before in images if key not in recorded]
        recorded.update(key for key, _ in new)
        rows = ((self.id, table_name, key, _ENCODER.encode(old).decode()) for key, old in new)
        load_rows(self.connection, changes, ("step", "table_name", "row_key", "before"), rows)
        self.touched += len(new)

    def _before(
        self, table: Table, keys: tuple[str, ...], rows: Sequence[Mapping[str, Any]]
    ) -> dict[str, dict[str, Any]]:
        """Row key → the row as it stands, for those of `rows` that exist."""
        asked = {_row_key(keys, row) for row in rows}
        found = {}
        for row in these_rows(self.connection, table, keys[0], {row[keys[0]] for row in rows}):
            if (key := _row_key(keys, row)) in asked:
                found[key] = row
        return found


_ENCODER = msgspec.json.Encoder()


def _journalled(name: str) -> tuple[Table, tuple[str, ...]]:
    return metadata.tables[name], JOURNALLED[name]


def _row_key(keys: tuple[str, ...], row: Mapping[str, Any]) -> str:
    return f"[{', '.join([str(row[k]) for k in keys])}]"


def _stored(
    table: Table, names: Sequence[str], rows: Iterable[Mapping[str, Any]]
) -> Iterator[tuple[Any, ...]]:
    """Rows as tuples of what their columns hold."""
    packed = [n for n in names if isinstance(table.c[n].type, JSON)]
    usual = {n: getattr(table.c[n].default, "arg", None) for n in names}
    for row in rows:
        values = usual | dict(row)
        for n in packed:
            values[n] = _ENCODER.encode(values[n]).decode()
        yield tuple([values[n] for n in names])


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
    _refuse_later_changes(connection, step.id, target)
    # What an undo had taken back stands again, and what it had let stand is taken back again.
    for taken in connection.scalars(select(steps.c.id).where(steps.c.undone_by == target)).all():
        _mark(step, taken, None)
    _restore(step, _images(connection, target))
    _mark(step, target, step.id)
    # Of several the first one: those after it came after it, too.
    connection.execute(update(steps).where(steps.c.id == step.id).values(undoes=target))
    step.noted = True
    return f"step {target} ({row.command}: {row.summary})"


class _Image(NamedTuple):
    """What a row held before a step; None: there was none. key: the values of its key columns."""

    table: str
    key: list[Any]
    before: dict[str, Any] | None


def _images(connection: Connection, step: int) -> list[_Image]:
    c = changes.c
    rows = connection.execute(
        select(c.table_name, c.row_key, cast(c.before, Text)).where(c.step == step)
    ).fetchall()
    decode = msgspec.json.Decoder().decode
    return [_Image(name, decode(key), decode(before or "null")) for name, key, before in rows]


def _mark(step: Step, number: int, undone_by: int | None) -> None:
    """Say by which step a step is undone, or that it stands, and keep what was said before."""
    before = step.connection.scalar(select(steps.c.undone_by).where(steps.c.id == number))
    step.connection.execute(update(steps).where(steps.c.id == number).values(undone_by=undone_by))
    step._record(steps.name, [(f"[{number}]", {"undone_by": before})])  # noqa: SLF001 - its own


def _refuse_later_changes(connection: Connection, now: int, target: int) -> None:
    """A later step is in the way where it changed the same, unless it and its undo, or what it
    undoes, came after the target, too.
    """
    ours, later = changes.alias("ours"), changes.alias("later")
    same = and_(later.c.table_name == ours.c.table_name, later.c.row_key == ours.c.row_key)
    query = (
        select(later.c.table_name, steps.c.id, steps.c.command, steps.c.time)
        .select_from(ours)
        .join(later, same)
        .join(steps, steps.c.id == later.c.step)
        .where(
            ours.c.step == target,
            ours.c.table_name != steps.name,
            later.c.step > target,
            later.c.step < now,
            steps.c.undone_by.is_(None),
            or_(steps.c.undoes.is_(None), steps.c.undoes < target),
        )
        .order_by(steps.c.id)
        .limit(1)
    )
    between = select(steps.c.id).where(steps.c.id > target, steps.c.id < now).limit(1)
    if connection.scalar(between) is None:
        return
    if (row := connection.execute(query).first()) is not None:
        raise RefusedError(
            f"step {row.id} ({row.command}, {row.time}) changed the same {row.table_name} since",
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


def _restore(step: Step, images: Iterable[_Image]) -> None:
    """Let rows be what they were."""
    put: dict[str, list[dict[str, Any]]] = defaultdict(list)
    gone: dict[str, list[dict[str, Any]]] = defaultdict(list)
    for image in images:
        if image.table == steps.name:
            _mark(step, image.key[0], (image.before or {})["undone_by"])
        elif image.before is not None:
            put[image.table].append(_whole(metadata.tables[image.table], image.before))
        elif image.table == policies.name:
            put[image.table].append(_policy_before(step, image.key[0]))
        elif image.table == sources.name:
            # What a source said is a fact and stays; it only counts no longer.
            (row,) = these_rows(step.connection, sources, "id", image.key)
            put[image.table].append(row | {"withdrawn": True})
        else:
            keys = JOURNALLED[image.table]
            gone[image.table].append(dict(zip(keys, image.key, strict=True)))
    for table, rows in put.items():
        step.put_many(table, rows)
    for table, rows in gone.items():
        step.remove(table, rows)


def _policy_before(step: Step, number: int) -> dict[str, Any]:
    """The policy before one, under a new number: they are only ever added."""
    newest = step.connection.scalar(select(func.max(policies.c.number))) or 0
    (before,) = these_rows(step.connection, policies, "number", [number - 1])
    return before | {"number": newest + 1}
