"""Answers from a sheet of pairs."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from contextlib import suppress
from dataclasses import replace
from pathlib import Path
from typing import NamedTuple

from upright_ledger.app.decide.decide import (
    Decided,
    read_answer_given,
)
from upright_ledger.app.decide.decide_template import is_one_page, note_template, read_template
from upright_ledger.app.decide.second_looks import (
    SecondLooks,
    Unstocked,
    gone_in_use,
    is_soon_looked_at,
    mendable,
    need_stock,
    not_in_stock,
)
from upright_ledger.app.decide.sheets.pair_rows import (
    as_template,
    read_answer,
    read_query,
)
from upright_ledger.app.decide.sheets.plain_pairs import PlainPair, read_plainly
from upright_ledger.app.decide.sheets.sheet_answers import SheetAnswers, posting_of
from upright_ledger.app.decide.sheets.turned_columns import refuse_turned
from upright_ledger.core.inventory.answer import (
    AnsweredBy,
    AnswerKind,
    Decision,
)
from upright_ledger.core.rules.compiler import template_fault
from upright_ledger.core.url.address import NotAnAddressError
from upright_ledger.errors import InputError, UsageError
from upright_ledger.formats.files.text import digest_of
from upright_ledger.formats.records import ReadOptions, Record, Reject, one_by_one
from upright_ledger.formats.registry import read_urls
from upright_ledger.formats.tables.item_table import item_rows
from upright_ledger.formats.tables.pairs import (
    Pair,
    Pairs,
    read_pairs,
)
from upright_ledger.ledger.db.journal import Step
from upright_ledger.ledger.store import Ledger
from upright_ledger.ledger.tables.answers import (
    Posting,
    by_hand,
    load_answers,
    post_answers,
    post_claims,
)
from upright_ledger.ledger.tables.observations import (
    Entries,
    Name,
    SightingWriter,
)
from upright_ledger.ledger.tables.sources import (
    SourceFacts,
    add_source,
    close_source,
    find_source,
    withdraw_source,
)
from upright_ledger.ledger.tables.templates import StoredTemplate, load_templates


class Mode(NamedTuple):
    """over: entries, too, that a person answered one by one, as a sheet that names each has it.
    as_given: destinations, too, that are no pages in stock. dry_run: only say what would come of
    it. until: the day on which the answers are to be looked at again.
    """

    over: bool = True
    as_given: bool = False
    dry_run: bool = False
    until: str = ""


USUAL = Mode()


class _TriedError(Exception):
    """Ends a step that was only to be tried."""


def decide_from(
    ledger: Ledger,
    path: Path,
    options: ReadOptions | None = None,
    reason: str = "",
    mode: Mode = USUAL,
) -> Decided:
    """Post a sheet of pairs as one step.

    Two rows with different answers for one entry are both kept: the first as answer, the other as a
    claim that `check` reports.
    """
    sites = ledger.settings.sites
    options = replace(options or ReadOptions(), hosts=frozenset(sites.site_of_authority))
    pairs = _of_items(ledger, path) or read_pairs(path, options, frozenset(sites.new))
    refuse_turned(ledger, path, pairs)
    result = _decide_pairs(ledger, path, pairs, reason, mode)
    if mode.dry_run or is_soon_looked_at(ledger, len(result.moved)):
        from upright_ledger.app.decide.sheets.against_match import against_match

        result.doubts = against_match(ledger, result.moved)
    return result


def _of_items(ledger: Ledger, path: Path) -> Pairs | None:
    """The pairs that a sheet of item numbers means; None where it is none."""
    try:
        rows = item_rows(path)
    except InputError:
        return None
    from upright_ledger.app.decide.sheets.item_pairs import pairs_of_items  # loads matching

    return pairs_of_items(ledger, rows)


def _decide_pairs(ledger: Ledger, path: Path, pairs: Pairs, reason: str, mode: Mode) -> Decided:
    result = Decided(
        refused=[(line, "", why) for line, why in pairs.rejected],
        mapping=pairs.mapping,
        unused=pairs.unused,
    )
    result.notes += pairs.notes
    sites = ledger.settings.sites
    plain = read_plainly(pairs.rows, sites, ledger.settings.policy)
    careful = _others(pairs, plain, result)
    templates = _templates(ledger, path.name, careful.values(), result)
    decisions = SheetAnswers(ledger, path.name, pairs.rows)
    for at, pair in careful.items():
        if not pair.is_template:
            decisions.read(at, pair, result)
    decisions.take(plain, result)
    if not len(decisions) and not templates:
        line, _, why = result.refused[0]
        raise UsageError(
            f"no row of {path} can be used: row {line}: {why}",
            "give it the columns old, new and status",
        )
    first, further = decisions.first_and_further()
    digest, size = digest_of(path)
    result.refused.sort(key=lambda row: row[0])
    read = len(pairs.rows) - sum(p.is_template for p in careful.values())
    with suppress(_TriedError), ledger.step("decide", reason) as step:
        facts = SourceFacts(
            path.name, "pairs", "pairs", digest, size, lines=read + len(pairs.rejected)
        )
        facts.accepted, facts.rejected, facts.mapping = (
            len(decisions),
            len(result.refused),
            dict(pairs.mapping),
        )
        numbers = _entries_of(step, ledger.policy_for(step), decisions, facts, result)
        before = load_answers(step.connection)
        told = [posting_of(d, numbers) for d in first]
        told += decisions.plain_postings(numbers)
        if not mode.as_given:
            astray = _astray(step, ledger, told, templates, before)
            result.looks = SecondLooks(tuple(astray.values()))
            rows = len(told) + len(templates)
            told = [
                p
                for p in told
                if p.answer.destination not in astray or before.get(p.entry) == p.answer
            ]
            templates = [t for t in templates if t.destination not in astray]
            further = [d for d in further if d.answer.destination not in astray]
            result.astray = rows - len(told) - len(templates)
        held = set() if mode.over else by_hand(step.connection)
        left = {p.entry for p in told if p.entry in held and before.get(p.entry) != p.answer}
        result.left = [p.old for p in told if p.entry in left]
        given = [p for p in told if p.entry not in left]
        if mode.until:
            given = [p._replace(until=mode.until) for p in given]
        postings = post_answers(step, given)
        unstocked = result.looks.unstocked
        if mode.as_given:
            wanted = (p.answer.destination for p in postings)
            unstocked = not_in_stock(step.connection, ledger.settings, wanted)
        answers = ((p.entry, p.answer) for p in postings)
        result.looks = SecondLooks(unstocked, gone_in_use(step.connection, answers))
        result.moved = {
            p.old: p.answer.destination
            for p in postings
            if p.answer.kind == AnswerKind.MOVE and before.get(p.entry) != p.answer
        }
        result.unchanged = sum(1 for p in postings if before.get(p.entry) == p.answer)
        result.replaced = sum(
            1 for p in postings if p.entry in before and before[p.entry] != p.answer
        )
        result.posted, result.contested = len(postings) - result.unchanged, len(further)
        post_claims(step, [posting_of(d, numbers) for d in further])
        for template in templates:
            note_template(step, template, result)
        step.summary = f"{result.posted:,} answers from {path.name}"
        if mode.dry_run:
            raise _TriedError  # which takes the whole step back
    return result


def _others(pairs: Pairs, plain: Sequence[PlainPair], result: Decided) -> dict[int, Pair]:
    """The rows that are not plain by their number, patterns in them as templates; those for which
    no template says the same are noted.
    """
    taken = {p.at for p in plain}
    found = {}
    for at, pair in enumerate(pairs.rows):
        if at not in taken:
            try:
                found[at] = as_template(pair)
            except NotAnAddressError as error:
                result.refused.append((pair.line, pair.old, str(error)))
    return found


def _astray(
    step: Step,
    ledger: Ledger,
    told: Iterable[Posting],
    templates: Iterable[StoredTemplate],
    before: Mapping[int, Decision],
) -> dict[str, Unstocked]:
    """Destinations that a sheet gives anew and that are no pages in stock, but for those that
    `check` mends.
    """
    known = {t.destination for t in load_templates(step.connection)}
    fresh = [p.answer.destination for p in told if before.get(p.entry) != p.answer]
    fresh += [t.destination for t in templates if is_one_page(t.destination)]
    missing = not_in_stock(step.connection, ledger.settings, (d for d in fresh if d not in known))
    near = mendable(step.connection, ledger.settings, (m.destination for m in missing))
    return {m.destination: m for m in missing if m.destination not in near}


def _entries_of(
    step: Step, policy: int, decisions: SheetAnswers, facts: SourceFacts, result: Decided
) -> dict[Name, int]:
    """The numbers of the entries that a sheet names. A sheet is a source once, however often it is
    read.
    """
    known = find_source(step.connection, facts.digest, facts.purpose)
    if known is not None:
        if (known.accepted, known.rejected, dict(known.mapping or {})) == (
            facts.accepted,
            facts.rejected,
            facts.mapping,
        ):
            entries = Entries(step.connection, policy)
            numbers = entries.ensure(decisions.wanted())
            result.made = entries.made
            return numbers
        withdraw_source(step, known.id)
    source = add_source(step, facts)
    writer = SightingWriter(step, source, policy)
    numbers = writer.add(decisions.portion())
    writer.settle()
    result.made = writer.new_entries
    close_source(step.connection, source, facts, result.made)
    return numbers


def _templates(
    ledger: Ledger, name: str, rows: Iterable[Pair], result: Decided
) -> list[StoredTemplate]:
    """The template rows of a sheet; those that cannot be used are noted in `result`."""
    found = []
    for pair in (p for p in rows if p.is_template):
        try:
            answer, query = read_answer(pair.status, pair.new), read_query(pair.query)
            rule = read_template(ledger, pair.old, answer, query)
        except (NotAnAddressError, UsageError) as error:
            result.refused.append((pair.line, pair.old, str(error)))
            continue
        if fault := template_fault(
            rule, ledger.settings.sites, fold=ledger.settings.policy.folds_case
        ):
            result.refused.append((pair.line, pair.old, fault))
            continue
        where = f"{name} row {pair.line}"
        found.append(
            StoredTemplate(
                rule.site,
                rule.source.text,
                rule.status,
                rule.destination,
                query,
                AnsweredBy.IMPORT,
                where,
            )
        )
    return found


def decide_listed(
    ledger: Ledger,
    path: Path,
    answer: Decision,
    encoding: str = "",
    reason: str = "",
    mode: Mode = USUAL,
) -> Decided:
    """Give every old URL that a file lists, of whatever kind it is, one answer, as one step."""
    answer = read_answer_given(ledger, answer)
    with ledger.reading() as connection:
        if not mode.as_given:
            need_stock(connection, ledger.settings, answer.destination)
    options = ReadOptions(encoding, hosts=frozenset(ledger.settings.sites.site_of_authority))
    status = str(answer.status) if answer.status else answer.kind
    rows, rejected = [], []
    for item in one_by_one(read_urls(path, "", options)[1].items):
        if isinstance(item, Record):
            rows.append(Pair(item.line, item.url, answer.destination, status))
        elif isinstance(item, Reject):
            rejected.append((item.line, item.reason))
    if not rows:
        raise InputError(f"{path} lists no URL", "one a line, or a column of them, is needed")
    return _decide_pairs(ledger, path, Pairs(rows, rejected), reason, mode)
