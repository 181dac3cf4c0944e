"""The whole book of a ledger, as the tasks that prove and build look at it."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from functools import cached_property

from upright_ledger.app.prove.builds.kept import KEPT_AS, lives_on, plan_of_kept
from upright_ledger.app.prove.builds.uncovered import spelled_by_template, unanswered_in_paths
from upright_ledger.core.checks.context import CheckContext
from upright_ledger.core.checks.query_checks import check_campaigns, check_choices
from upright_ledger.core.checks.rule_checks import check, check_crowds
from upright_ledger.core.checks.template_checks import (
    check_imported,
    check_sessions,
    check_templates,
    check_variants,
)
from upright_ledger.core.inventory.answer import (
    STATUSES,
    AnsweredBy,
    AnswerKind,
    EntryAnswer,
    Expected,
    answer_of,
    expected_outcome,
    usual,
)
from upright_ledger.core.inventory.normalisation import FoldingPolicy, fold
from upright_ledger.core.rules.compiler import (
    ExcludedRule,
    Exclusion,
    compile_rules,
    make_template,
    template_fault,
)
from upright_ledger.core.rules.draft import Plan, make_plan
from upright_ledger.core.rules.exact_rule import GONE as GONE_STATUS
from upright_ledger.core.rules.finding import Finding, FindingKind, in_order
from upright_ledger.core.rules.imported.blocks import Block
from upright_ledger.core.rules.imported.rule import ImportedRule, QueryEdit
from upright_ledger.core.rules.imported.templates import templates_of
from upright_ledger.core.rules.one_hop import OneHop, findings_of, keep_to_one_hop
from upright_ledger.core.rules.proof import Proof
from upright_ledger.core.rules.query_policy import QueryPolicy
from upright_ledger.core.rules.ruleset import RuleSet
from upright_ledger.core.rules.target_pages import StockPage
from upright_ledger.core.rules.template_index import TemplateRule
from upright_ledger.core.tracing.verdicts import is_language_home
from upright_ledger.core.url.address import Address, NotAnAddressError, address_of, parse_address
from upright_ledger.core.url.destination import authority_of, page_key, read_destination
from upright_ledger.core.url.language import code_of
from upright_ledger.core.url.origins import Sites
from upright_ledger.ledger.store import Ledger
from upright_ledger.ledger.tables.answers import load_claims
from upright_ledger.ledger.tables.entries import Entry, load_entries, seen_queries
from upright_ledger.ledger.tables.imported_rules import load_imported
from upright_ledger.ledger.tables.stock import Destination, StockState, load_stock
from upright_ledger.ledger.tables.templates import load_templates


@dataclass
class Book:
    """Entries, stock and answers of a ledger as they stood when it was loaded."""

    ledger: Ledger

    @property
    def sites(self) -> Sites:
        return self.ledger.settings.sites

    @property
    def policy(self) -> FoldingPolicy:
        return self.ledger.settings.policy

    @cached_property
    def entries(self) -> list[Entry]:
        """All entries; those that nobody answered have the answer of the template that fits them,
        or are kept where their page lives on.
        """
        with self.ledger.reading() as connection:
            entries = load_entries(connection, self.ledger.settings.weights, self.policy.index_set)
        for entry in (e for e in entries if e.answer.kind == AnswerKind.OPEN):
            if self.sites.shared_origins(entry.site) and lives_on(entry, self.sites, self.stock):
                entry.answer, entry.by = usual(AnswerKind.KEEP), AnsweredBy.STOCK
            elif self.templates or self._blocks:
                self._answer_by_rules(entry)
        return entries

    def _answer_by_rules(self, entry: Entry) -> None:
        """Give an entry that nobody answered the answer of the template or the imported rule that
        fits it.
        """
        address = address_of(entry.legacy_url)
        if self._is_live(address):
            return
        found = self._standing_rules.find(address.authority, address.target)
        if found is not None:
            entry.answer, entry.by, entry.where = (
                answer_of(found[0].status, found[1]),
                AnsweredBy.TEMPLATE,
                found[0].legacy_url,
            )
            return
        answer = self._standing_rules.answer_of_rules(address.authority, address.target)
        if answer is None or not isinstance(answer.rule, ImportedRule):
            return
        try:
            destination = (
                read_destination(answer.location, address.origin).text if answer.location else ""
            )
        except NotAnAddressError:
            return  # nothing that could stand in a rule of ours: the entry stays open
        if STATUSES.get(answer.status) and (destination or answer.status == GONE_STATUS):
            entry.answer, entry.by, entry.where = (
                answer_of(answer.status, destination),
                AnsweredBy.RULE,
                answer.rule.where,
            )
            carries = answer.rule.query == QueryEdit.APPEND or (
                answer.rule.query == QueryEdit.KEEP and "?" not in destination
            )
            entry.query = QueryPolicy.CARRY if carries else QueryPolicy.DROP

    @cached_property
    def _standing_rules(self) -> RuleSet:
        """The templates and imported rules alone."""
        sites, templates = dict(self.sites.site_of_authority), tuple(self.templates)
        rules = RuleSet((), sites, self._folds, self.policy.tracking, {}, templates)
        return replace(rules, blocks=self._blocks, bases=self._bases)

    def with_block(self, block: Block) -> RuleSet:
        """The rules of another file alone, for the old sites of this ledger."""
        return replace(self._standing_rules, templates=(), blocks=(block,))

    @property
    def requests(self) -> Iterator[tuple[str, str]]:
        """Host and target of every spelling of every entry."""
        for entry in self.entries:
            yield (address := address_of(entry.legacy_url)).authority, address.target
            yield from entry.requests

    @cached_property
    def _blocks(self) -> tuple[Block, ...]:
        with self.ledger.reading() as connection:
            return tuple(map(Block, load_imported(connection)))

    @property
    def _bases(self) -> dict[str, str]:
        """Authority of an old site → the origin under which a destination without host lies."""
        new = {parse_address(o).authority: o for o in reversed(self.sites.new)}
        old = {
            parse_address(o).authority: o for site in self.sites.old for o in reversed(site.origins)
        }
        named = self.sites.site_of_authority
        return {
            a: new.get(a) or old.get(a) or f"{parse_address(self.sites.base_of(s)).scheme}://{a}"
            for a, s in named.items()
        }

    @property
    def _folds(self) -> bool:
        return self.policy.case == "fold"

    @cached_property
    def templates(self) -> list[TemplateRule]:
        """The template answers that can be executed."""
        return [
            t for t in self.all_templates if not template_fault(t, self.sites, fold=self._folds)
        ]

    @cached_property
    def all_templates(self) -> list[TemplateRule]:
        """The template answers as they were decided."""
        with self.ledger.reading() as connection:
            stored = load_templates(connection)
        return [
            make_template(
                t.site,
                t.source,
                t.status,
                t.destination,
                self.sites.base_of(t.site) + t.source,
                fold=self._folds,
                query=t.query,
            )
            for t in stored
        ]

    def _is_live(self, address: Address) -> bool:
        """Whether an old address is a page of the new site, on a host that both share."""
        if not self.sites.is_new(address):
            return False
        pages = (
            self.stock.get(page_key(address._replace(scheme=scheme)))
            for scheme in ("https", "http")
        )
        return any(page is not None and page.status < 300 for page in pages)

    @cached_property
    def standing(self) -> list[Address]:
        """Addresses that no template may take: what is kept or ignored, and live pages on hosts
        that both sites share.
        """
        kept = [
            address_of(e.legacy_url)
            for e in self.entries
            if e.answer.kind in {AnswerKind.KEEP, AnswerKind.IGNORE} and e.by != AnsweredBy.TEMPLATE
        ]
        live = [
            a
            for d in self.stock.values()
            if d.state == StockState.LIVE
            and d.status < 300
            and self.sites.site_of(a := parse_address(d.url))
        ]
        return kept + live

    @cached_property
    def by_key(self) -> dict[tuple[str, str], Entry]:
        return {(e.site, e.key): e for e in self.entries}

    @cached_property
    def stock(self) -> dict[str, Destination]:
        with self.ledger.reading() as connection:
            return load_stock(connection)

    @cached_property
    def homes(self) -> frozenset[str]:
        """Page keys of the new site's front pages, those of its languages among them."""
        of_languages = {
            page for page, d in self.stock.items() if is_language_home(address_of(d.url).path)
        }
        return frozenset({f"{origin}/" for origin in self.sites.new} | of_languages)

    @cached_property
    def plans(self) -> list[Plan]:
        """Every answer that asks for a rule, contested ones included."""
        with self.ledger.reading() as connection:
            claims = load_claims(connection)
        plans = []
        for e in self.entries:
            if (
                e.answer.kind == AnswerKind.KEEP
                and len(e.variants) > 1
                and (kept := plan_of_kept(e, self.sites, self.policy, self.stock)) is not None
            ):
                plans.append(kept)
            if e.answer.has_rule and e.by != AnsweredBy.TEMPLATE:
                given = (e.old, e.answer.status, e.answer.destination, e.host_given, e.where)
                plans.append(
                    self._plan(
                        e,
                        *given,
                        meant=e.by == AnsweredBy.PERSON,
                        query=e.query,
                        imported=e.by == AnsweredBy.RULE,
                    )
                )
            plans += [
                self._plan(e, c.old, c.status, c.destination, c.host_given, c.where)
                for c in claims.get(e.id, ())
            ]
        return plans

    @cached_property
    def _kept_as(self) -> dict[tuple[str, str], str]:
        """Site and path of other spellings of pages that are kept → the page."""
        return {
            (p.site, path): p.destination
            for p in self.plans
            if p.where == KEPT_AS
            for path in p.paths
        }

    def _plan(
        self,
        entry: Entry,
        old: str,
        status: int,
        destination: str,
        host_given: bool,
        where: str,
        *,
        meant: bool = False,
        query: QueryPolicy = QueryPolicy.CARRY_TRACKING,
        imported: bool = False,
    ) -> Plan:
        address = parse_address(old or entry.legacy_url)
        return make_plan(
            address,
            entry.site,
            self.policy,
            status,
            destination,
            variants=entry.variants,
            host_given=host_given,
            meant=meant,
            where=where,
            query=query,
            imported=imported,
        )

    @cached_property
    def findings(self) -> list[Finding]:
        """Faults in answers, templates and imported rules, the gravest kinds first."""
        found = list(self._answer_findings)
        if self.all_templates:
            found += check_templates(self.all_templates, self.rules, self.around)
            found += check_variants(spelled_by_template(self), self.rules)
        found += check_crowds(self.plans, self.homes)
        found += check_choices(self.plans)
        found += check_campaigns(self.plans, self._queries, self.policy)
        found += check_imported(self.imported, self._bases)
        found += check_sessions(unanswered_in_paths(self))
        found += findings_of(self._sound, found)
        return in_order(found)

    @property
    def proof(self) -> Proof:
        """What is proved of all that is built, and shown of what is held back for it."""
        return self._sound.whole_proof

    @property
    def _queries(self) -> Iterator[tuple[tuple[str, str], str]]:
        """Key of an entry, and a query with which it was seen."""
        with self.ledger.reading() as connection:
            spelled = [address_of(spelling) for spelling, _, _ in seen_queries(connection)]
        return (((self.sites.site_of(a), fold(a, self.policy).key), a.query) for a in spelled)

    @cached_property
    def around(self) -> CheckContext:
        """What plans are checked against."""
        stock = {
            page: StockPage(d.status, d.redirects_to, planned=d.state == StockState.PLANNED)
            for page, d in self.stock.items()
        }
        settings = self.ledger.settings
        return CheckContext(
            self.sites, self.policy, stock, self.homes, settings.slash, settings.forms
        )

    @cached_property
    def _answer_findings(self) -> list[Finding]:
        return check(self.plans, self.around)

    @cached_property
    def _compiled(self) -> tuple[RuleSet, list[ExcludedRule]]:
        return self._compile(self.plans, self._of_patterns[0])

    @cached_property
    def _of_patterns(self) -> tuple[list[TemplateRule], list[tuple[str, str]]]:
        """Templates that say what imported patterns do, and the patterns that none says, with the
        reason.
        """
        sites = self.sites.old
        return templates_of(self._blocks, sites, self._bases, self.templates, fold=self._folds)

    @property
    def left_out(self) -> list[ExcludedRule]:
        """Imported patterns that are not built."""
        reason = "the entries it answers are built, the pattern itself is not: "
        return [
            ExcludedRule(where, Exclusion.PATTERN, reason + why)
            for where, why in self._of_patterns[1]
        ]

    def _compile(
        self, plans: list[Plan], more: Sequence[TemplateRule] = ()
    ) -> tuple[RuleSet, list[ExcludedRule]]:
        return compile_rules(
            plans,
            self._answer_findings,
            self.sites,
            self.policy,
            [*self.all_templates, *more],
            self.standing if self.templates or more else (),
            forms=self.ledger.settings.forms,
        )

    @cached_property
    def _sound(self) -> OneHop:
        """The rules, without templates that would make a chain."""
        return keep_to_one_hop(self._compiled[0])

    @property
    def rules(self) -> RuleSet:
        """What is built."""
        return self._sound.rules if self._compiled[0].templates else self._compiled[0]

    @cached_property
    def all_rules(self) -> RuleSet:
        """Our own rules, and after them those that were read from servers' files, as these mean
        them.
        """
        if not self._blocks:
            return self.rules
        own = keep_to_one_hop(self._compile([p for p in self.plans if not p.imported])[0]).rules
        return replace(own, blocks=self._blocks, bases=self._bases)

    @property
    def imported(self) -> Iterator[tuple[Block, ImportedRule]]:
        """Every rule that was read from a server's file."""
        return ((block, rule) for block in self._blocks for rule in block.rules)

    @property
    def held_back(self) -> list[ExcludedRule]:
        chains = [
            ExcludedRule(
                s.address or s.template.legacy_url,
                FindingKind.LOOP if s.witness.loops else FindingKind.CHAIN,
                s.reason,
            )
            for s in self._sound.stopped
        ]
        return [*self._compiled[1], *chains]

    def entry_of(self, address: Address) -> Entry | None:
        """The entry an address belongs to, or None."""
        site = self.sites.site_of(address)
        return self.by_key.get((site, fold(address, self.policy).key)) if site else None

    def expected(self, address: Address) -> Expected:
        """What a request for this address must show."""
        return self.expected_of(self.entry_of(address), address)

    def expected_of(self, entry: Entry | None, address: Address) -> Expected:
        """As `expected`, for an address whose entry is known."""
        if entry is None:
            return Expected(kind=AnswerKind.OPEN)
        settled = self.around.settled(address)
        if settled and entry.answer.kind == AnswerKind.IGNORE:
            return Expected(kind=AnswerKind.OPEN)  # the form of its site applies to noise, too
        answer = self._settled(entry)
        if answer.kind == AnswerKind.KEEP and (
            page := self._kept_as.get((entry.site, self.rules.fold_request_path(address.path)))
        ):
            answer = usual(AnswerKind.MOVE, page)
        expected = expected_outcome(answer, settled or address.without_fragment)
        if entry.by == AnsweredBy.PERSON or entry.language:
            return replace(
                expected, language=code_of(entry.language), meant=entry.by == AnsweredBy.PERSON
            )
        return expected

    def _settled(self, entry: Entry) -> EntryAnswer:
        """An entry's answer with the end of the way: a destination that moves on itself is not
        where to arrive.
        """
        answer, seen = entry.answer, {entry.id}
        while (
            answer.destination and authority_of(answer.destination) in self.sites.site_of_authority
        ):
            following = self.entry_of(parse_address(answer.destination))
            if following is None or following.id in seen or not following.answer.destination:
                break
            seen.add(following.id)
            answer = EntryAnswer(answer.kind, answer.status, following.answer.destination)
        return answer
