"""Access logs, of whatever format: a record for each distinct request."""

from __future__ import annotations

import hashlib
from collections import Counter
from collections.abc import Iterable, Iterator, Mapping, Sequence
from contextlib import AbstractContextManager
from datetime import UTC, datetime
from pathlib import Path
from typing import Any, BinaryIO

import numpy as np

from upright_ledger.core.monitoring.deploy_days import Split, label_of, span_of, splits_of
from upright_ledger.formats.files.compressed import read_head
from upright_ledger.formats.files.text import MAX_LINE
from upright_ledger.formats.logs.columns.block_scanner import BlockScanner, Columns, NoiseFilter
from upright_ledger.formats.logs.columns.quoted_scanner import COMBINED_QUOTES, QuotedScanner
from upright_ledger.formats.logs.forms.any_line import FIRST_WORD, learned
from upright_ledger.formats.logs.forms.apache_errors import APACHE_ERRORS, ErrorParser
from upright_ledger.formats.logs.forms.given_format import given_format
from upright_ledger.formats.logs.forms.json_lines import JsonParser
from upright_ledger.formats.logs.forms.w3c import W3cParser
from upright_ledger.formats.logs.line_blocks import DIGEST, Buffers, Lines, line_blocks
from upright_ledger.formats.logs.log_formats import format_of
from upright_ledger.formats.logs.log_line import (
    UNDATED,
    LogFormat,
    LogLine,
    NotALineError,
    Parser,
    without_visitor,
)
from upright_ledger.formats.logs.log_text import first_lines, open_log
from upright_ledger.formats.logs.request_counts import Tally
from upright_ledger.formats.logs.visitors import visitors_named
from upright_ledger.formats.records import Aside, Item, LogLines, Reading, ReadOptions, Reject


def read_access_log(path: Path, options: ReadOptions) -> Reading:
    """Read the requests of a log: a record for each distinct one, with all its lines. No visitor
    address leaves here.
    """
    head = read_head(path)
    sample = first_lines(head, options.encoding)
    form = _format_of(sample, options)
    parser = form.new_parser(sample, options.hosts)
    if form is APACHE_ERRORS:
        parser = ErrorParser(options.around.document_root)
    dated = _tells_days(sample, form, options)
    reading = Reading(lines=LogLines() if dated else None)
    ahead = form.minutes_ahead
    splits = splits_of(options.live, ahead(sample)) if ahead is not None else []
    if form.in_columns:
        with_hosts = learned(sample, options.hosts).layout.host == FIRST_WORD
        ((quotes, _),) = Counter(line.count('"') for line in sample).most_common(1)
        quotes = max(quotes, COMBINED_QUOTES)
        scanner = QuotedScanner(
            with_hosts=with_hosts, quotes=quotes, noise=options.noise, splits=splits
        )
        reading.items = _scanned(
            open_log(path, head, options.encoding), options, reading, scanner, parser, DIGEST
        )
    elif dated and (columns := _in_columns(parser, path, options, splits)) is not None:
        reading.items = _scanned(
            open_log(path, head, options.encoding),
            options,
            reading,
            columns,
            _dated(parser),
            _BY_LINE,
        )
    else:
        parser = _dated(parser) if dated else _undated(parser)
        reading.items = _parsed(
            open_log(path, head, options.encoding), options, reading, splits, parser
        )
    return reading


def _in_columns(
    parser: Parser, path: Path, options: ReadOptions, splits: Sequence[Split]
) -> BlockScanner | None:
    """What reads the lines of some formats as columns; None where a log is small, or of another
    format.
    """
    if path.stat().st_size <= _LARGE:
        return None
    if isinstance(parser, JsonParser):
        from upright_ledger.formats.logs.columns.json_scanner import JsonScanner

        return JsonScanner(parser, noise=options.noise)
    if isinstance(parser, W3cParser):
        from upright_ledger.formats.logs.columns.w3c_scanner import W3cScanner

        return W3cScanner(noise=options.noise, splits=splits)
    return None


_LARGE = 1 << 18  # bytes; smaller ones are read before what has columns is loaded
_BY_LINE = "blake2b"


def tells_days(path: Path, options: ReadOptions) -> bool:
    """Whether a log tells days, by which its lines are known when they come again."""
    sample = first_lines(read_head(path), options.encoding)
    return _tells_days(sample, _format_of(sample, options), options)


def _format_of(sample: Sequence[str], options: ReadOptions) -> LogFormat:
    given = options.log_format
    return given_format(given) if given else format_of(sample, options.hosts)


def _tells_days(sample: Sequence[str], form: LogFormat, options: ReadOptions) -> bool:
    """Whether one of the first lines of a log tells its day, or none of them is understood."""
    if form.in_columns:
        return True
    parser, told = form.new_parser(sample, options.hosts), []
    for line in sample:
        try:
            found = parser(line)
        except NotALineError:
            continue
        if isinstance(found, LogLine):
            told.append(bool(found.day))
    return any(told) or not told


def _dated(parser: Parser) -> Parser:
    """A reader of lines, each of which must tell its day."""

    def read(line: str) -> LogLine | str:
        found = parser(line)
        if isinstance(found, LogLine) and not found.day:
            raise NotALineError("it tells no day")
        return found

    return read


def _undated(parser: Parser) -> Parser:
    """A reader of the lines of a log that tells no days."""

    def read(line: str) -> LogLine | str:
        found = parser(line)
        return found if isinstance(found, str) else found._replace(day=found.day or UNDATED)

    return read


def _scanned(
    opened: AbstractContextManager[BinaryIO],
    options: ReadOptions,
    reading: Reading,
    scanner: BlockScanner,
    parser: Parser,
    method: str,
) -> Iterator[Item]:
    """Lines in columns: those that the scanner takes apart go in columns, the others one by one.
    method: how lines are told apart for good.
    """
    with_hosts, clean = scanner.with_hosts, scanner.without_noise
    lines = reading.lines = _lines(options, method)
    tally = Tally(lines, with_hosts=with_hosts, noise=list(options.noise))
    with opened as file:
        for columns in scanner.scan(file):
            yield from tally.add(columns)
            yield from _one_by_one(
                columns.odd, parser, tally, scanner.splits, clean, with_hosts=with_hosts
            )
            if tally.is_full:
                yield from tally.part()
    yield from _finish(tally, reading)


def _parsed(
    opened: AbstractContextManager[BinaryIO],
    options: ReadOptions,
    reading: Reading,
    splits: Sequence[Split],
    parser: Parser,
) -> Iterator[Item]:
    """Lines of the other formats, one by one."""
    lines = _lines(options, _BY_LINE)
    if reading.lines is not None:
        reading.lines = lines
    tally = Tally(lines, with_hosts=True, noise=list(options.noise))
    clean = NoiseFilter(options.noise)
    with opened as file:
        number = 1
        for block in line_blocks(file, Buffers()):
            texts = Lines(block).texts()
            rows = ((n, _digest(text), text) for n, text in enumerate(texts, number))
            yield from _one_by_one(rows, parser, tally, splits, clean, with_hosts=True)
            number += len(texts)
            if tally.is_full:
                yield from tally.part()
    yield from _finish(tally, reading)


def _lines(options: ReadOptions, method: str) -> LogLines:
    return LogLines(method, options.known_lines(method))


def _one_by_one(
    rows: Iterable[tuple[int, int, str]],
    parser: Parser,
    tally: Tally,
    splits: Sequence[Split],
    clean: NoiseFilter,
    *,
    with_hosts: bool,
) -> Iterator[Item]:
    """Read lines with a tolerant parser and count those that it understands."""
    found: list[tuple[int, int, LogLine]] = []
    for number, digest, line in rows:
        if len(line) > MAX_LINE:
            yield Reject(
                number, f"longer than {MAX_LINE:,} characters", without_visitor(line[:200])
            )
            continue
        try:
            parsed = parser(line)
        except NotALineError as error:
            yield Reject(number, str(error), without_visitor(line[:2000]))
            continue
        if isinstance(parsed, str):
            yield Aside(number, parsed)
        else:
            if splits and parsed.clock:
                hours, minutes, seconds = map(int, parsed.clock.split(":"))
                parsed = parsed._replace(
                    day=label_of(parsed.day, 3600 * hours + 60 * minutes + seconds, splits)
                )
            found.append((number, digest, parsed))
    if found:
        columns = _as_columns(found, clean, with_hosts=with_hosts)
        yield from tally.add(columns)


def _as_columns(
    found: list[tuple[int, int, LogLine]], clean: NoiseFilter, *, with_hosts: bool
) -> Columns:
    import pyarrow as pa

    def texts(values: Iterable[str | None]) -> Any:
        return pa.array(values, pa.string()).dictionary_encode()

    lines = [line for _, _, line in found]
    requests = texts(
        [f"{line.host} {line.request}" if with_hosts else line.request for line in lines]
    )
    return Columns(
        np.array([number for number, _, _ in found]),
        np.array([digest for _, digest, _ in found], np.uint64),
        clean(requests),
        np.array([int(line.status) for line in lines]),
        texts([line.day for line in lines]),
        texts([line.agent for line in lines]),
        texts([line.referrer for line in lines]),
        clean.campaigns(requests),
        visitors_named(line.client for line in lines),
    )


def _finish(tally: Tally, reading: Reading) -> Iterator[Item]:
    yield from tally.items()
    span = span_of(tally.days, datetime.now(UTC).strftime("%Y-%m-%d"))
    reading.days = (span.first, span.last)
    reading.folded = tally.without
    if span.strays:
        reading.notes.append(
            f"{_lines_of(span.strays)} dated {_days_in_words(span.strays)}, far from all others: "
            "the requests count, "
            "these days are not taken for days of the log"
        )
    if tally.undated:
        told = "1 line tells" if tally.undated == 1 else f"{tally.undated:,} lines tell"
        reading.notes.append(f"{told} no day; --period FROM..TO says of which days the log is")
    let_go = tally.lines.let_go
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


def _digest(line: str) -> int:
    return int.from_bytes(
        hashlib.blake2b(line.encode("utf-8", "surrogateescape"), digest_size=8).digest(), "little"
    )
