"""Access logs, of whatever format: a record for each distinct request."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from contextlib import AbstractContextManager
from datetime import UTC, datetime
from pathlib import Path
from typing import BinaryIO

from upright_ledger.core.monitoring.deploy_days import span_of
from upright_ledger.formats.files.compressed import read_head
from upright_ledger.formats.logs.counting.line_identity import LineIdentity
from upright_ledger.formats.logs.counting.request_counts import Tally
from upright_ledger.formats.logs.log_reader import LogReader, days_are_told, format_of_log
from upright_ledger.formats.logs.log_text import first_lines, open_log
from upright_ledger.formats.records import Item, LogLines, Reading, ReadOptions


def read_access_log(path: Path, options: ReadOptions) -> Reading:
    """Read the requests of a log: a record for each distinct one, with all its lines. No visitor
    address leaves here.
    """
    head = read_head(path)
    reader = LogReader(head, path.stat().st_size, options)
    reading = Reading(lines=LogLines() if reader.tells_days else None)
    reading.items = _counted(open_log(path, head, options.encoding), options, reading, reader)
    return reading


def tells_days(path: Path, options: ReadOptions) -> bool:
    """Whether a log tells days, by which its lines are known when they come again."""
    sample = first_lines(read_head(path), options.encoding)
    return days_are_told(sample, format_of_log(sample, options), options)


def _counted(
    opened: AbstractContextManager[BinaryIO],
    options: ReadOptions,
    reading: Reading,
    reader: LogReader,
) -> Iterator[Item]:
    lines = LogLines(reader.method, options.known_lines(reader.method))
    if reading.lines is not None:
        reading.lines = lines
    tally = Tally(lines, with_hosts=reader.with_hosts, noise=list(options.noise))
    with opened as file:
        for group in reader.read(file):
            for columns in group.columns:
                yield from tally.add(columns)
            yield from group.others
            tally.settle_before(group.end)
            if tally.is_full:
                yield from tally.part()
    yield from tally.items()
    reading.folded = tally.without
    tell_days(reading, tally.identity)


def tell_days(reading: Reading, identity: LineIdentity) -> None:
    """Say of a log that was read what is known of its days."""
    span = span_of(identity.days, datetime.now(UTC).strftime("%Y-%m-%d"))
    reading.days = (span.first, span.last)
    if span.strays:
        reading.notes.append(
            f"{_lines_of(span.strays)} dated {_days_in_words(span.strays)}, far from all others: "
            "the requests count, "
            "these days are not taken for days of the log"
        )
    if identity.undated:
        told = "1 line tells" if identity.undated == 1 else f"{identity.undated:,} lines tell"
        reading.notes.append(f"{told} no day; --period FROM..TO says of which days the log is")
    let_go = identity.lines.let_go
    if let_go:
        reading.notes.append(
            f"{_lines_of(let_go)} of days of which logs were read before and whose lines are not "
            "kept any more "
            f"({_days_in_words(let_go)}): left out, since nobody could tell which of them count "
            "already"
        )


def _lines_of(days: Mapping[str, float]) -> str:
    count = int(sum(days.values()))
    return f"{count:,} line is" if count == 1 else f"{count:,} lines are"


def _days_in_words(days: Mapping[str, float]) -> str:
    named = sorted(days)
    return ", ".join(named) if len(named) < 4 else f"{named[0]} to {named[-1]}"
