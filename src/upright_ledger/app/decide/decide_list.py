"""Answers from a sheet of pairs."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import replace
from pathlib import Path

from upright_ledger.app.decide.decide import (
    Decided,
    GivenAnswer,
    as_given,
    destination_of,
    read_old,
)
from upright_ledger.app.decide.decide_template import note_template, read_template
from upright_ledger.app.decide.pair_rows import (
    as_template,
    plainly_written,
    read_answer,
    read_query,
)
from upright_ledger.app.decide.plain_pairs import PlainPair, read_plainly
from upright_ledger.app.decide.second_looks import second_looks
from upright_ledger.core.inventory.answer import (
    AnsweredBy,
    Decision,
)
from upright_ledger.core.inventory.evidence import Figure
from upright_ledger.core.inventory.normalisation import fold
from upright_ledger.core.inventory.placing.classification import Classified
from upright_ledger.core.inventory.units import LISTED
from upright_ledger.core.rules.compiler import template_fault
from upright_ledger.core.url.address import NotAnAddressError, parse_address
from upright_ledger.core.url.destination import page_key
from upright_ledger.errors import InputError, UsageError
from upright_ledger.formats.files.text import digest_of
from upright_ledger.formats.records import ReadOptions, Record, Reject, one_by_one
from upright_ledger.formats.registry import read_urls
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
    PlainSightings,
    Portion,
    Sighting,
    SightingWriter,
)
from upright_ledger.ledger.tables.sources import (
    SourceFacts,
    add_source,
    close_source,
    find_source,
    withdraw_source,
)
from upright_ledger.ledger.tables.templates import StoredTemplate


def decide_from(
    ledger: Ledger, path: Path, options: ReadOptions | None = None, reason: str = ""
) -> Decided:
    """Post a sheet of pairs as one step.

    Two rows with different answers for one entry are both kept: the first as answer, the other as a
    claim that `check` reports.
    """
    sites = ledger.settings.sites
    options = replace(options or ReadOptions(), hosts=frozenset(sites.site_of_authority))
    return _decide_pairs(ledger, path, read_pairs(path, options, frozenset(sites.new)), reason)


def _decide_pairs(
    ledger: Ledger, path: Path, pairs: Pairs, reason: str, *, over: bool = True
) -> Decided:
    """over: entries, too, that a person answered one by one."""
    result = Decided(
        refused=[(line, "", why) for line, why in pairs.rejected],
        mapping=pairs.mapping,
        unused=pairs.unused,
    )
    result.notes += pairs.notes
    plain = read_plainly(pairs.rows, ledger.settings.sites, ledger.settings.policy)
    careful = _others(pairs, plain, result)
    templates = _templates(ledger, path.name, careful.values(), result)
    decisions = _Decisions(ledger, path.name, pairs.rows)
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
    first: dict[Name, GivenAnswer] = {}
    further: list[GivenAnswer] = []
    for d in decisions.in_order():
        known = first.setdefault((d.site, d.folded.key), d)
        if known is not d and _differs(known, d) and not any(_same(other, d) for other in further):
            further.append(d)
    digest, size = digest_of(path)
    result.refused.sort(key=lambda row: row[0])
    read = len(pairs.rows) - sum(p.is_template for p in careful.values())
    with ledger.step("decide", reason) as step:
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
        told = [_posting(d, numbers) for d in first.values()]
        told += decisions.plain_postings(numbers)
        held = set() if over else by_hand(step.connection)
        left = {p.entry for p in told if p.entry in held and before.get(p.entry) != p.answer}
        result.left = [p.old for p in told if p.entry in left]
        postings = post_answers(step, [p for p in told if p.entry not in left])
        answers = ((p.entry, p.answer) for p in postings)
        result.looks = second_looks(step.connection, ledger.settings.sites, answers)
        result.unchanged = sum(1 for p in postings if before.get(p.entry) == p.answer)
        result.replaced = sum(
            1 for p in postings if p.entry in before and before[p.entry] != p.answer
        )
        result.posted, result.contested = len(postings) - result.unchanged, len(further)
        post_claims(step, [_posting(d, numbers) for d in further])
        for template in templates:
            note_template(step, template, result)
        step.summary = f"{result.posted:,} answers from {path.name}"
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


class _Decisions:
    """What the rows of a sheet decide: plain ones as they are, and others, each read by itself, as
    are all those that name one entry together.
    """

    def __init__(self, ledger: Ledger, name: str, rows: Sequence[Pair]) -> None:
        self._ledger, self._name, self._rows = ledger, name, rows
        self._read: dict[int, GivenAnswer] = {}
        self._plain: list[PlainPair] = []

    def __len__(self) -> int:
        return len(self._read) + len(self._plain)

    def read(self, at: int, pair: Pair, result: Decided) -> None:
        """Read a row by itself."""
        if (decision := _decision(self._ledger, self._name, pair, result)) is not None:
            self._read[at] = decision

    def take(self, plain: Sequence[PlainPair], result: Decided) -> None:
        """Take plain rows, after all others."""
        named = Counter((p.site, p.key) for p in plain)
        named.update({(d.site, d.folded.key) for d in self._read.values()})
        for p in plain:
            if named[p.site, p.key] == 1:
                self._plain.append(p)
            else:
                self.read(p.at, self._rows[p.at], result)

    def in_order(self) -> list[GivenAnswer]:
        """Those that were read by themselves, as they stand in the sheet."""
        return [self._read[at] for at in sorted(self._read)]

    def wanted(self) -> list[tuple[str, str, str]]:
        """Site, key and legacy address of the entries that rows name, as they stand in the
        sheet.
        """
        told = [
            (at, d.site, d.folded.key, d.old.without_fragment) for at, d in self._read.items()
        ] + [(p.at, p.site, p.key, self._rows[p.at].old) for p in self._plain]
        return [row[1:] for row in sorted(told)]

    def portion(self) -> Portion:
        """What the sheet says of spellings."""
        plain, rows = self._plain, self._rows
        old = [rows[p.at].old for p in plain]
        columns = PlainSightings(
            [rows[p.at].line for p in plain],
            [(p.site, text) for p, text in zip(plain, old, strict=True)],
            [p.key for p in plain],
            [p.variant for p in plain],
            old,
        )
        found: dict[Name, Sighting] = {}
        for at in sorted(self._read):
            d = self._read[at]
            text = d.old.without_fragment
            told = (d.folded.key, d.folded.variant, text, "", d.folded.mends)
            place = Classified(d.site, text, *told)
            sighting = Sighting(place, [Figure(LISTED, 1.0)], line=rows[at].line)
            found.setdefault((d.site, text), sighting)
        return Portion([*found.values()], columns)

    def plain_postings(self, numbers: Mapping[Name, int]) -> Iterator[Posting]:
        """The answers of plain rows."""
        for p in self._plain:
            row = self._rows[p.at]
            where = f"{self._name} row {row.line}"
            entry = numbers[p.site, p.key]
            yield Posting(entry, p.answer, AnsweredBy.IMPORT, row.old, where=where, query=p.query)


def _entries_of(
    step: Step, policy: int, decisions: _Decisions, facts: SourceFacts, result: Decided
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


def _posting(decision: GivenAnswer, numbers: Mapping[Name, int]) -> Posting:
    number = numbers[decision.site, decision.folded.key]
    return Posting(
        number,
        decision.answer,
        AnsweredBy.IMPORT,
        decision.old.without_fragment,
        decision.host_given,
        decision.where,
        query=decision.query,
    )


def _differs(one: GivenAnswer, other: GivenAnswer) -> bool:
    """Whether two rows for one entry say different things, their spelling included where a slash
    loop may hide.
    """
    if one.answer.status != other.answer.status or one.answer.kind != other.answer.kind:
        return True
    if not one.answer.destination:
        return False
    return page_key(parse_address(one.answer.destination)) != page_key(
        parse_address(other.answer.destination)
    )


def _same(one: GivenAnswer, other: GivenAnswer) -> bool:
    return (one.site, one.folded.key) == (other.site, other.folded.key) and not _differs(one, other)


def _decision(ledger: Ledger, name: str, pair: Pair, result: Decided) -> GivenAnswer | None:
    """Read one row, or note in `result` why it cannot be used."""
    try:
        old, new = plainly_written(pair, ledger.settings.sites)
        address, site = read_old(ledger, old)
        answer = read_answer(pair.status, new.text)
        query = read_query(pair.query)
        if answer.destination:
            answer = Decision(
                answer.kind, answer.status, destination_of(ledger, answer.destination)
            )
    except NotAnAddressError as error:
        result.refused.append((pair.line, pair.old, str(error)))
        return None
    result.mended += int(old.lacked_slash or new.lacked_slash)
    where = f"{name} row {pair.line}"
    folded = fold(address, ledger.settings.policy)
    return GivenAnswer(address, site, folded, answer, old.names_host, where, query)


def decide_listed(
    ledger: Ledger,
    path: Path,
    answer: Decision,
    encoding: str = "",
    reason: str = "",
    *,
    over: bool = False,
) -> Decided:
    """Give every old URL that a file lists, of whatever kind it is, one answer, as one step. over:
    those, too, that a person answered one by one.
    """
    answer = as_given(ledger, answer)
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
    return _decide_pairs(ledger, path, Pairs(rows, rejected), reason, over=over)
