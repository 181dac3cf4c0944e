"""Access logs: Common and Combined Log Format, W3C Extended Log File Format, JSON lines."""

from __future__ import annotations

import hashlib
import re
from collections import Counter
from collections.abc import Iterable, Iterator
from pathlib import Path
from typing import Any

import numpy as np

from upright_ledger.formats import loglines
from upright_ledger.formats.loglines import COMBINED, JSON_LINES, W3C, NotALineError, Parser, without_visitor
from upright_ledger.formats.logscan import COLUMNS, Kept, ahead, connect, line_blocks, line_digest_method, scan_combined
from upright_ledger.formats.logtally import Tally
from upright_ledger.formats.reading import MAX_LINE
from upright_ledger.formats.records import Aside, Item, LogLines, Reading, ReadOptions, Reject
from upright_ledger.formats.streams import open_bytes, read_head

_COMMON_PARTS = 3
_VHOST_LINE = re.compile(r"^[A-Za-z0-9.-]+\.[A-Za-z][A-Za-z0-9-]*(?::\d+)? \S+ \S+ [^\[\"]*?\[")


def read_access_log(path: Path, options: ReadOptions) -> Reading:
    """Read the requests of a log: a record for each distinct one, with all its lines. No visitor address leaves here."""
    head = read_head(path).decode("utf-8", "replace").splitlines()
    dialect = _dialect(head)
    reading = Reading(lines=LogLines())
    if dialect == COMBINED:
        sample = [line for line in head if line.strip()][:200]
        with_hosts = sum(1 for line in sample if _VHOST_LINE.match(line)) * 2 > len(sample)
        ((parts, _),) = Counter(line.count('"') + 1 for line in sample).most_common(1) or ((7, 0),)
        reading.items = _scanned(path, options, reading, with_hosts=with_hosts, parts=max(parts, 7))
    else:
        reading.items = _parsed(path, options, reading, loglines.W3cParser() if dialect == W3C else loglines.parse_json)
    return reading


def _dialect(head: list[str]) -> str:
    if any(line.startswith("#Fields:") for line in head):
        return W3C
    return JSON_LINES if any(line.lstrip().startswith("{") for line in head[:20]) else COMBINED


def _scanned(path: Path, options: ReadOptions, reading: Reading, *, with_hosts: bool, parts: int) -> Iterator[Item]:
    """Combined lines: those that come apart at their quotes go in columns, the others one by one.

    parts: into how many pieces the lines of this log come apart.
    """
    connection = connect()
    lines = reading.lines = _lines(options, line_digest_method(connection))
    tally = Tally(lines, with_hosts=with_hosts)
    kept = Kept()
    with open_bytes(path) as file:
        blocks = kept.passing(line_blocks(file))
        for batch in ahead(scan_combined(connection, blocks, with_hosts=with_hosts, noise=options.noise)):
            found = batch["parts"].to_numpy()
            odd = (found != parts) & (found != _COMMON_PARTS)
            numbers = batch["number"].to_numpy()
            yield from tally.add({name: batch[name] for name in COLUMNS}, ~odd)
            strange = numbers[odd].tolist()
            texts = kept.texts(strange, int(numbers[-1]))
            rows = zip(strange, batch["digest"].to_numpy()[odd].tolist(), texts, strict=True)
            yield from _one_by_one(rows, loglines.parse_combined, tally, with_hosts=with_hosts)
    yield from _finish(tally, reading)


def _parsed(path: Path, options: ReadOptions, reading: Reading, parser: Parser) -> Iterator[Item]:
    """Lines of the other formats, one by one."""
    lines = reading.lines = _lines(options, "blake2b")
    tally = Tally(lines, with_hosts=True)
    with open_bytes(path) as file:
        for block in line_blocks(file):
            texts = block["line"].to_pylist()
            digests = (_digest(text) for text in texts)
            rows = zip(block["number"].to_pylist(), digests, texts, strict=True)
            yield from _one_by_one(rows, parser, tally, with_hosts=True)
    yield from _finish(tally, reading)


def _lines(options: ReadOptions, method: str) -> LogLines:
    return LogLines(method, options.known_lines(method))


def _one_by_one(
    rows: Iterable[tuple[int, int, str]], parser: Parser, tally: Tally, *, with_hosts: bool
) -> Iterator[Item]:
    """Read lines with a tolerant parser and count those that it understands."""
    import pyarrow as pa

    found: list[tuple[Any, ...]] = []
    for number, digest, text in rows:
        line = text.rstrip("\r\n")
        if len(text) > MAX_LINE:
            yield Reject(number, f"longer than {MAX_LINE:,} characters", without_visitor(line[:200]))
            continue
        try:
            parsed = parser(line)
        except NotALineError as error:
            yield Reject(number, str(error), without_visitor(line[:2000]))
            continue
        if isinstance(parsed, str):
            yield Aside(number, parsed)
            continue
        request = f"{parsed.host} {parsed.request}" if with_hosts else parsed.request
        found.append(
            (number, digest, request, parsed.status, parsed.day, parsed.agent, parsed.referrer.partition("?")[0])
        )
    if found:
        types = (pa.int64(), pa.uint64(), *([pa.string()] * 5))
        arrays = [pa.array(column, type=t) for column, t in zip(zip(*found, strict=True), types, strict=True)]
        yield from tally.add(dict(zip(COLUMNS, arrays, strict=True)), np.ones(len(found), bool))


def _finish(tally: Tally, reading: Reading) -> Iterator[Item]:
    yield from tally.items()
    reading.days = tally.period


def _digest(line: str) -> int:
    return int.from_bytes(hashlib.blake2b(line.encode("utf-8", "surrogateescape"), digest_size=8).digest(), "little")
