"""Reading one source into the ledger: all of it in one step, or nothing."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping
from contextlib import ExitStack, suppress
from dataclasses import replace
from itertools import chain
from pathlib import Path
from typing import Any

from upright_ledger.app.collect.reading.inputs import Input
from upright_ledger.app.collect.reading.pieces_ahead import PiecesAhead
from upright_ledger.app.collect.reading.reading_options import options_for
from upright_ledger.app.collect.reading.rejects import drop_orphans
from upright_ledger.app.collect.reading.rules_of_sites import rules_for
from upright_ledger.app.collect.reading.sorting import Gathered, Sorter
from upright_ledger.core.inventory import noise
from upright_ledger.core.inventory.placing.classification import Classifier
from upright_ledger.core.word import Word
from upright_ledger.errors import NoAddressesError
from upright_ledger.formats.detection import FileKind
from upright_ledger.formats.files.text import digest_of
from upright_ledger.formats.records import Item, Reading, ReadOptions, one_by_one
from upright_ledger.formats.registry import read_urls
from upright_ledger.formats.tables.rows.workbook_rows import fullest_sheet
from upright_ledger.ledger.db.policies import stored_policy
from upright_ledger.ledger.store import Ledger
from upright_ledger.ledger.tables.imported_rules import add_imported
from upright_ledger.ledger.tables.observations import Portion, SightingWriter
from upright_ledger.ledger.tables.reclassify import doubt_again, know_stock, reclassify
from upright_ledger.ledger.tables.runs.builds import live_builds
from upright_ledger.ledger.tables.sources import (
    SourceFacts,
    add_log_lines,
    add_set_aside,
    add_source,
    all_sources,
    close_source,
    find_source,
    known_log_lines,
    newest_source,
    withdraw_source,
)


class SourcePurpose(Word):
    """Purposes of sources: they name old URLs, or addresses that fail."""

    GATHER = "gather"
    ERRORS = "errors"


class FoldedMeanwhileError(Exception):
    """All entries were folded anew while a file was read."""


class GatheredMeanwhileError(Exception):
    """Somebody else gathered while a log was read, whose lines may be the same."""


class SourceReader:
    """Reads one file after the other into the ledger."""

    def __init__(
        self,
        ledger: Ledger,
        options: ReadOptions,
        base: str,
        period: tuple[str, str],
        amend: Callable[[Iterable[Item]], Iterator[Item]] | None,
        within: Callable[[Any], None] | None,
        asked: Mapping[str, Any],
        pieces: PiecesAhead | None = None,
        *,
        trusted: bool,
    ) -> None:
        """amend: what is done to the items before they are placed. within, trusted: see `gather`.
        pieces: has workers read files, if there are any.
        asked: what the user said of how files are to be read.
        """
        self._asked = asked
        self.ledger = ledger
        ledger.look_anew()
        self._policy = ledger.stored_policy()[0]
        with ledger.reading() as connection:
            ledger.refuse_other_policy(connection)
        self._placer = Classifier(ledger.settings.sites, ledger.settings.policy, base)
        with ledger.reading() as connection:
            know_stock(connection, self._placer)
            live = tuple(b.live_from for b in live_builds(connection))
        self._options = replace(
            options_for(options, ledger.settings.sites, ledger.settings.policy), live=live
        )
        self._period = period
        self._purpose = SourcePurpose.ERRORS if amend is not None else SourcePurpose.GATHER
        self._pieces = pieces
        self._amend, self._within, self._trusted = amend, within, trusted
        self._cleared = False

    def read(self, file: Input, kind: str, *, alone: bool = False) -> tuple[Gathered, Reading]:
        """Read a file and post what it says as one step; alone: nobody else writes while it is
        read. Raises InputError, having posted nothing of it.
        """
        if kind == FileKind.ACCESS_LOG and _tells_days(file.path, self._options):
            return self._post(file, kind, "", alone=alone)
        digest, size = digest_of(file.path)
        if file.sheet and file.sheet != fullest_sheet(file.path):
            digest = f"{digest}#{file.sheet}"
        with self.ledger.reading() as connection:
            known = find_source(connection, digest, self._purpose)
        if known is not None and (not self._asked or dict(known.asked or {}) == dict(self._asked)):
            return Gathered(file.name, known.kind, known=True), Reading()
        return self._post(
            file, kind, digest, size, known.id if known is not None else 0, alone=alone
        )

    def _post(
        self,
        file: Input,
        kind: str,
        digest: str,
        size: int = 0,
        anew: int = 0,
        *,
        alone: bool = False,
    ) -> tuple[Gathered, Reading]:
        """anew: the source of an earlier reading of the same file, in whose place this one comes,
        or 0.
        """
        options = (
            self._options
            if self._trusted
            else replace(self._options, known_lines=self._known_lines)
        )
        sorter = Sorter(self._placer, Gathered(file.name, kind), self.ledger.folder)
        result, reading = sorter.result, Reading()
        with suppress(_AllKnownError), sorter.rejects, ExitStack() as held:
            if alone:
                step = held.enter_context(self.ledger.step("gather", file.name))
            self.ledger.look_anew()
            with self.ledger.reading() as connection:
                newest = newest_source(connection)
            reading = self._reading(file, kind, replace(options, sheet=file.sheet))
            portions = sorter.portions(
                self._amend(one_by_one(reading.items)) if self._amend else reading.items
            )
            # A log is read whole before its step begins, so that others need not wait.
            first = next(portions, Portion())
            if not alone:
                step = held.enter_context(self.ledger.step("gather", file.name))
            if stored_policy(step.connection)[0] != self._policy:
                raise FoldedMeanwhileError
            known = find_source(step.connection, digest, self._purpose) if digest else None
            if (known.id if known is not None else 0) != anew:
                return Gathered(file.name, kind, known=True), reading  # somebody else was quicker
            if not digest and not alone and newest_source(step.connection) != newest:
                raise GatheredMeanwhileError
            if anew:
                withdraw_source(step, anew)
                result.anew = True
            source = add_source(step, self._facts(file, sorter, reading, digest, size))
            number = self.ledger.policy_for(step)
            writer = SightingWriter(step, source, number)
            for portion in chain([first], portions):
                writer.add(portion)
            doubt_again(step, writer.entered, self._placer)
            sorter.settle(writer.settle())
            if anew:
                reclassify(step, anew, self._placer)
            result.new_entries = writer.new_entries
            sorter.finish(reading)
            if self._says_nothing(result):
                raise _no_url(file.path, result)
            if reading.lines is not None and self._all_known(result):
                result.known = True
                raise _AllKnownError
            facts = self._facts(file, sorter, reading, digest, size)
            close_source(step.connection, source, facts, result.new_entries)
            add_set_aside(step.connection, source, sorter.aside_texts)
            rules = rules_for(self.ledger, self._options.host, file.path, reading.rules)
            add_imported(step.connection, source, rules)
            if reading.lines is not None:
                add_log_lines(step.connection, source, reading.lines.method, reading.lines.found)
            step.summary = (
                f"{result.accepted:,} of {result.lines:,} lines, {result.new_entries:,} new entries"
            )
            if self._within is not None:
                self._within(step.connection)
            if not self._cleared:  # once a command: others look after what they leave
                drop_orphans(self.ledger.folder, all_sources(step.connection))
                self._cleared = True
            # Before the step is complete: an orphaned rejects file does no harm, a missing one
            # would.
            result.rejects_file = sorter.rejects.keep(source, file.name)
        self._policy = self.ledger.stored_policy()[0]
        return result, reading

    def _reading(self, file: Input, kind: str, options: ReadOptions) -> Reading:
        if self._pieces is not None and self._pieces.takes(file, kind):
            return self._pieces.read(file, kind, options)
        return read_urls(file.path, kind, options)[1]

    def _known_lines(self, method: str) -> dict[str, list[bytes]]:
        with self.ledger.reading() as connection:
            return known_log_lines(connection, method)

    @staticmethod
    def _says_nothing(result: Gathered) -> bool:
        empty = sum(
            result.aside[kind]
            for kind in (noise.AsideClass.BLANK, noise.AsideClass.PROSE, noise.AsideClass.SUMMARY)
        )
        return not result.accepted and result.set_aside == empty

    @staticmethod
    def _all_known(result: Gathered) -> bool:
        known = result.aside[noise.AsideClass.COUNTED_BEFORE]
        return (
            known > 0
            and result.set_aside == known + result.aside[noise.AsideClass.BLANK]
            and not result.accepted
        )

    def _facts(
        self, file: Input, sorter: Sorter, reading: Reading, digest: str, size: int
    ) -> SourceFacts:
        result = sorter.result
        facts = SourceFacts(
            file.name, result.kind, self._purpose, digest, size, mapping=dict(reading.mapping)
        )
        if reading.lines is None and any(self._period):
            facts.period = result.period = self._period
        else:
            facts.period = result.period = reading.days if any(reading.days) else self._period
        facts.asked = self._asked
        facts.lines, facts.accepted = result.lines, result.accepted
        facts.set_aside, facts.rejected = result.set_aside, result.rejected
        # In an order that is the same on every machine.
        facts.mended = dict(sorted((result.mended + result.folded).items()))
        facts.aside = dict(sorted(result.aside.items()))
        return facts


class _AllKnownError(Exception):
    """Every request of a log counts already: its step is taken back, and nothing was changed."""


def _no_url(path: Path, result: Gathered) -> NoAddressesError:
    reason = (
        f": {result.rejects[0].reason} (line {result.rejects[0].line:,})" if result.rejects else ""
    )
    return NoAddressesError(
        f"{path} holds no URL that can be read{reason}",
        "check that it is the right file, or name its --kind or --column",
    )


def _tells_days(path: Path, options: ReadOptions) -> bool:
    from upright_ledger.formats.logs.access_log import tells_days  # for logs alone

    return tells_days(path, options)
