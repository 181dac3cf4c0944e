"""What surveys saw, in blocks beside the rows of other runs: a link that many pages hold is written
once.
"""

from __future__ import annotations

import json
import zlib
from collections.abc import Iterator, Sequence
from typing import Any

from upright_ledger.core.contents.sketches import Sketch
from upright_ledger.core.crawl.observation import Facts, Link, Observation
from upright_ledger.ledger.db.connection import Connection, batches
from upright_ledger.ledger.tables.runs.trace_blocks import add_blocks, blocks_of

_ROWS = 2_000  # of one block
_LEVEL = 1  # of deflating
_SKETCH = Facts._fields.index("sketch")


def add_seen(connection: Connection, run: int, seen: Sequence[Observation]) -> None:
    """Store what a survey saw, after what it saw before."""
    add_blocks(connection, run, (pack(some) for some in batches(seen, _ROWS)))


def load_seen(connection: Connection, run: int) -> Iterator[Observation]:
    """All that a survey saw, in the order in which it came."""
    for block in blocks_of(connection, run):
        yield from unpack(block)


def load_sketches(connection: Connection, run: int) -> Iterator[tuple[str, Sketch]]:
    """All addresses that a survey asked for, with the sketches of their texts; empty where there is
    no text that can be told from others. Surveys of old versions kept none, and give nothing.
    """
    for block in blocks_of(connection, run):
        yield from sketches(block)


def sketches(block: bytes) -> Iterator[tuple[str, Sketch]]:
    """As `load_sketches`, of one block."""
    for url, *_, facts, _ in json.loads(zlib.decompress(block))["rows"]:
        if len(facts) > _SKETCH:
            yield url, facts[_SKETCH]


def pack(seen: Sequence[Observation]) -> bytes:
    """Addresses with their facts as one block."""
    numbers: dict[Link, int] = {}
    rows = [_row(s, numbers) for s in seen]
    told = {"rows": rows, "links": [list(link) for link in numbers]}
    return zlib.compress(json.dumps(told, separators=(",", ":")).encode("ascii"), _LEVEL)


def unpack(block: bytes) -> Iterator[Observation]:
    """The inverse of `pack`."""
    told = json.loads(zlib.decompress(block))
    links = [Link(*link) for link in told["links"]]
    for *plain, facts, of_page in told["rows"]:
        yield Observation(*plain)._replace(
            facts=Facts(*facts)._replace(links=tuple(links[n] for n in of_page))
        )


def _row(seen: Observation, numbers: dict[Link, int]) -> list[Any]:
    of_page = [numbers.setdefault(link, len(numbers)) for link in seen.facts.links]
    return [*seen[:-1], list(seen.facts[:-1]), of_page]
