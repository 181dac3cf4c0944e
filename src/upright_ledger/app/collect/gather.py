"""Gathering: files of any kind become sources, entries and evidence."""

from __future__ import annotations

import time
from collections import deque
from collections.abc import Callable
from dataclasses import dataclass, field
from functools import partial
from pathlib import Path
from typing import Any

from upright_ledger.app.collect.reading.error_lists import ErrorList, failing
from upright_ledger.app.collect.reading.inputs import Input, inputs, neighbours_of
from upright_ledger.app.collect.reading.parts import parts_of, say_what_was_left
from upright_ledger.app.collect.reading.pieces_ahead import PiecesAhead
from upright_ledger.app.collect.reading.reading_options import base_origin, options_for
from upright_ledger.app.collect.reading.rejects import SHOWN_REJECTS
from upright_ledger.app.collect.reading.request_rows import as_read
from upright_ledger.app.collect.reading.sorting import Gathered
from upright_ledger.app.collect.reading.source_reader import (
    FoldedMeanwhileError,
    GatheredMeanwhileError,
    SourcePurpose,
    SourceReader,
)
from upright_ledger.errors import (
    DatabaseError,
    InputError,
    NoAddressesError,
    NoWorkersError,
    RefusedError,
)
from upright_ledger.formats.detection import FileKind, recognise_surely
from upright_ledger.formats.files.compressed import has_padding
from upright_ledger.formats.records import Reading, ReadOptions
from upright_ledger.formats.registry import check_kind
from upright_ledger.ledger.store import Ledger
from upright_ledger.ledger.tables.entries import count_entries
from upright_ledger.ledger.tables.retention import prune
from upright_ledger.web.cluster import Cluster

__all__ = [
    "SHOWN_REJECTS",
    "Gathered",
    "Gathering",
    "SourcePurpose",
    "base_origin",
    "gather",
    "options_for",
]


@dataclass
class Gathering:
    """What came of all files, and how many entries the ledger holds now. pruned: kind of detail →
    how many went, since their time is over.
    """

    sources: list[Gathered]
    entries: int
    pruned: dict[str, int] = field(default_factory=dict)


Progress = Callable[[str], None]


def gather(
    ledger: Ledger,
    paths: list[str],
    options: ReadOptions | None = None,
    *,
    period: tuple[str, str] = ("", ""),
    progress: Progress = lambda _: None,
    errors: ErrorList | None = None,
    within: Callable[[Any], None] | None = None,
    trusted: bool = False,
    on: Cluster | None = None,
) -> Gathering:
    """Gather files into a ledger, one step each: all of a source, or none of it.

    errors: tables list addresses that fail, or tell of visits to those. within: what is written in
    the transaction of a source, too. trusted: no line of a log was gathered before, so that none is
    looked up.
    What cannot be read at its head is refused before anything is posted; one that turns out damaged
    further on is left out whole, and the others are gathered (`Gathered.failed`). A single file
    that fails raises.
    """
    options = options or ReadOptions()
    check_kind(options.kind)
    policy = ledger.settings.policy
    amend = partial(failing, errors=errors, policy=policy) if errors is not None else None
    base = base_origin(ledger.settings.sites, options.host)
    asked = _asked(options, period)
    pieces = PiecesAhead(on, progress) if on is not None else None

    def new_reader() -> SourceReader:
        return SourceReader(
            ledger, options, base, period, amend, within, asked, pieces, trusted=trusted
        )

    with inputs(paths) as files:
        results = _read_all(files, options, new_reader, pieces, progress)
    pruned = {}
    if any(result.kind == FileKind.ACCESS_LOG and not result.failed for result in results):
        with ledger.writing() as connection:
            pruned = prune(connection, ledger.settings.retention)
    with ledger.reading() as connection:
        return Gathering(results, count_entries(connection), pruned)


def _asked(options: ReadOptions, period: tuple[str, str]) -> dict[str, Any]:
    """What the user said of how files are to be read."""
    asked = {
        "kind": options.kind,
        "host": options.host,
        "columns": dict(options.columns),
        "encoding": options.encoding,
        "log format": options.log_format,
        "period": list(filter(None, period)),
        "with": sorted(options.around.present),
        "without": sorted(options.around.absent),
        "root": options.around.document_root,
    }
    return {k: v for k, v in asked.items() if v}


def _read_all(
    files: list[Input],
    options: ReadOptions,
    new_reader: Callable[[], SourceReader],
    pieces: PiecesAhead | None,
    progress: Progress,
) -> list[Gathered]:
    """Read files and those that they name into the ledger, one by one."""
    kind, reader = options.kind, new_reader()
    results: list[Gathered] = []
    kinds = {file: kind or recognise_surely(file.path) for file in files if not file.within}
    notes: dict[Path, list[str]] = {}
    queue = deque(one for file in files for one in parts_of(file, kinds, options, notes))
    kinds |= {one: FileKind.SHEET for one in queue if one.sheet}
    if pieces is not None:
        pieces.expect((file, kinds.get(file) or kind) for file in queue)
    seen = set(queue)
    left: dict[str, list[str]] = {}
    while queue:
        file = queue.popleft()
        progress(file.name)
        try:
            its = kinds.get(file) or kind or recognise_surely(file.path)
            with as_read(file, its, options) as told:
                reader, (result, reading) = _read_whole(reader, new_reader, *told)
        except InputError as error:
            if isinstance(error, NoAddressesError) and file.within:
                left.setdefault(file.within, []).append(file.name)
                continue
            is_all = isinstance(error, (DatabaseError, NoWorkersError))
            if is_all or (len(files) == 1 and not results):
                raise
            results.append(Gathered(file.name, kinds.get(file, ""), failed=error))
            continue
        result.notes += notes.pop(file.path, [])
        if has_padding(file.path):
            result.notes.append("NUL bytes that fill it up, or a sign for its end, are left out")
        results.append(result)
        further = [
            f for f in neighbours_of(file, reading.neighbours, result.notes) if f not in seen
        ]
        queue += further
        seen.update(further)
    say_what_was_left(results, left)
    return results


FOLDING_SECONDS = 30.0
"""How long a change of the settings may take from the database to the file."""


def _read_whole(
    reader: SourceReader, new_reader: Callable[[], SourceReader], file: Input, kind: str
) -> tuple[SourceReader, tuple[Gathered, Reading]]:
    """Read a file into the ledger, and anew where its entries are folded otherwise by then; returns
    the reader to go on with.
    """
    until = time.monotonic() + FOLDING_SECONDS
    alone = False
    while True:
        try:
            return reader, reader.read(file, kind, alone=alone)
        except FoldedMeanwhileError:
            reader = _by_new_settings(reader.ledger, new_reader, until)
        except GatheredMeanwhileError:
            # lines that stand in both logs are to be known, so that nobody else gathers now
            alone = True


def _by_new_settings(
    ledger: Ledger, new_reader: Callable[[], SourceReader], until: float
) -> SourceReader:
    """A reader by the settings as they are now; what changes them writes the database first, and
    the file a moment later.
    """
    while True:
        ledger.read_settings()
        try:
            return new_reader()
        except RefusedError:
            if time.monotonic() > until:
                raise
            time.sleep(0.2)
