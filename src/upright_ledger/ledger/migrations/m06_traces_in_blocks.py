"""Traces in blocks of rows, where they were one row each."""

from __future__ import annotations

import json
import zlib
from typing import Any

from sqlalchemy import RowMapping, text

from upright_ledger.ledger.db.connection import Connection
from upright_ledger.ledger.migrations.statements import run

_ROWS = 20_000  # of a block
_OLD = "SELECT * FROM traces_1 WHERE run = :run ORDER BY number"
_NEW = "INSERT INTO traces (run, number, rows) VALUES (:run, :number, :rows)"


def traces_in_blocks(connection: Connection) -> None:
    """From schema 5 to 6. A block is JSON, deflated: columns of URLs, hits and locations, outcomes
    (first status, final status, verdicts, what was due, value, rule, the whole trace), and which of
    them each URL has.
    """
    run(connection, "ALTER TABLE traces RENAME TO traces_1")
    if connection.is_server:
        run(connection, "ALTER TABLE traces_1 DROP CONSTRAINT IF EXISTS traces_by_number")
    run(
        connection,
        "CREATE TABLE traces (run INTEGER NOT NULL, number INTEGER NOT NULL, "
        "rows <bytes> NOT NULL, CONSTRAINT blocks_by_number UNIQUE (run, number), "
        "FOREIGN KEY(run) REFERENCES runs (id))",
    )
    runs = connection.core.scalars(text("SELECT DISTINCT run FROM traces_1 ORDER BY run")).all()
    for number in runs:
        rows = connection.core.execute(text(_OLD), {"run": number}).mappings().all()
        for block in range(0, len(rows), _ROWS):
            packed = _packed(rows[block : block + _ROWS])
            values = {"run": number, "number": block // _ROWS, "rows": packed}
            connection.core.execute(text(_NEW), values)
    run(connection, "DROP TABLE traces_1")


def _packed(rows: Any) -> bytes:
    told = {
        "urls": [row["url"] for row in rows],
        "hits": [int(row["hits"]) for row in rows],
        "locations": [_first(row, "resolved") or _first(row, "location") for row in rows],
        "of": list(range(len(rows))),
        "outcomes": [_outcome(row) for row in rows],
    }
    return zlib.compress(json.dumps(told, separators=(",", ":")).encode("ascii"), 1)


def _outcome(row: RowMapping) -> list[Any]:
    trace = {
        "url": row["url"],
        "final_url": row["final_url"],
        "final_status": row["final_status"],
        "hops": _read(row, "hops"),
        "page": _read(row, "page") or {},
    }
    status, value = _first(row, "status") or 0, float(row.get("value") or 0.0)
    verdicts = _read(row, "verdicts")
    return [status, row["final_status"], verdicts, row["expected"], value, "", trace]


def _first(row: RowMapping, name: str) -> Any:
    """What the first hop says."""
    hops = _read(row, "hops")
    return hops[0].get(name, "") if hops else ""


def _read(row: RowMapping, name: str) -> Any:
    """A list or an object, which is a JSON text in SQLite."""
    told = row.get(name)
    return json.loads(told) if isinstance(told, str) else told
