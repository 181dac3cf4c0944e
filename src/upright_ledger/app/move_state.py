"""The state of a move, loaded from its ledger: what most tasks look at."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from functools import cached_property

from upright_ledger.app.kept_rules import KeptRules, keep_rules, recalled
from upright_ledger.core.checks.compiled_rules import CompiledRules
from upright_ledger.core.checks.context import CheckContext
from upright_ledger.core.inventory.entry import Entry
from upright_ledger.core.inventory.normalisation import FoldingPolicy, fold
from upright_ledger.core.rules.rule_answers import RuleAnswers
from upright_ledger.core.rules.target_pages import StockPage
from upright_ledger.core.tracing.expected_outcomes import ExpectedOutcomes
from upright_ledger.core.tracing.verdicts import is_language_home
from upright_ledger.core.url.address import Address, address_of, parse_address
from upright_ledger.core.url.origins import Sites
from upright_ledger.ledger.db.journal import last_step
from upright_ledger.ledger.lines.answered import answered, left_alone
from upright_ledger.ledger.lines.given_answers import rule_answers
from upright_ledger.ledger.store import Ledger
from upright_ledger.ledger.tables.answers import load_claims
from upright_ledger.ledger.tables.entries import (
    known_requests,
    load_entries,
    seen_queries,
    sessions_in_paths,
)
from upright_ledger.ledger.tables.stock import Destination, StockState, load_pages, load_stock

_SLASHES_OF_HOMES = 4
_MANY = 20_000
"""Entries from which on all are loaded, rather than these by their numbers."""


@dataclass
class MoveState:
    """Entries, stock and answers of a ledger as they stood when they were first asked for."""

    ledger: Ledger
    step: int = 0
    """The last step of the journal when entries were read."""

    @property
    def sites(self) -> Sites:
        return self.ledger.settings.sites

    @property
    def policy(self) -> FoldingPolicy:
        return self.ledger.settings.policy

    @cached_property
    def entries(self) -> list[Entry]:
        """All entries; those that nobody answered have the answer of the template or imported rule
        that fits them, or are kept where their page lives on.
        """
        with self.ledger.reading() as connection:
            self.step = last_step(connection)
            return load_entries(connection)

    @cached_property
    def given(self) -> RuleAnswers:
        """What templates and imported rules answer."""
        with self.ledger.reading() as connection:
            return rule_answers(connection, self.sites, self.policy)

    @property
    def requests(self) -> Iterator[tuple[str, str]]:
        """Host and target of every spelling of every entry."""
        with self.ledger.reading() as connection:
            yield from known_requests(connection)

    @cached_property
    def protected_urls(self) -> list[Address]:
        """Addresses that no template may take: what is kept or ignored, and live pages on hosts
        that both sites share.
        """
        with self.ledger.reading() as connection:
            kept = [address_of(url) for url in left_alone(connection)]
        if not any(self.sites.shared_origins(site.name) for site in self.sites.old):
            return kept
        return kept + [
            address
            for d in self.stock.values()
            if d.state == StockState.LIVE
            and d.status < 300
            and self.sites.site_of(address := parse_address(d.url))
        ]

    @cached_property
    def by_key(self) -> dict[tuple[str, str], Entry]:
        """Site and key → entry."""
        return {(e.site, e.key): e for e in self.entries}

    def entry_of(self, address: Address) -> Entry | None:
        """The entry an address belongs to, or None."""
        return self.expected.entry_of(address)

    @cached_property
    def stock(self) -> dict[str, Destination]:
        """Page key → page."""
        with self.ledger.reading() as connection:
            return load_stock(connection)

    @cached_property
    def pages(self) -> dict[str, StockPage]:
        """Page key → what rules need to know of a page."""
        with self.ledger.reading() as connection:
            return load_pages(connection)

    @cached_property
    def homes(self) -> frozenset[str]:
        """Page keys of the new site's front pages, those of its languages among them."""
        near_the_top = (page for page in self.pages if page.count("/") <= _SLASHES_OF_HOMES)
        languages = {page for page in near_the_top if is_language_home(address_of(page).path)}
        return frozenset({f"{origin}/" for origin in self.sites.new} | languages)

    @cached_property
    def around(self) -> CheckContext:
        """What plans are checked against."""
        slash, forms = self.ledger.settings.slash, self.ledger.settings.forms
        return CheckContext(self.sites, self.policy, self.pages, self.homes, slash, forms)

    @cached_property
    def compiled(self) -> CompiledRules | KeptRules:
        """The rules that the answers amount to, with their faults and proofs: kept from an earlier
        command, or worked out, and kept for the next one.
        """
        with self.ledger.reading() as connection:
            self.step = last_step(connection)
            kept = recalled(self.ledger, connection, self.step)
        if kept is not None:
            return kept
        keep_rules(self.ledger, self.worked_out, self.step)
        return self.worked_out

    @cached_property
    def worked_out(self) -> CompiledRules:
        """As `compiled`, worked out of the answers."""
        with self.ledger.reading() as connection:
            self.step = last_step(connection)
            claims = load_claims(connection)
            told, others = answered(connection, claims.keys())
        return CompiledRules(
            self.around,
            self.given,
            self._entries_of(others),
            claims,
            lambda: self.protected_urls,
            self._seen_queries,
            self._session_paths,
            told,
            self._entries_of,
        )

    def _entries_of(self, numbers: Sequence[int]) -> list[Entry]:
        """Entries by their numbers, by site and key."""
        if "entries" in vars(self) or len(numbers) > _MANY:
            wanted = set(numbers)
            return [e for e in self.entries if e.id in wanted]
        with self.ledger.reading() as connection:
            found = load_entries(connection, numbers)
        return sorted(found, key=lambda e: (e.site, e.key))

    def _seen_queries(self) -> Iterator[tuple[tuple[str, str], str]]:
        with self.ledger.reading() as connection:  # when the first one is asked for
            spelled = [address_of(spelling) for spelling, _, _ in seen_queries(connection)]
        yield from (((self.sites.site_of(a), fold(a, self.policy).key), a.query) for a in spelled)

    def _session_paths(self) -> list[tuple[int, str]]:
        with self.ledger.reading() as connection:
            return sessions_in_paths(connection)

    @cached_property
    def expected(self) -> ExpectedOutcomes:
        """What requests must show."""
        return ExpectedOutcomes(
            self.sites,
            self.policy,
            self.by_key,
            self.around.canonicalised,
            lambda: self.compiled.kept_as,
            self._fold_request_path,
        )

    def _fold_request_path(self, path: str) -> str:
        return self.compiled.rules.fold_request_path(path)
