"""The whole book of a ledger, as the tasks that prove and build look at it."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

from upright_ledger.core.addresses import Address, parse_address
from upright_ledger.core.answers import IGNORE, KEEP, OPEN, EntryAnswer, Expected, answer_of, expected_outcome
from upright_ledger.core.checks import StockPage, Surroundings, check
from upright_ledger.core.compiling import HeldBack, compile_rules, make_template, template_fault
from upright_ledger.core.destinations import page_key
from upright_ledger.core.findings import Finding
from upright_ledger.core.folding import FoldingPolicy, fold
from upright_ledger.core.plans import Plan, make_plan
from upright_ledger.core.rules import CARRY_TRACKING, RuleSet
from upright_ledger.core.sites import Sites
from upright_ledger.core.template_rules import TemplateRule
from upright_ledger.ledger.answers import PERSON, TEMPLATE, load_claims
from upright_ledger.ledger.entries import Entry, load_entries
from upright_ledger.ledger.stock import LIVE, PLANNED, Destination, load_stock
from upright_ledger.ledger.store import Ledger
from upright_ledger.ledger.templates import load_templates


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
        """All entries; those that nobody answered have the answer of the template that fits them, where there is one."""
        with self.ledger.reading() as connection:
            entries = load_entries(connection, self.ledger.settings.weights)
        if not self.templates:
            return entries
        templates = RuleSet(
            (), dict(self.sites.site_of_authority), self._folds, self.policy.tracking, {}, tuple(self.templates)
        )
        for entry in entries:
            if entry.answer.kind == OPEN and not self._is_live(address := parse_address(entry.legacy_url)):
                found = templates.find(address.authority, address.target)
                if found is not None:
                    entry.answer, entry.by, entry.where = (
                        answer_of(found[0].status, found[1]),
                        TEMPLATE,
                        found[0].legacy_url,
                    )
        return entries

    @property
    def _folds(self) -> bool:
        return self.policy.case == "fold"

    @cached_property
    def templates(self) -> list[TemplateRule]:
        """The template answers that can be executed."""
        return [t for t in self.all_templates if not template_fault(t, self.sites, fold=self._folds)]

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
        return any(page_key(address._replace(scheme=scheme)) in self.stock for scheme in ("https", "http"))

    @cached_property
    def _standing(self) -> list[Address]:
        """Addresses that no template may take: what is kept or ignored, and live pages on hosts that both sites share."""
        kept = [
            parse_address(e.legacy_url) for e in self.entries if e.answer.kind in {KEEP, IGNORE} and e.by != TEMPLATE
        ]
        live = [a for d in self.stock.values() if d.state == LIVE and self.sites.site_of(a := parse_address(d.url))]
        return kept + live

    @cached_property
    def by_key(self) -> dict[tuple[str, str], Entry]:
        return {(e.site, e.key): e for e in self.entries}

    @cached_property
    def stock(self) -> dict[str, Destination]:
        with self.ledger.reading() as connection:
            return load_stock(connection)

    @property
    def homes(self) -> frozenset[str]:
        """Page keys of the new site's front pages."""
        return frozenset(f"{origin}/" for origin in self.sites.new)

    @cached_property
    def plans(self) -> list[Plan]:
        """Every answer that asks for a rule, contested ones included."""
        with self.ledger.reading() as connection:
            claims = load_claims(connection)
        plans = []
        for e in self.entries:
            if e.answer.has_rule and e.by != TEMPLATE:
                given = (e.old, e.answer.status, e.answer.destination, e.host_given, e.where)
                plans.append(self._plan(e, *given, meant=e.by == PERSON, query=e.query or CARRY_TRACKING))
            plans += [
                self._plan(e, c.old, c.status, c.destination, c.host_given, c.where) for c in claims.get(e.id, ())
            ]
        return plans

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
        query: str = CARRY_TRACKING,
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
        )

    @cached_property
    def findings(self) -> list[Finding]:
        stock = {
            page: StockPage(d.status, d.redirects_to, planned=d.state == PLANNED) for page, d in self.stock.items()
        }
        return check(self.plans, Surroundings(self.sites, self.policy, stock, self.homes, self.ledger.settings.slash))

    @cached_property
    def _compiled(self) -> tuple[RuleSet, list[HeldBack]]:
        return compile_rules(
            self.plans,
            self.findings,
            self.sites,
            self.policy,
            self.all_templates,
            self._standing if self.templates else (),
        )

    @property
    def rules(self) -> RuleSet:
        return self._compiled[0]

    @property
    def held_back(self) -> list[HeldBack]:
        return self._compiled[1]

    def entry_of(self, address: Address) -> Entry | None:
        """The entry an address belongs to, or None."""
        site = self.sites.site_of(address)
        return self.by_key.get((site, fold(address, self.policy).key)) if site else None

    def expected(self, address: Address) -> Expected:
        """What a request for this address must show."""
        entry = self.entry_of(address)
        if entry is None:
            return Expected(kind=OPEN)
        return expected_outcome(self._settled(entry), address.without_fragment)

    def _settled(self, entry: Entry) -> EntryAnswer:
        """An entry's answer with the end of the way: a destination that moves on itself is not where to arrive."""
        answer, seen = entry.answer, {entry.id}
        while answer.destination:
            following = self.entry_of(parse_address(answer.destination))
            if following is None or following.id in seen or not following.answer.destination:
                break
            seen.add(following.id)
            answer = EntryAnswer(answer.kind, answer.status, following.answer.destination)
        return answer
