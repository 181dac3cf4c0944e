"""Review by sheet: entries with their proposals written out, and the decisions of people read
back.
"""

from __future__ import annotations

import random
import re
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from pathlib import Path

from upright_ledger.app.decide.decide import read_old
from upright_ledger.app.decide.entries import EntryLine, list_entries
from upright_ledger.app.decide.second_looks import SecondLooks, second_looks
from upright_ledger.app.decide.sheets.reviewed_rows import is_typed, wanted_by
from upright_ledger.app.move_state import MoveState
from upright_ledger.core.inventory.advice import advice
from upright_ledger.core.inventory.answer import (
    ANSWERS,
    STATUSES,
    AnsweredBy,
    AnswerKind,
    Decision,
)
from upright_ledger.core.inventory.entry import Entry
from upright_ledger.core.inventory.normalisation import fold
from upright_ledger.core.url.address import NotAnAddressError, address_of
from upright_ledger.core.url.destination import page_key
from upright_ledger.core.url.written_address import as_written
from upright_ledger.errors import InputError, UsageError
from upright_ledger.formats.detection import FileKind, recognise
from upright_ledger.formats.files.atomic import bare_cell
from upright_ledger.formats.files.text import digest_of
from upright_ledger.formats.tables.export import CSV, XLSX, write_table
from upright_ledger.formats.tables.rows.table_rows import RowWidth, rows_of
from upright_ledger.formats.tables.rows.workbook_rows import fullest_sheet
from upright_ledger.formats.tables.workbooks import Sheet
from upright_ledger.ledger.db.journal import last_step
from upright_ledger.ledger.lines.listing import Filters
from upright_ledger.ledger.store import Ledger
from upright_ledger.ledger.tables.answers import (
    Standing,
    answers_before,
    dated_answers,
    of_person,
    post_answers,
    sampled,
)
from upright_ledger.ledger.tables.proposals import StoredProposal, load_proposals
from upright_ledger.ledger.tables.sources import links_are_known
from upright_ledger.ledger.tables.stock import Destination, load_stock

COLUMNS = (
    "site", "legacy_url", "section", "title", "item", "value", "hits", "links", "last_seen",
    "destination", "new_title", "confidence", "reason", "choice_2", "choice_3",
    "answer", "status", "until", "note", "as_of",
)  # fmt: skip
"""as_of: the last step in the journal when the sheet was written, so that two people's decisions
cannot overrun each other.
"""

_SHEET, _PAGES = "review", "new pages"
_MOST_PAGES = 200_000
_REVIEWED = "reviewed"  # a further column of a sample: filled in where somebody looked

_NEEDED = ("legacy_url", "answer")
_HEADER_WITHIN = 20  # rows


@dataclass(frozen=True, slots=True)
class ReviewedAnswer:
    """What one row would change."""

    row: int
    entry: Entry
    wanted: Standing
    where: str

    @property
    def answer(self) -> Decision:
        return self.wanted.answer


@dataclass
class Reviewed:
    """What a sheet amounts to. added: open entries that get an answer; changed: entries that get
    another one; reopened: entries that lose theirs; confirmed: rows of a sample that somebody
    looked at and found right. conflicts: rows whose entry got another answer since the sheet was
    written, and refused: rows that cannot be used, each as (row, legacy URL, reason). typed: rows
    with a new destination whose answer still said open. astray: rows left out because their new
    destination is no page in stock. looks: what deserves a second one.
    """

    rows: int = 0
    unchanged: int = 0
    typed: int = 0
    added: list[ReviewedAnswer] = field(default_factory=list)
    changed: list[ReviewedAnswer] = field(default_factory=list)
    reopened: list[ReviewedAnswer] = field(default_factory=list)
    confirmed: list[ReviewedAnswer] = field(default_factory=list)
    conflicts: list[tuple[int, str, str]] = field(default_factory=list)
    refused: list[tuple[int, str, str]] = field(default_factory=list)
    astray: int = 0
    looks: SecondLooks = field(default_factory=SecondLooks)
    posted: bool = False

    @property
    def changes(self) -> list[ReviewedAnswer]:
        return [*self.added, *self.changed, *self.reopened, *self.confirmed]

    def leave_out(self, missing: set[str]) -> None:
        """Leave out rows that give an entry one of these destinations anew."""
        for rows in (self.added, self.changed):
            kept = [
                row
                for row in rows
                if row.answer.destination not in missing
                or row.answer.destination == row.entry.answer.destination
            ]
            self.astray += len(rows) - len(kept)
            rows[:] = kept


def write_sheet(ledger: Ledger, path: Path, filters: Filters, sample: int = 0) -> int:
    """Write entries that fit into a workbook (.xlsx) or CSV, the most valuable first. Returns how
    many.

    sample: so many proposals that match accepted instead, drawn by chance, with a column to say
    that they were looked at.
    """
    with ledger.reading() as connection:
        proposals, as_of = load_proposals(connection), last_step(connection)
        days = {d.entry: d.day for d in dated_answers(connection)}
        pages, links_known = load_stock(connection), links_are_known(connection)
    lines = list_entries(ledger, filters).lines
    if sample:
        lines = _drawn(lines, sample, as_of)
    rows = [
        (
            *_row(
                line.entry,
                line.section,
                proposals.get(line.entry.id, []),
                pages,
                links_known=links_known,
            ),
            days.get(line.entry.id, ""),
            line.entry.note,
            as_of,
            *([""] if sample else []),
        )
        for line in lines
    ]
    columns = (*COLUMNS, _REVIEWED) if sample else COLUMNS
    choices = {"answer": ANSWERS, "status": [str(s) for s in STATUSES], _REVIEWED: ["yes"]}
    links = ("legacy_url", "destination", "choice_2", "choice_3")
    sheet = Sheet(_SHEET, columns, rows, links, ("confidence",), choices)
    write_table(path, sheet, [sheet, *_to_look_up(pages)], only=(XLSX, CSV))
    return len(rows)


def _to_look_up(pages: Mapping[str, Destination]) -> list[Sheet]:
    """A sheet of the new site's pages, by address, where there are some and not too many."""
    if not 0 < len(pages) <= _MOST_PAGES:
        return []
    header = ("url", "title", "section", "item", "status")
    rows = [
        (p.url, p.title or p.heading, p.section, p.item, p.status or None)
        for _, p in sorted(pages.items())
    ]
    return [Sheet(_PAGES, header, rows, ("url",))]


def _drawn(lines: list[EntryLine], count: int, seed: int) -> list[EntryLine]:
    """Accepted proposals drawn by chance, the same ones for the same state of the ledger."""
    accepted = [
        x
        for x in lines
        if x.entry.by == AnsweredBy.MATCH
        and x.entry.confidence is not None
        and x.entry.confidence < 1
    ]
    accepted.sort(key=lambda x: x.entry.legacy_url)
    if not accepted:
        raise UsageError(
            "no proposal that match accepted is left to draw from", "upright match comes first"
        )
    return random.Random(seed).sample(accepted, min(count, len(accepted)))


def _row(
    entry: Entry,
    section: str,
    proposals: list[StoredProposal],
    pages: Mapping[str, Destination],
    *,
    links_known: bool,
) -> tuple[object, ...]:
    best = proposals[0] if proposals else None
    is_fallback = best is not None and best.is_fallback
    shown = entry.answer.destination or (
        best.destination if best and entry.answer.kind == AnswerKind.OPEN else ""
    )
    said = list(best.reasons) if best and best.destination == shown else []
    if entry.answer.kind == AnswerKind.OPEN:
        said.append(
            advice(
                entry.evidence,
                has_proposal=bool(best) and not is_fallback,
                has_fallback=is_fallback,
                links_known=links_known,
            )
        )
    others = [p.destination for p in proposals if p.destination != shown][:2]
    evidence = entry.evidence
    confidence = best.confidence if best and best.destination == shown and not is_fallback else None
    if entry.answer.kind != AnswerKind.OPEN:
        confidence, said = entry.confidence, [entry.reasons]
        others = list(dict.fromkeys(filter(None, [entry.runner_up, *others])))[:2]
    page = pages.get(shown) or pages.get(page_key(address_of(shown))) if shown else None
    return (
        entry.site, entry.legacy_url, section, *[*entry.titles, ""][:1], *[*entry.items, ""][:1],
        round(evidence.value, 2), round(evidence.hits), round(evidence.links), entry.last_seen,
        shown, page.title or page.heading if page else "", confidence,
        "; ".join(filter(None, said)), *[*others, "", ""][:2], entry.answer.kind,
        entry.answer.status or None,
    )  # fmt: skip


def read_sheet(
    ledger: Ledger,
    path: Path,
    *,
    dry_run: bool = False,
    as_given: bool = False,
    reason: str = "",
) -> Reviewed:
    """Read a reviewed sheet back and, unless `dry_run`, post what it changes as one step. as_given:
    destinations, too, that are no pages in stock.
    """
    move = MoveState(ledger)
    result = Reviewed()
    with ledger.reading() as connection:
        proposals = load_proposals(connection)
        days = {d.entry: d.day for d in dated_answers(connection)}
        rows = list(_rows(path))
        befores = {
            step: answers_before(connection, step) for step in {_as_of(c) for _, c, _ in rows}
        }
    seen: dict[int, int] = {}
    for number, cells, fault in rows:
        result.rows += 1
        if fault:
            result.refused.append((number, cells["legacy_url"], fault))
            continue
        try:
            entry = _entry_of(move, cells, seen, number)
            offered = {p.destination for p in proposals.get(entry.id, ())}
            now = Standing(entry.answer, entry.note, days.get(entry.id, ""))
            was = befores[_as_of(cells)].get(entry.id, now)
            wanted = wanted_by(ledger, cells, (was, now), offered)
        except NotAnAddressError as error:
            result.refused.append((number, cells.get("legacy_url", ""), str(error)))
            continue
        answer, unedited = wanted.answer, wanted in (was, now)
        where = _where(path, number, cells, right=answer == was.answer)
        result.typed += is_typed(cells, answer)
        change = ReviewedAnswer(number, entry, wanted, where)
        if unedited and cells.get(_REVIEWED) and entry.by == AnsweredBy.MATCH:
            result.confirmed.append(change)
        elif unedited:
            result.unchanged += 1
        elif was != now:
            held = f"{entry.answer.kind} {entry.answer.destination}".strip()
            result.conflicts.append(
                (number, entry.legacy_url, f"it was answered since the sheet was written: {held}")
            )
        elif entry.answer.kind == AnswerKind.OPEN and answer.kind != AnswerKind.OPEN:
            result.added.append(change)
        elif answer.kind == AnswerKind.OPEN and entry.answer.kind != AnswerKind.OPEN:
            result.reopened.append(change)
        else:
            result.changed.append(change)
    with ledger.reading() as connection:
        told = ((change.entry.id, change.answer) for change in result.changes)
        result.looks = second_looks(connection, ledger.settings, told)
    if not as_given:
        result.leave_out({missing.destination for missing in result.looks.unstocked})
    if result.changes and not dry_run:
        with ledger.step("review", reason or path.name) as step:
            posted = post_answers(
                step,
                [
                    of_person(c.entry, c.answer, c.where, c.wanted.note, c.wanted.until)
                    for c in result.changes
                ],
            )
            step.summary = f"{len(posted):,} answers from {path.name}"
        result.posted = True
    return result


def _where(path: Path, row: int, cells: Mapping[str, str], *, right: bool) -> str:
    """Where an answer comes from; of a sample also how sure its proposal was, and whether it was
    right.
    """
    where = f"{path.name} row {row}"
    confidence = cells.get("confidence", "").replace(",", ".")
    if _REVIEWED in cells and re.fullmatch(r"[01](?:\.\d+)?", confidence):
        return sampled(min(float(confidence), 1.0), right=right, where=where)
    return where


def _rows(path: Path) -> Iterator[tuple[int, dict[str, str], str]]:
    """The rows of a sheet by column name, and why one cannot be used; what a spreadsheet program
    does to names and apostrophes is undone.
    """
    digest_of(path)  # refuses what is no file
    kind = recognise(path)
    sheet = fullest_sheet(path, _SHEET) if kind == FileKind.SHEET else ""
    header, width = list[str](), RowWidth()
    for n, (line, cells) in enumerate(rows_of(path, kind, sheet=sheet)):
        if not header:
            names = [c.strip().lower().replace(" ", "_") for c in cells]
            if set(_NEEDED) <= set(names):
                header, width = names, RowWidth.of(kind, names, ())
            elif n >= _HEADER_WITHIN:
                break
            continue
        values = {
            name: cell.strip() if kind == FileKind.SHEET else bare_cell(cell.strip())
            for name, cell in zip(header, cells, strict=False)
            if name
        }
        if values.get("legacy_url"):
            yield line, values, width.fault(cells)
    if not header:
        raise InputError(
            f"{path} is no sheet of upright review: it lacks the columns {' and '.join(_NEEDED)}",
            "write one with upright review --out sheet.xlsx",
        )


def _as_of(cells: dict[str, str]) -> int:
    """The step at which a row was written; a sheet without that column is taken as written now."""
    text = cells.get("as_of", "")
    return int(float(text)) if re.fullmatch(r"[0-9]{1,15}(?:\.[0-9]*)?", text) else 1 << 60


def _entry_of(move: MoveState, cells: dict[str, str], seen: dict[int, int], number: int) -> Entry:
    """The entry of a row. seen: entry → the row that named it, to which this one is added."""
    written = as_written(cells["legacy_url"], move.ledger.settings.sites.old_origins)
    address, site = read_old(move.ledger, written)
    entry = move.by_key.get((site, fold(address, move.policy).key))
    if entry is None:
        raise NotAnAddressError("the ledger has no such entry; gather it first")
    if entry.id in seen:
        raise NotAnAddressError(f"row {seen[entry.id]} is for the same entry")
    seen[entry.id] = number
    return entry
