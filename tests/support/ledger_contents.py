"""All that gathering wrote into a ledger, by names rather than numbers, in an order of its own."""

from __future__ import annotations

import re
import sqlite3
from pathlib import Path
from typing import Any

import numpy as np

_QUERIES = {
    "entries": "SELECT site, key, legacy_url FROM entries",
    "spellings": (
        "SELECT s.site, s.spelling, e.key, s.variant, s.aside FROM spellings s "
        "LEFT JOIN entries e ON e.id = s.entry"
    ),
    "evidence": (
        "SELECT s.site, s.spelling, t.name, v.unit, v.status_class, v.agent, v.amount, "
        "v.first_day, v.last_day, v.days FROM evidence v JOIN spellings s ON s.id = v.spelling "
        "JOIN sources t ON t.id = v.source"
    ),
    "referrers": (
        "SELECT s.site, s.spelling, t.name, v.referrers FROM referrers v "
        "JOIN spellings s ON s.id = v.spelling JOIN sources t ON t.id = v.source"
    ),
    "sources": (
        "SELECT name, kind, period_start, period_end, lines, accepted, set_aside, rejected, "
        "new_entries, mended, aside, withdrawn FROM sources"
    ),
    "set aside": (
        "SELECT t.name, v.kind, v.text, v.lines FROM set_aside v JOIN sources t ON t.id = v.source"
    ),
    "lines of entries": (
        "SELECT url, hits, bots, value, first_seen, last_seen, statuses FROM entry_lines"
    ),
}


def contents_of(ledger: Path) -> dict[str, Any]:
    """What a ledger of this machine holds; sources by the last part of their names."""
    with sqlite3.connect(ledger / "ledger.db") as connection:
        found: dict[str, Any] = {
            name: sorted(map(_named, connection.execute(query)), key=repr)
            for name, query in _QUERIES.items()
        }
        digests = connection.execute(
            "SELECT t.name, v.day, v.method, v.digests FROM log_lines v "
            "JOIN sources t ON t.id = v.source"
        )
        found["digests"] = {
            _named((name, day, method)): sorted(np.frombuffer(data, "<u8").tolist())
            for name, day, method, data in digests
        }
    found["rejects"] = {
        path.name: sorted(path.read_text().splitlines()) for path in (ledger / "rejects").glob("*")
    }
    found["rejects"] = {
        re.sub(r"-.*_", "-", name): lines for name, lines in found["rejects"].items()
    }
    return found


def _named(row: tuple[Any, ...]) -> tuple[Any, ...]:
    """A row; addresses of sources end in the names of their files."""
    return tuple(
        cell.rpartition("/")[2] if isinstance(cell, str) and cell.startswith("s3://") else cell
        for cell in row
    )
