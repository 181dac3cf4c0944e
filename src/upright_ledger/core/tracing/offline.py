"""Tracing without a server: a request through the rule set, hop by hop, to a page of the stock."""

from __future__ import annotations

from upright_ledger.core.rules.ruleset import RuleSet
from upright_ledger.core.rules.target_pages import Pages
from upright_ledger.core.tracing.trace import MAX_HOPS, REDIRECTS, Hop, Trace
from upright_ledger.core.url.address import Address, parse_address
from upright_ledger.core.url.difference import changed_between
from upright_ledger.core.url.origins import Sites


def trace_offline(
    start: Address, rules: RuleSet, sites: Sites, pages: Pages, index_files: frozenset[str]
) -> Trace:
    """Follow one request through the rules as a server with this stock of pages would answer.
    index_files: their names, see `what_changed`.

    Where nothing is known of a page a rule leads to, the final status is 0.
    """
    hops: list[Hop] = []
    address = start
    seen = {start.without_fragment}
    while len(hops) <= MAX_HOPS:
        status, location = _respond(address, rules, sites, pages, moved=bool(hops))
        if status not in REDIRECTS or not location:
            hops.append(Hop(address.without_fragment, status))
            return Trace(start.without_fragment, _known(hops), address.text, status)
        following = parse_address(location)
        hops.append(
            Hop(
                address.without_fragment,
                status,
                location,
                following.text,
                changed_between(address, following, index_files),
            )
        )
        address = following
        if address.without_fragment in seen:
            break
        seen.add(address.without_fragment)
    return Trace(start.without_fragment, tuple(hops), address.text, 0, loops=True)


def _respond(
    address: Address, rules: RuleSet, sites: Sites, pages: Pages, *, moved: bool
) -> tuple[int, str]:
    """Status and location of one answer; status 0 where nothing is known of a page to which a rule
    has led (`moved`).
    """
    answer = rules.answer(address.authority, address.target, address.scheme)
    if answer is not None:
        return answer.status, answer.location
    page = pages.at(address)
    if page is not None:
        return page.status or 200, page.redirects_to
    return (0, "") if moved and sites.is_new(address) else (404, "")


def _known(hops: list[Hop]) -> tuple[Hop, ...]:
    """The hops without a last one of which nothing is known."""
    return tuple(hops[:-1] if len(hops) > 1 and hops[-1].status == 0 else hops)
