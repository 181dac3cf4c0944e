"""Answers of entries that nobody decided: those of templates and imported rules, and of pages that
live on.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from functools import cached_property
from typing import NamedTuple

from upright_ledger.core.inventory.answer import AnsweredBy, AnswerKind, Decision, usual
from upright_ledger.core.inventory.normalisation import FoldingPolicy
from upright_ledger.core.rules.compiler import make_template
from upright_ledger.core.rules.imported.blocks import Block
from upright_ledger.core.rules.kept_pages import lives_on
from upright_ledger.core.rules.rule_answers import RuleAnswers
from upright_ledger.core.rules.target_pages import StockPage
from upright_ledger.core.url.address import Address, address_of
from upright_ledger.core.url.destination import page_key
from upright_ledger.core.url.origins import Sites
from upright_ledger.core.url.query import QueryPolicy
from upright_ledger.ledger.db.connection import Connection
from upright_ledger.ledger.tables.imported_rules import load_imported
from upright_ledger.ledger.tables.stock import Destination, StockState, load_stock, stocked_as
from upright_ledger.ledger.tables.templates import load_templates

_FEW = 500
"""Entries for which pages are looked up one by one; for more, the whole stock is read."""


class Given(NamedTuple):
    """The answer that an entry has without one of its own."""

    entry: int
    answer: Decision
    by: AnsweredBy
    where: str
    query: QueryPolicy


class Unanswered(NamedTuple):
    """An entry without an answer of its own. answered: a log saw it answer with its page."""

    entry: int
    site: str
    legacy_url: str
    answered: bool


def rule_answers(connection: Connection, sites: Sites, policy: FoldingPolicy) -> RuleAnswers:
    """What templates and imported rules answer."""
    templates = [
        make_template(
            t.site,
            t.source,
            t.status,
            t.destination,
            sites.base_of(t.site) + t.source,
            fold=policy.folds_case,
            query=t.query,
        )
        for t in load_templates(connection)
    ]
    return RuleAnswers(sites, policy, templates, tuple(map(Block, load_imported(connection))))


def stock_page(page: Destination) -> StockPage:
    """What rules need to know of a page."""
    return StockPage(page.status, page.redirects_to, planned=page.state == StockState.PLANNED)


class GivenAnswers:
    """Works out the answers of entries that have none of their own."""

    def __init__(self, connection: Connection, sites: Sites, policy: FoldingPolicy) -> None:
        self._connection, self._sites, self._policy = connection, sites, policy

    @cached_property
    def _rules(self) -> RuleAnswers:
        return rule_answers(self._connection, self._sites, self._policy)

    def of(self, entries: Iterable[Unanswered]) -> Iterator[Given]:
        """The answers of those entries that are given one."""
        entries = list(entries)
        page = self._pages(len(entries))
        for e in entries:
            if self._sites.shared_origins(e.site) and lives_on(
                e.legacy_url, self._sites, page, answered=e.answered
            ):
                kept = usual(AnswerKind.KEEP)
                yield Given(e.entry, kept, AnsweredBy.STOCK, "", QueryPolicy.CARRY_TRACKING)
                continue
            if not self._rules or self._is_live(address := address_of(e.legacy_url), page):
                continue
            if (ruled := self._rules.answer(address)) is not None:
                query = ruled.query or QueryPolicy.CARRY_TRACKING
                yield Given(e.entry, ruled.answer, ruled.by, ruled.where, query)

    def _pages(self, entries: int) -> Callable[[str], StockPage | None]:
        """Page key → what the stock says of it."""
        if entries > _FEW:
            stock = load_stock(self._connection)
            return lambda page: stock_page(stock[page]) if page in stock else None
        return self._one_page

    def _one_page(self, page: str) -> StockPage | None:
        found = stocked_as(self._connection, page)
        return stock_page(found) if found is not None else None

    def _is_live(self, address: Address, page: Callable[[str], StockPage | None]) -> bool:
        """Whether an old address is a page of the new site, on a host that both share."""
        if not self._sites.is_new(address):
            return False
        found = (page(page_key(address._replace(scheme=s))) for s in ("https", "http"))
        return any(p is not None and p.status < 300 for p in found)
