"""Scanning logs: lines in blocks, split in DuckDB as one column of text, many thousands at a time."""

from __future__ import annotations

import tempfile
import threading
from collections import deque
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, field
from queue import Full, Queue
from typing import Any, BinaryIO, TypeVar

import numpy as np
import numpy.typing as npt

from upright_ledger.formats.reading import MAX_LINE

BLOCK = 4 << 20
BATCH = 200_000
_LINE_BREAK, _LAST_ASCII = 10, 127
MEMORY = "256MB"
COLUMNS = ("number", "digest", "request", "status", "day", "agent", "referrer")

# Lines of the Combined Log Format come apart at their quotes: client and time, request, status and size,
# referrer, agent. `parts` says whether one did; the texts around the status and the day are checked later, once for each that
# is different.
_SPLIT = """
SELECT number, hash(line) AS digest, len(p)::USMALLINT AS parts, {host}{request} AS request,
  left(p[3], 5) AS status, left(right(p[1], 28), 12) AS day, p[6] AS agent,
  CASE WHEN contains(p[4], '?') THEN split_part(p[4], '?', 1) ELSE p[4] END AS referrer
FROM (SELECT number, line, string_split(line, '"') AS p FROM blocks)
"""
_REQUEST = (
    "CASE WHEN contains(p[2], '?') THEN regexp_replace(p[2], '([?&](?i:{names}))=[^& ]*', '\\1=', 'g') ELSE p[2] END"
)


def line_digest_method(connection: Any) -> str:
    """The name of the digest that `scan_combined` gives to lines: it may change with the library, and then nothing
    of before can be compared."""
    ((probe,),) = connection.execute("SELECT hash('Upright Ledger')").fetchall()
    return f"duckdb-{probe:016x}"


def connect() -> Any:
    """A DuckDB database in memory that spills to a temporary folder."""
    import duckdb

    return duckdb.connect(config={"memory_limit": MEMORY, "temp_directory": tempfile.gettempdir()})


def scan_combined(connection: Any, blocks: Iterator[Any], *, with_hosts: bool, noise: Sequence[str]) -> Iterator[Any]:
    """The lines of a log (blocks as `line_blocks` gives them) as Arrow tables with COLUMNS and `parts`, in their order.

    with_hosts: the first word of a line is a host, and stands before its request. noise: names (regular expressions)
    of parameters whose values tell nothing of the page; the values are left out of `request`. parts: 3 for
    the Common, 7 for the Combined Log Format, more where something is quoted besides.
    """
    import pyarrow as pa

    schema = pa.schema([("line", pa.string()), ("number", pa.int64())])
    request = _REQUEST.replace("{names}", "|".join(noise)) if noise else "p[2]"
    host = "split_part(p[1], ' ', 1) || ' ' || " if with_hosts else ""
    connection.register("blocks", pa.RecordBatchReader.from_batches(schema, blocks))
    waiting: list[Any] = []
    rows = 0
    for batch in connection.sql(_SPLIT.replace("{host}", host).replace("{request}", request)).to_arrow_reader(BATCH):
        waiting.append(batch)
        rows += batch.num_rows
        if rows >= BATCH:
            yield pa.Table.from_batches(waiting)
            waiting, rows = [], 0
    if waiting:
        yield pa.Table.from_batches(waiting)


@dataclass
class Kept:
    """The last blocks that went by, so that a line can be looked at again by its number."""

    blocks: deque[Any] = field(default_factory=deque)

    def passing(self, blocks: Iterable[Any]) -> Iterator[Any]:
        """The same blocks, kept until `texts` was asked for lines beyond them."""
        for block in blocks:
            self.blocks.append(block)
            yield block

    def texts(self, numbers: Sequence[int], done: int) -> list[str]:
        """The lines of these numbers, in order; nothing up to `done` will be asked for again."""
        found = []
        blocks = iter(list(self.blocks))
        block = None
        for number in numbers:
            while block is None or number > _last_number(block):
                block = next(blocks)
            found.append(block["line"][number - block["number"][0].as_py()].as_py())
        while self.blocks and _last_number(self.blocks[0]) <= done:
            self.blocks.popleft()
        return found


def _last_number(block: Any) -> int:
    return int(block["number"][0].as_py()) + int(block.num_rows) - 1


def line_blocks(file: BinaryIO) -> Iterator[Any]:
    """The lines of a file as record batches (line, number); each line ends with its break.

    Bytes that are no UTF-8 are spelled out as \\xHH, as servers do. A line longer than MAX_LINE is cut to a few bytes more.
    """
    number, carry = 1, np.empty(0, np.uint8)
    while True:
        # A fresh buffer each time: Arrow and DuckDB go on reading the last one, without a copy.
        data = np.empty(BLOCK + len(carry), np.uint8)
        data[: len(carry)] = carry
        count = file.readinto(data[len(carry) :])  # type: ignore[attr-defined]
        if not count:
            break
        data = data[: len(carry) + count]
        ends = np.flatnonzero(data == _LINE_BREAK)
        cut = int(ends[-1]) + 1 if len(ends) else 0
        carry = data[cut : cut + len(data)][: MAX_LINE + 1]
        if cut:
            batch = _batch(data[:cut], ends, number)
            number += len(ends)
            yield batch
    if len(carry):
        last = np.append(carry, np.uint8(_LINE_BREAK))
        yield _batch(last, np.array([len(last) - 1]), number)


def _batch(data: npt.NDArray[np.uint8], ends: npt.NDArray[np.int64], number: int) -> Any:
    import pyarrow as pa

    if data.max() > _LAST_ASCII:
        text = data.tobytes().decode("utf-8", "surrogateescape").encode("utf-8", "backslashreplace")
        data = np.frombuffer(text.replace(b"\\udc", b"\\x"), np.uint8)
        ends = np.flatnonzero(data == _LINE_BREAK)
    starts = np.zeros(len(ends) + 1, np.int32)
    starts[1:] = ends + 1
    lines = pa.StringArray.from_buffers(len(ends), pa.py_buffer(starts), pa.py_buffer(data))
    numbers = pa.array(np.arange(number, number + len(ends), dtype=np.int64))
    return pa.record_batch([lines, numbers], names=["line", "number"])


T = TypeVar("T")


def ahead(items: Iterator[T], depth: int = 3) -> Iterator[T]:
    """The same items, fetched by another thread a few steps ahead."""
    queue: Queue[T | BaseException | None] = Queue(depth)
    stopped = threading.Event()

    def put(item: T | BaseException | None) -> None:
        while not stopped.is_set():
            try:
                queue.put(item, timeout=0.1)
            except Full:
                continue
            return

    def fetch() -> None:
        try:
            for item in items:
                put(item)
                if stopped.is_set():
                    return
            put(None)
        except BaseException as error:  # noqa: BLE001 (handed on to the reader, whatever it is)
            put(error)

    thread = threading.Thread(target=fetch, daemon=True)
    thread.start()
    try:
        while (item := queue.get()) is not None:
            if isinstance(item, BaseException):
                raise item
            yield item
    finally:
        stopped.set()
        thread.join()
