"""How rows of journalled tables look: what the journal must know of them to put them back."""

from __future__ import annotations

import json
from collections.abc import Iterable, Iterator, Mapping, Sequence
from operator import itemgetter
from typing import Any, NamedTuple

from upright_ledger.ledger.db.connection import Connection, batches, numbered, quoted

Row = Mapping[str, Any]
_AT_ONCE = 500
_MOST = 3
"""So many rows are read for each that is wanted, rather than asking for some at a time."""


class Shape(NamedTuple):
    """Of one table. keys: its key columns; usual: what columns hold that nothing is said of;
    packed: columns of JSON; flags: of yes or no.
    """

    keys: tuple[str, ...]
    usual: Row
    packed: frozenset[str] = frozenset()
    flags: frozenset[str] = frozenset()

    def keys_of(self, rows: Iterable[Row]) -> list[str]:
        """Of each row the values of its key columns, as the journal writes them."""
        if len(self.keys) == 1:
            (key,) = self.keys
            return [f"[{row[key]}]" for row in rows]
        return [f"[{', '.join([str(row[k]) for k in self.keys])}]" for row in rows]


_QUERY = "carry-tracking"

JOURNALLED: Mapping[str, Shape] = {
    "answers": Shape(
        ("entry",),
        {"status": 0, "destination": "", "query": _QUERY, "old": "", "host_given": True,
         "where": "", "note": "", "inherited": False, "author": "", "confidence": None,
         "reasons": "", "runner_up": "", "until": ""},
        flags=frozenset({"host_given", "inherited"}),
    ),
    "claims": Shape(
        ("entry", "number"), {"host_given": True, "where": ""}, flags=frozenset({"host_given"})
    ),
    "sources": Shape(
        ("id",),
        {"head_digest": "", "period_start": "", "period_end": "", "mapping": None, "lines": 0,
         "accepted": 0, "set_aside": 0, "rejected": 0, "new_entries": 0, "mended": None,
         "aside": None, "withdrawn": False, "asked": None},
        packed=frozenset({"mapping", "mended", "aside", "asked"}),
        flags=frozenset({"withdrawn"}),
    ),
    "policies": Shape(("number",), {}, packed=frozenset({"settings"})),
    "shared": Shape(("number",), {}, packed=frozenset({"value"})),
    "templates": Shape(
        ("id",), {"status": 0, "destination": "", "query": _QUERY, "where": ""}
    ),
}  # fmt: skip
"""Tables that the journal restores. A test holds this to the schema."""


def these_rows(
    connection: Connection, table: str, wanted: Iterable[Any] | None = None
) -> list[dict[str, Any]]:
    """The rows of a journalled table in whose first key column stands one of the wanted values;
    None: all, in order.
    """
    shape = JOURNALLED[table]
    query = f'SELECT * FROM "{table}"'
    if wanted is None:
        return _rows(connection.run(f"{query} ORDER BY {quoted(shape.keys)}"), shape)
    ordered = sorted(wanted)
    key = f'"{shape.keys[0]}"'
    if len(ordered) > _AT_ONCE and isinstance(ordered[0], int):
        ends = {"first": ordered[0], "last": ordered[-1]}
        within = f"{key} BETWEEN :first AND :last"
        if connection.value(
            f'SELECT COUNT(*) FROM "{table}" WHERE {within}', **ends
        ) <= _MOST * len(ordered):
            these = set(ordered)
            rows = _rows(connection.run(f"{query} WHERE {within}", **ends), shape)
            return [row for row in rows if row[shape.keys[0]] in these]
    found = []
    for some in batches(ordered, _AT_ONCE):
        marks, values = numbered(some)
        found += _rows(connection.run(f"{query} WHERE {key} IN {marks}", **values), shape)
    return found


def _rows(cursor: Any, shape: Shape) -> list[dict[str, Any]]:
    names = [column[0] for column in cursor.description]
    rows = [dict(zip(names, row, strict=True)) for row in cursor.fetchall()]
    for row in rows:
        for name in shape.packed:
            row[name] = unpacked(row[name])
        for name in shape.flags:
            row[name] = bool(row[name])
    return rows


def unpacked(value: Any) -> Any:
    """What a column of JSON holds, however the driver gives it."""
    return json.loads(value) if isinstance(value, str) else value


def stored(shape: Shape, names: Sequence[str], rows: Sequence[Row]) -> Iterator[tuple[Any, ...]]:
    """Rows with equal columns as tuples of what these columns hold."""
    if len(names) > 1 and shape.packed.isdisjoint(names) and rows[0].keys() >= set(names):
        yield from map(itemgetter(*names), rows)
        return
    for row in rows:
        whole = {**shape.usual, **row}
        yield tuple([json.dumps(whole[n]) if n in shape.packed else whole[n] for n in names])
