"""Tracing without a server: a request through the rule set, hop by hop, to a page of the stock."""

from __future__ import annotations

from collections.abc import Mapping

from upright_ledger.core.addresses import Address, parse_address
from upright_ledger.core.checks import StockPage
from upright_ledger.core.destinations import page_key
from upright_ledger.core.rules import RuleSet
from upright_ledger.core.sites import Sites
from upright_ledger.core.verdicts import MAX_HOPS, REDIRECTS, Hop, Trace, changed_between


def trace_offline(start: Address, rules: RuleSet, sites: Sites, stock: Mapping[str, StockPage]) -> Trace:
    """Follow one request through the rules as a server with this stock of pages would answer.

    Where nothing is known of a page a rule leads to, the final status is 0.
    """
    hops: list[Hop] = []
    address = start
    seen = {start.without_fragment}
    while len(hops) <= MAX_HOPS:
        status, location = _respond(address, rules, sites, stock, moved=bool(hops))
        if status not in REDIRECTS or not location:
            hops.append(Hop(address.without_fragment, status))
            return Trace(start.without_fragment, _known(hops), address.text, status)
        following = parse_address(location)
        hops.append(
            Hop(address.without_fragment, status, location, following.text, changed_between(address, following))
        )
        address = following
        if address.without_fragment in seen:
            break
        seen.add(address.without_fragment)
    return Trace(start.without_fragment, tuple(hops), address.text, 0, loops=True)


def _respond(
    address: Address, rules: RuleSet, sites: Sites, stock: Mapping[str, StockPage], *, moved: bool
) -> tuple[int, str]:
    answer = rules.answer(address.authority, address.target, address.scheme)
    if answer is not None:
        return answer.status, answer.location
    page = _page(address, stock)
    if page is not None and sites.is_new(address):
        return page.status or 200, page.redirects_to
    return (0, "") if moved and sites.is_new(address) else (404, "")


def _page(address: Address, stock: Mapping[str, StockPage]) -> StockPage | None:
    """The stocked page at an address, whatever the scheme; its query counts only where the stock says so."""
    for scheme in ("https", "http"):
        for query in dict.fromkeys((address.query, "")):
            page = stock.get(page_key(Address(scheme, address.host, address.port, address.path, query)))
            if page is not None:
                return page
    return None


def _known(hops: list[Hop]) -> tuple[Hop, ...]:
    """The hops without a last one of which nothing is known."""
    return tuple(hops[:-1] if len(hops) > 1 and hops[-1].status == 0 else hops)
