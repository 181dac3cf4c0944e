"""Looking through a ledger's own file for what can no longer be what was stored, when a command
stumbled over something.

Nobody pays for this while all is well. What a damaged value that still looks like one says is not
noticed: SQLite keeps no sums of its pages.
"""

from __future__ import annotations

import json
import sqlite3
import zlib
from collections.abc import Callable, Iterator, Mapping
from contextlib import closing
from datetime import datetime
from typing import Any

from sqlalchemy import JSON, Float, Integer, LargeBinary

from upright_ledger.core.inventory.answer import ANSWERS
from upright_ledger.core.inventory.evidence import Asker
from upright_ledger.core.inventory.normalisation import FoldingPolicy
from upright_ledger.core.inventory.packed import unpack_days
from upright_ledger.core.rules.imported.rule import ImportedRule
from upright_ledger.core.url.address import parse_address
from upright_ledger.core.url.origins import Sites
from upright_ledger.core.url.query import QueryPolicy
from upright_ledger.errors import DatabaseError
from upright_ledger.ledger.db import derived
from upright_ledger.ledger.store import Ledger

Check = Callable[[Any], object]
"""Raises an error for a value that cannot be."""


def first_damage(ledger: Ledger) -> str:
    """The first place of a ledger's own file that is damaged, in words; empty where none is seen,
    and for databases that look after themselves.
    """
    if ledger.settings.database:
        return ""
    try:
        with closing(ledger.database.open()) as connection:
            connection.driver.text_factory = bytes
            return _first(connection.driver, ledger.settings.sites)
    except DatabaseError as error:
        return error.message
    except sqlite3.DatabaseError as error:
        return str(error)


def _first(database: Any, sites: Sites) -> str:
    told = [
        text.decode("utf-8", "replace") for (text,) in database.execute("PRAGMA integrity_check(1)")
    ]
    if told != ["ok"]:
        return "; ".join(told[0].splitlines())
    rows = database.execute("PRAGMA foreign_key_check").fetchone()
    if rows is not None:
        return f"row {rows[1]} of {rows[0].decode()} belongs to nothing"
    return next(_damages(database, sites), "")


def _damages(database: Any, sites: Sites) -> Iterator[str]:
    meanings = _meanings(sites)
    for table in derived.metadata.tables.values():
        names = ", ".join(f'"{c.name}"' for c in table.columns)
        # names of our own
        rows = database.execute(f"SELECT rowid, {names} FROM {table.name}")
        for number, *values in rows:
            for column, stored in zip(table.columns, values, strict=True):
                try:
                    value = _read(column, stored)
                    if (
                        (check := meanings.get((table.name, column.name)))
                        and value is not None
                        and value != ""
                    ):
                        check(value)
                except (ValueError, LookupError, TypeError, AttributeError, zlib.error) as error:
                    yield (
                        f"row {number} of {table.name}, {column.name}: "
                        f"{str(error) or type(error).__name__}"
                    )


def _read(column: Any, stored: Any) -> Any:
    """A value as a column of its type holds it. Raises ValueError for one that it cannot hold."""
    if stored is None:
        if not column.nullable:
            raise ValueError("it is missing")
        return None
    kind = column.type
    if isinstance(kind, LargeBinary):
        return stored
    if isinstance(kind, Integer | Float) or kind.python_type is bool:
        if not isinstance(stored, int | float):
            raise ValueError("it is no number")
        return stored
    text = stored.decode() if isinstance(stored, bytes) else stored
    if not isinstance(text, str):
        raise ValueError("it is no text")  # noqa: TRY004
    return _Json(json.loads(text)) if isinstance(kind, JSON) else text


class _Json:
    """What a column of JSON holds."""

    def __init__(self, value: Any) -> None:
        self.value = value


def _one_of(*known: Any) -> Check:
    def check(value: Any) -> None:
        if value not in known:
            raise ValueError(f"{value!r} is none of those that there are")

    return check


def _meanings(sites: Sites) -> Mapping[tuple[str, str], Check]:
    site = _one_of(*(s.name for s in sites.old))
    query = _one_of(QueryPolicy.CARRY, QueryPolicy.CARRY_TRACKING, QueryPolicy.DROP)
    return {
        ("policies", "settings"): lambda told: FoldingPolicy.from_dict(
            {"version": 1, **told.value}
        ),
        ("steps", "time"): datetime.fromisoformat,
        ("changes", "table_name"): _one_of(*derived.metadata.tables),
        ("changes", "row_key"): json.loads,
        ("entries", "site"): site,
        ("entries", "legacy_url"): parse_address,
        ("spellings", "site"): site,
        ("templates", "site"): site,
        ("templates", "query"): query,
        ("destinations", "url"): parse_address,
        ("answers", "kind"): _one_of(*ANSWERS),
        ("answers", "status"): _one_of(0, *range(100, 600)),
        ("answers", "destination"): parse_address,
        ("answers", "query"): query,
        ("answers", "old"): parse_address,
        ("claims", "destination"): parse_address,
        ("claims", "old"): parse_address,
        ("evidence", "agent"): _one_of(*Asker),
        ("evidence", "days"): unpack_days,
        ("imported", "rule"): lambda told: ImportedRule.from_dict(told.value),
        ("traces", "rows"): zlib.decompress,
    }
