"""How rows of journalled tables look: what the journal must know of them to put them back."""

from __future__ import annotations

import json
from collections.abc import Iterable, Mapping, Sequence
from typing import Any, NamedTuple

from upright_ledger.ledger.db.connection import Connection, batches, numbered, quoted

Row = Mapping[str, Any]
_AT_ONCE = 500


class Shape(NamedTuple):
    """Of one table. keys: its key columns; usual: what columns hold that nothing is said of;
    packed: columns of JSON; flags: of yes or no.
    """

    keys: tuple[str, ...]
    usual: Row
    packed: frozenset[str] = frozenset()
    flags: frozenset[str] = frozenset()

    def key_of(self, row: Row) -> str:
        """The values of its key columns, as the journal writes them."""
        return f"[{', '.join([str(row[k]) for k in self.keys])}]"


_QUERY = "carry-tracking"

JOURNALLED: Mapping[str, Shape] = {
    "answers": Shape(
        ("entry",),
        {"status": 0, "destination": "", "query": _QUERY, "old": "", "host_given": True,
         "where": "", "note": "", "inherited": False, "author": "", "confidence": None,
         "reasons": "", "runner_up": ""},
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
    found = []
    for some in batches(sorted(wanted), _AT_ONCE):
        marks, values = numbered(some)
        found += _rows(
            connection.run(f'{query} WHERE "{shape.keys[0]}" IN {marks}', **values), shape
        )
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


def stored(shape: Shape, names: Sequence[str], row: Row) -> tuple[Any, ...]:
    """A row as a tuple of what its columns hold."""
    whole = {**shape.usual, **row}
    return tuple([json.dumps(whole[n]) if n in shape.packed else whole[n] for n in names])
