"""The rows of a run, kept in blocks: columns as JSON, deflated, so that a run of a million URLs is
kept in seconds and in little room.
"""

from __future__ import annotations

import json
import zlib
from collections.abc import Iterable, Iterator
from concurrent.futures import ThreadPoolExecutor
from itertools import count
from typing import Any

import msgspec

from upright_ledger.core.tracing.results import Outcome, TraceTable
from upright_ledger.core.tracing.trace import Hop, Page, Trace
from upright_ledger.core.tracing.verdicts import Verdict
from upright_ledger.ledger.db.connection import Connection

_ROWS = 20_000  # of one block
_AT_ONCE = 2  # blocks that are packed at the same time
_LEVEL = 1  # of deflating: the quickest, and columns of URLs shrink to a tenth all the same


def add_traces(connection: Connection, run: int, rows: TraceTable) -> None:
    """Store rows of a run, after those that it has."""
    starts = range(0, len(rows), _ROWS)
    with ThreadPoolExecutor(_AT_ONCE) as pool:  # deflating needs no Python
        packed = pool.map(lambda start: pack(rows[start : start + _ROWS]), starts)
        add_blocks(connection, run, packed)


def add_blocks(connection: Connection, run: int, blocks: Iterable[bytes]) -> None:
    """Store blocks of a run, after those that it has."""
    last = connection.value("SELECT MAX(number) FROM traces WHERE run = :run", run=run)
    numbers = count(0 if last is None else last + 1)
    told = ((run, number, block) for number, block in zip(numbers, blocks, strict=False))
    connection.load("traces", ("run", "number", "rows"), told)


def load_traces(connection: Connection, run: int) -> TraceTable:
    """All rows of a run, in the order in which they were kept."""
    found = TraceTable()
    for block in blocks_of(connection, run):
        found.extend(unpack(block))
    return found


def traced_urls(connection: Connection, run: int) -> set[str]:
    """The URLs that a run has asked already."""
    return {url for block in blocks_of(connection, run) for url in urls_of(block)}


def blocks_of(connection: Connection, run: int) -> Iterator[bytes]:
    """The blocks of a run, in their order."""
    query = "SELECT rows FROM traces WHERE run = :run ORDER BY number"
    return (block for (block,) in connection.run(query, run=run))


def pack(rows: TraceTable) -> bytes:
    """Rows as one block. What many of them end in is written once."""
    ids = [*map(id, rows.outcomes)]
    which = dict(zip(ids, rows.outcomes, strict=True))
    numbers = {one: n for n, one in enumerate(which)}
    columns = {
        "urls": rows.urls,
        "hits": rows.hits,
        "locations": rows.locations,
        "of": [*map(numbers.__getitem__, ids)],
    }
    # Addresses are ASCII; what servers said may be anything.
    outcomes = json.dumps([*map(_outcome, which.values())], separators=(",", ":")).encode("ascii")
    told = b'%b,"outcomes":%b}' % (msgspec.json.encode(columns)[:-1], outcomes)
    return zlib.compress(told, _LEVEL)


def unpack(block: bytes) -> TraceTable:
    """The inverse of `pack`."""
    told = json.loads(zlib.decompress(block))
    outcomes = [_read_outcome(o) for o in told["outcomes"]]
    return TraceTable(
        told["urls"], told["hits"], told["locations"], [outcomes[n] for n in told["of"]]
    )


def urls_of(block: bytes) -> list[str]:
    """The URLs of a block."""
    return list(json.loads(zlib.decompress(block))["urls"])


def _outcome(o: Outcome) -> list[Any]:
    trace = _trace(o.trace) if o.trace is not None else None
    return [o.status, o.final_status, list(o.verdicts), o.expected, o.value, o.rule, trace]


def _read_outcome(told: list[Any]) -> Outcome:
    status, final_status, verdicts, expected, value, rule, trace = told
    judged = tuple(map(Verdict, verdicts))
    whole = _read_trace(trace, loops=Verdict.LOOP in judged) if trace is not None else None
    return Outcome(status, final_status, judged, expected, value, rule, whole)


def _trace(trace: Trace) -> dict[str, Any]:
    page = trace.page
    told = (
        ("title", page.title), ("canonical", page.canonical), ("noindex", page.noindex),
        ("refresh", page.refresh),
        ("heading", page.heading), ("language", page.language), ("words", page.words),
    )  # fmt: skip
    return {
        "url": trace.url,
        "final_url": trace.final_url,
        "final_status": trace.final_status,
        "hops": [_hop(h) for h in trace.hops],
        "page": {name: value for name, value in told if value},
    }


def _hop(hop: Hop) -> dict[str, Any]:
    told = (
        ("location", hop.location), ("resolved", hop.resolved), ("changed", list(hop.changed)),
        ("seconds", round(hop.seconds, 4)),
        ("error", hop.error), ("cache", hop.cache), ("how", hop.how), ("rule", hop.rule),
    )  # fmt: skip
    return {"url": hop.url, "status": hop.status} | {name: value for name, value in told if value}


def _read_trace(told: dict[str, Any], *, loops: bool) -> Trace:
    hops = tuple(Hop(**(h | {"changed": tuple(h.get("changed", ()))})) for h in told["hops"])
    return Trace(
        told["url"],
        hops,
        told["final_url"],
        told["final_status"],
        Page(**told["page"]),
        loops=loops,
    )
