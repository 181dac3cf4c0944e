"""A log whose pieces others read: what is asked of them, in which order, and what it amounts to.

What comes back are days and digests of lines, and columns of counts. All is the same as if one had
read the log from its first line to its last.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any, Protocol

import numpy as np

from upright_ledger.formats.files.compressed import has_padding, read_head
from upright_ledger.formats.files.spans import is_packed, spans_of
from upright_ledger.formats.files.text import guess_encoding
from upright_ledger.formats.logs.access_log import tell_days
from upright_ledger.formats.logs.counting.line_identity import LineIdentity
from upright_ledger.formats.logs.counting.request_counts import known_before
from upright_ledger.formats.logs.counting.request_records import items_of
from upright_ledger.formats.logs.counting.request_sums import Summary, merged
from upright_ledger.formats.logs.log_reader import LogReader
from upright_ledger.formats.logs.log_text import is_document
from upright_ledger.formats.logs.pieces import piece as pieces
from upright_ledger.formats.logs.visitors import Visitors, guilty, suspects_of
from upright_ledger.formats.records import Aside, Item, LogLines, Reading, ReadOptions, Reject

Progress = Callable[[int, int], None]
_TOGETHER = 8  # summaries that one puts together


class Workers(Protocol):
    """Those who read pieces."""

    def begin(self, work: Callable[..., Any], *arguments: Any) -> Any:
        """Have something done; returns what stands for its result, also as an argument of other
        work.
        """

    def results(self, tasks: Sequence[Any]) -> Iterator[Any]:
        """The results, in the order of the tasks. Raises what the work raised."""


def sources_of(path: Path, options: ReadOptions, most: int) -> list[pieces.PieceSource]:
    """The pieces of a log, of so many bytes at most where it can be cut. Raises InputError."""
    # Which lines count already nobody tells those who read them.
    options = replace(options, known_lines=ReadOptions().known_lines)
    head, size = read_head(path), path.stat().st_size
    text = head.decode("utf-8", "replace").lstrip("\ufeff")
    whole = (
        size <= most
        or is_packed(path)
        or has_padding(path)
        or options.encoding
        or guess_encoding(head)
        or is_document(text)
        or not LogReader(head, size, options).by_line
    )
    spans = [None] if whole else spans_of(size, most)
    return [pieces.PieceSource(path, size, span, options) for span in spans]


def begin_reading(sources: Sequence[pieces.PieceSource], workers: Workers) -> list[Any]:
    """Have pieces read: a task each."""
    return [workers.begin(pieces.read_piece, source) for source in sources]


def read_pieces(
    sources: Sequence[pieces.PieceSource],
    tasks: Sequence[Any],
    options: ReadOptions,
    workers: Workers,
    progress: Progress = lambda _done, _all: None,
) -> Reading:
    """What a log says whose pieces are being read. options.known_lines is asked when they were.
    progress: told how many of how many were.
    """
    first = sources[0]
    reader = LogReader(read_head(first.path), first.size, options)
    reading = Reading(lines=LogLines() if reader.tells_days else None)
    reading.items = _items(reader, tasks, options, workers, reading, progress)
    return reading


def _items(
    reader: LogReader,
    tasks: Sequence[Any],
    options: ReadOptions,
    workers: Workers,
    reading: Reading,
    progress: Progress,
) -> Iterator[Item]:
    numbers, number = list[int](), 1
    told = [workers.begin(pieces.others_of, task) for task in tasks]
    for others in workers.results(told):
        numbers.append(number)
        progress(len(numbers), len(tasks))
        yield from _others(others.numbered_from(number))
        number += others.lines
    lines = LogLines(reader.method, options.known_lines(reader.method))
    if reading.lines is not None:
        reading.lines = lines
    identity = LineIdentity(lines)
    tasks = _fresh(tasks, numbers, identity, workers)
    identity.close()
    yield from known_before(lines)
    judged = _scanners(tasks, workers)
    sums = [
        workers.begin(pieces.summary_in, task, judged, number)
        for task, number in zip(tasks, numbers, strict=True)
    ]
    while len(sums) > _TOGETHER:
        sums = [
            workers.begin(merged, sums[n : n + _TOGETHER]) for n in range(0, len(sums), _TOGETHER)
        ]
    summary: Summary = merged(list(workers.results(sums)))
    yield from items_of(summary)
    reading.folded = summary.without
    tell_days(reading, identity)


def _others(found: pieces.Others) -> Iterator[Item]:
    yield from found.rejects
    for reason, lines in found.more.items():
        for _ in range(lines):
            yield Reject(0, reason, "")
    for kind, lines in found.aside.items():
        yield Aside(0, kind, lines=lines)


def _fresh(
    tasks: Sequence[Any], numbers: Sequence[int], identity: LineIdentity, workers: Workers
) -> list[Any]:
    """The pieces without the lines that count already."""
    found = []
    days = workers.results([workers.begin(pieces.days_of, task) for task in tasks])
    for task, number, (names, codes, digests) in zip(tasks, numbers, days, strict=True):
        fresh = identity.fresh(names, codes.astype(np.int64), digests)
        bits = None if fresh.all() else np.packbits(fresh)
        found.append(workers.begin(pieces.only_fresh, task, bits, number))
    return found


def _scanners(tasks: Sequence[Any], workers: Workers) -> Visitors:
    """Who is a scanner, by what each did in all pieces."""
    probing = workers.results([workers.begin(pieces.probing_in, task) for task in tasks])
    suspects = suspects_of(list(probing))
    if not len(suspects):
        return suspects
    conduct = workers.results([workers.begin(pieces.conduct_in, t, suspects) for t in tasks])
    return guilty(suspects, list(conduct))
