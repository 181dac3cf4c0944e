"""How the lines of one log are read: its format, its clock, and what takes its lines apart."""

from __future__ import annotations

import hashlib
from collections import Counter
from collections.abc import Iterable, Iterator, Sequence
from typing import Any, BinaryIO, NamedTuple

import numpy as np

from upright_ledger.core.monitoring.deploy_days import Split, label_of, splits_of
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
from upright_ledger.formats.logs.log_text import first_lines
from upright_ledger.formats.logs.visitors import visitors_named
from upright_ledger.formats.records import Aside, ReadOptions, Reject

_LARGE = 1 << 18  # bytes; smaller logs are read before what has columns is loaded
_BY_LINE = "blake2b"


class Group(NamedTuple):
    """What some lines of a log say, in their order: columns, and what came of the others. end: the
    number of the line after them.
    """

    columns: list[Columns]
    others: list[Reject | Aside]
    end: int


class LogReader:
    """Reads the lines of one log. head: its first bytes. size: of the file, in bytes.

    tells_days: whether its lines tell days, by which they are known when they come again. method:
    how they are told apart for good. with_hosts: requests begin with the host that was asked.
    by_line: each line can be read without those before it.
    """

    def __init__(self, head: bytes, size: int, options: ReadOptions) -> None:
        sample = first_lines(head, options.encoding)
        form = format_of_log(sample, options)
        parser = form.new_parser(sample, options.hosts)
        if form is APACHE_ERRORS:
            parser = ErrorParser(options.around.document_root)
        self.tells_days = days_are_told(sample, form, options)
        self.by_line = form.by_line
        ahead = form.minutes_ahead
        self._splits = splits_of(options.live, ahead(sample)) if ahead is not None else []
        self._clean = NoiseFilter(options.noise)
        self._scanner: BlockScanner | None = None
        if form.in_columns:
            self._scanner = _quoted(sample, options, self._splits)
        elif self.tells_days and size > _LARGE:
            self._scanner = _in_columns(parser, options, self._splits)
        self.with_hosts = True if self._scanner is None else self._scanner.with_hosts
        self.method = DIGEST if form.in_columns else _BY_LINE
        if not form.in_columns:
            parser = _dated(parser) if self.tells_days else _undated(parser)
        self._parser = parser

    def read(self, file: BinaryIO, threads: int = 0) -> Iterator[Group]:
        """The lines of a file, or of a part of it, numbered from 1. threads: see `BlockScanner`."""
        scanner = self._scanner
        if scanner is not None:
            for columns, end in scanner.scan(file, threads):
                odd, others = self._one_by_one(columns.odd, scanner.splits, scanner.without_noise)
                yield Group([columns, *odd], others, end)
            return
        number = 1
        for block in line_blocks(file, Buffers()):
            texts = Lines(block).texts()
            rows = ((n, _digest(text), text) for n, text in enumerate(texts, number))
            number += len(texts)
            yield Group(*self._one_by_one(rows, self._splits, self._clean), number)

    def _one_by_one(
        self, rows: Iterable[tuple[int, int, str]], splits: Sequence[Split], clean: NoiseFilter
    ) -> tuple[list[Columns], list[Reject | Aside]]:
        """Read lines with a tolerant parser: those that it understands, and the others."""
        found: list[tuple[int, int, LogLine]] = []
        others: list[Reject | Aside] = []
        for number, digest, line in rows:
            if len(line) > MAX_LINE:
                others.append(
                    Reject(
                        number, f"longer than {MAX_LINE:,} characters", without_visitor(line[:200])
                    )
                )
                continue
            try:
                parsed = self._parser(line)
            except NotALineError as error:
                others.append(Reject(number, str(error), without_visitor(line[:2000])))
                continue
            if isinstance(parsed, str):
                others.append(Aside(number, parsed))
                continue
            if splits and parsed.clock:
                hours, minutes, seconds = map(int, parsed.clock.split(":"))
                parsed = parsed._replace(
                    day=label_of(parsed.day, 3600 * hours + 60 * minutes + seconds, splits)
                )
            found.append((number, digest, parsed))
        return ([_as_columns(found, clean, with_hosts=self.with_hosts)] if found else []), others


def _quoted(sample: Sequence[str], options: ReadOptions, splits: Sequence[Split]) -> BlockScanner:
    with_hosts = learned(sample, options.hosts).layout.host == FIRST_WORD
    ((quotes, _),) = Counter(line.count('"') for line in sample).most_common(1)
    return QuotedScanner(
        with_hosts=with_hosts,
        quotes=max(quotes, COMBINED_QUOTES),
        noise=options.noise,
        splits=splits,
    )


def _in_columns(
    parser: Parser, options: ReadOptions, splits: Sequence[Split]
) -> BlockScanner | None:
    """What reads the lines of some formats as columns; None for the others."""
    if isinstance(parser, JsonParser):
        from upright_ledger.formats.logs.columns.json_scanner import JsonScanner

        return JsonScanner(parser, noise=options.noise)
    if isinstance(parser, W3cParser):
        from upright_ledger.formats.logs.columns.w3c_scanner import W3cScanner

        return W3cScanner(noise=options.noise, splits=splits)
    return None


def format_of_log(sample: Sequence[str], options: ReadOptions) -> LogFormat:
    """The format of a log, as a person names it or as its first lines tell."""
    given = options.log_format
    return given_format(given) if given else format_of(sample, options.hosts)


def days_are_told(sample: Sequence[str], form: LogFormat, options: ReadOptions) -> bool:
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


def _digest(line: str) -> int:
    return int.from_bytes(
        hashlib.blake2b(line.encode("utf-8", "surrogateescape"), digest_size=8).digest(), "little"
    )
