"""The whole book of a ledger, as the tasks that prove and build look at it."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

from upright_ledger.core.addresses import Address, parse_address
from upright_ledger.core.answers import OPEN, EntryAnswer, Expected, expected_outcome
from upright_ledger.core.checks import StockPage, Surroundings, check
from upright_ledger.core.compiling import HeldBack, compile_rules
from upright_ledger.core.findings import Finding
from upright_ledger.core.folding import FoldingPolicy, fold
from upright_ledger.core.plans import Plan, make_plan
from upright_ledger.core.rules import RuleSet
from upright_ledger.core.sites import Sites
from upright_ledger.ledger.answers import PERSON, load_claims
from upright_ledger.ledger.entries import Entry, load_entries
from upright_ledger.ledger.stock import PLANNED, Destination, load_stock
from upright_ledger.ledger.store import Ledger


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
        with self.ledger.reading() as connection:
            return load_entries(connection, self.ledger.settings.weights)

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
            if e.answer.has_rule:
                given = (e.old, e.answer.status, e.answer.destination, e.host_given, e.where)
                plans.append(self._plan(e, *given, meant=e.by == PERSON))
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
        )

    @cached_property
    def findings(self) -> list[Finding]:
        stock = {
            page: StockPage(d.status, d.redirects_to, planned=d.state == PLANNED) for page, d in self.stock.items()
        }
        return check(self.plans, Surroundings(self.sites, self.policy, stock, self.homes, self.ledger.settings.slash))

    @cached_property
    def _compiled(self) -> tuple[RuleSet, list[HeldBack]]:
        return compile_rules(self.plans, self.findings, self.sites, self.policy)

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
