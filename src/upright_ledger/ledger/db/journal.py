"""The journal: every change as a step with before-images, and undo as one more step."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from itertools import repeat
from operator import itemgetter
from typing import Any, NamedTuple

import msgspec

from upright_ledger.errors import RefusedError, UsageError
from upright_ledger.ledger.db.connection import Connection
from upright_ledger.ledger.db.shapes import JOURNALLED, Shape, stored, these_rows

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
    """Those that have other spellings."""
    answered: set[int] = field(default_factory=set)
    """Those that were answered otherwise."""
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
        return bool(self.entries or self.answered or self.sources or self.ruled or self.refolded)

    def put(self, table_name: str, row: Mapping[str, Any]) -> None:
        """Insert or replace one row, keeping what was there before."""
        self.put_many(table_name, [row])

    def put_many(self, table_name: str, rows: Sequence[Mapping[str, Any]]) -> None:
        """Insert or replace rows with equal columns; rows that are the same already are left
        alone.
        """
        shape = JOURNALLED[table_name]
        self._note(table_name, rows)
        keys = shape.keys_of(rows)
        before = self._before(table_name, shape, rows, keys)
        fresh: list[Mapping[str, Any]] = []
        replaced: list[Mapping[str, Any]] = []
        images: list[tuple[str, Mapping[str, Any] | None]] = []
        if not before:
            fresh, images = list(rows), list(zip(keys, repeat(None), strict=False))
        for key, row in zip(keys, rows, strict=True) if before else ():
            old = before.get(key)
            if old is not None and all(old[c] == v for c, v in row.items()):
                continue
            images.append((key, old))
            (fresh if old is None else replaced).append(row)
        if fresh:
            names = tuple({**fresh[0], **shape.usual})
            self.connection.load(table_name, names, stored(shape, names, fresh))
        if replaced:
            names = tuple(c for c in replaced[0] if c not in shape.keys)
            told = stored(shape, (*names, *shape.keys), replaced)
            self.connection.change(table_name, shape.keys, names, told)
        self._record(table_name, images)

    def remove(self, table_name: str, rows: Iterable[Mapping[str, Any]]) -> None:
        """Delete rows by their keys, keeping what they held."""
        shape = JOURNALLED[table_name]
        rows = list(rows)
        self._note(table_name, rows)
        before = self._before(table_name, shape, rows, shape.keys_of(rows))
        gone = [tuple([row[k] for k in shape.keys]) for row in before.values()]
        self.connection.delete(table_name, shape.keys, gone)
        self._record(table_name, list(before.items()))

    def _note(self, table_name: str, rows: Sequence[Mapping[str, Any]]) -> None:
        """Remember of what something is worked out that changes with these rows."""
        if table_name == "sources":
            self.sources |= {row["id"] for row in rows}
        elif table_name == "answers":
            self.answered |= {row["entry"] for row in rows}
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
        nothing = _ENCODER.encode(None).decode()
        rows = [
            (self.id, table_name, key, nothing if old is None else _ENCODER.encode(old).decode())
            for key, old in new
        ]
        rows.sort(key=itemgetter(2))  # as the index has them
        self.connection.load("changes", ("step", "table_name", "row_key", "before"), rows)
        self.touched += len(new)

    def _before(
        self,
        table_name: str,
        shape: Shape,
        rows: Sequence[Mapping[str, Any]],
        keys: Sequence[str],
    ) -> dict[str, dict[str, Any]]:
        """Row key → the row as it stands, for those of `rows`, whose keys these are, that exist."""
        found = these_rows(self.connection, table_name, {row[shape.keys[0]] for row in rows})
        if not found:
            return {}
        asked = set(keys)
        named = zip(shape.keys_of(found), found, strict=True)
        return {key: row for key, row in named if key in asked}


_ENCODER = msgspec.json.Encoder()


def last_step(connection: Connection) -> int:
    """The number of the last step in the journal."""
    return connection.value("SELECT MAX(id) FROM steps") or 0


class PastStep(NamedTuple):
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
    return [PastStep(*row) for row in connection.rows(f"{_STEPS} ORDER BY id DESC")]


_STEPS = "SELECT id, time, author, command, reason, summary, undoes, undone_by FROM steps"


def last_undoable(connection: Connection, before: int) -> int:
    """The newest step before this one that is neither undone nor an undo. Raises UsageError when
    there is none.
    """
    fixed = ", ".join(f"'{command}'" for command in _FIXED)
    found = connection.value(
        "SELECT id FROM steps WHERE id < :before AND undone_by IS NULL AND undoes IS NULL "
        f"AND command NOT IN ({fixed}) ORDER BY id DESC LIMIT 1",
        before=before,
    )
    if found is None:
        raise UsageError("there is no step to undo", "`upright history` lists the steps")
    return int(found)


def undo(step: Step, target: int) -> str:
    """Put back what a step changed, in this new step, which may undo several; returns what the
    target was.

    Raises RefusedError, naming the later step, where a row was changed since.
    """
    connection = step.connection
    row = next((PastStep(*r) for r in connection.rows(f"{_STEPS} WHERE id = :id", id=target)), None)
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
    for taken in connection.column("SELECT id FROM steps WHERE undone_by = :id", id=target):
        _mark(step, taken, None)
    _restore(step, _images(connection, target))
    _mark(step, target, step.id)
    # Of several the first one: those after it came after it, too.
    change = "UPDATE steps SET undoes = :target WHERE id = :id"
    connection.run(change, target=target, id=step.id)
    step.noted = True
    return f"step {target} ({row.command}: {row.summary})"


class _Image(NamedTuple):
    """What a row held before a step; None: there was none. key: the values of its key columns."""

    table: str
    key: list[Any]
    before: dict[str, Any] | None


def _images(connection: Connection, step: int) -> list[_Image]:
    rows = connection.rows(
        "SELECT table_name, row_key, CAST(before AS TEXT) FROM changes WHERE step = :step",
        step=step,
    )
    decode = msgspec.json.Decoder().decode
    return [_Image(name, decode(key), decode(before or "null")) for name, key, before in rows]


def _mark(step: Step, number: int, undone_by: int | None) -> None:
    """Say by which step a step is undone, or that it stands, and keep what was said before."""
    before = step.connection.value("SELECT undone_by FROM steps WHERE id = :id", id=number)
    change = "UPDATE steps SET undone_by = :by WHERE id = :id"
    step.connection.run(change, by=undone_by, id=number)
    step._record("steps", [(f"[{number}]", {"undone_by": before})])  # noqa: SLF001 - its own


def _refuse_later_changes(connection: Connection, now: int, target: int) -> None:
    """A later step is in the way where it changed the same, unless it and its undo, or what it
    undoes, came after the target, too.
    """
    between = "SELECT 1 FROM steps WHERE id > :target AND id < :now LIMIT 1"
    if connection.value(between, target=target, now=now) is None:
        return
    for table, number, command, time in connection.rows(_LATER, target=target, now=now):
        raise RefusedError(
            f"step {number} ({command}, {time}) changed the same {table} since",
            f"undo step {number} first",
        )


_LATER = """
    SELECT l.table_name, s.id, s.command, s.time
    FROM changes o
    JOIN changes l ON l.table_name = o.table_name AND l.row_key = o.row_key
    JOIN steps s ON s.id = l.step
    WHERE o.step = :target AND o.table_name <> 'steps' AND l.step > :target AND l.step < :now
      AND s.undone_by IS NULL AND (s.undoes IS NULL OR s.undoes < :target)
    ORDER BY s.id LIMIT 1
"""


def _restore(step: Step, images: Iterable[_Image]) -> None:
    """Let rows be what they were."""
    put: dict[str, list[dict[str, Any]]] = defaultdict(list)
    gone: dict[str, list[dict[str, Any]]] = defaultdict(list)
    for image in images:
        if image.table == "steps":
            _mark(step, image.key[0], (image.before or {})["undone_by"])
        elif image.before is not None:
            # With what is usual in columns that came to the table since.
            put[image.table].append({**JOURNALLED[image.table].usual, **image.before})
        elif image.table == "policies":
            put[image.table].append(_policy_before(step, image.key[0]))
        elif image.table == "sources":
            # What a source said is a fact and stays; it only counts no longer.
            (row,) = these_rows(step.connection, "sources", image.key)
            put[image.table].append(row | {"withdrawn": True})
        else:
            keys = JOURNALLED[image.table].keys
            gone[image.table].append(dict(zip(keys, image.key, strict=True)))
    for table, rows in put.items():
        step.put_many(table, rows)
    for table, rows in gone.items():
        step.remove(table, rows)


def _policy_before(step: Step, number: int) -> dict[str, Any]:
    """The policy before one, under a new number: they are only ever added."""
    newest = step.connection.value("SELECT MAX(number) FROM policies") or 0
    (before,) = these_rows(step.connection, "policies", [number - 1])
    return before | {"number": newest + 1}
