"""The change from traces of one row each to blocks."""

from __future__ import annotations

import json
from typing import Any

from sqlalchemy import Connection, RowMapping, inspect, text

from upright_ledger.core.tracing.results import Row, TraceTable
from upright_ledger.core.tracing.trace import Hop, Page, Trace
from upright_ledger.ledger.db import schema
from upright_ledger.ledger.tables.runs.trace_blocks import add_traces


def traces_in_blocks(connection: Connection) -> None:
    """Traces a block of rows each, where they were one row each."""
    if "rows" in {c["name"] for c in inspect(connection).get_columns("traces")}:
        return  # made by the first migration of a newer program
    connection.execute(text("ALTER TABLE traces RENAME TO traces_1"))
    if connection.dialect.name == "postgresql":
        connection.execute(text("ALTER TABLE traces_1 DROP CONSTRAINT IF EXISTS traces_by_number"))
    schema.metadata.create_all(connection)
    old = text("SELECT * FROM traces_1 WHERE run = :run ORDER BY number")
    for run in connection.scalars(text("SELECT DISTINCT run FROM traces_1 ORDER BY run")).all():
        rows = TraceTable()
        for row in connection.execute(old, {"run": run}).mappings():
            rows.append(_row_of(row))
        add_traces(connection, run, rows)
    connection.execute(text("DROP TABLE traces_1"))


def _row_of(row: RowMapping) -> Row:
    """One row of the old table, whose lists are JSON texts in SQLite."""

    def read(name: str) -> Any:
        told = row.get(name)
        return json.loads(told) if isinstance(told, str) else told

    verdicts = tuple(read("verdicts"))
    hops = tuple(Hop(**(h | {"changed": tuple(h.get("changed", ()))})) for h in read("hops"))
    page = Page(**(read("page") or {}))
    trace = Trace(
        row["url"], hops, row["final_url"], row["final_status"], page, loops="loop" in verdicts
    )
    return Row(trace, int(row["hits"]), verdicts, row["expected"], float(row.get("value") or 0.0))
