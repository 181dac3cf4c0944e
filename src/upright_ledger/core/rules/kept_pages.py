"""Pages that are kept: what their other spellings lead to."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import replace

from upright_ledger.core.inventory.entry import Entry
from upright_ledger.core.inventory.normalisation import FoldingPolicy, fold
from upright_ledger.core.rules.draft import Plan, make_plan
from upright_ledger.core.rules.target_pages import StockPage
from upright_ledger.core.url.address import address_of
from upright_ledger.core.url.destination import page_key
from upright_ledger.core.url.origins import Sites
from upright_ledger.core.url.request_target import lower_path

KEPT_AS = "another spelling of a page that is kept"
"""Where such a plan comes from."""


def lives_on(
    legacy_url: str, sites: Sites, page_at: Callable[[str], StockPage | None], *, answered: bool
) -> bool:
    """Whether an entry is a page of the new site, on a host that both sites share: the stock says
    that it answers, and so does a log (`answered`). page_at: page key → what the stock says.
    """
    page = address_of(legacy_url)
    if not answered or not sites.is_new(page):
        return False
    found = (page_at(page_key(page._replace(scheme=scheme))) for scheme in ("https", "http"))
    return any(d is not None and d.status == 200 and not d.planned for d in found)


def plan_of_kept(
    entry: Entry, sites: Sites, policy: FoldingPolicy, stock: Mapping[str, StockPage]
) -> Plan | None:
    """What the other spellings of a page that is kept lead to, such as its index file: the page
    itself, on a host that both sites share.

    Its slash and case twins, and spellings that are pages of the new site themselves, are the new
    site's to answer.
    """
    shared = sites.shared_origins(entry.site)
    page = address_of(entry.legacy_url)
    if not shared:
        return None
    _, mark, query = entry.key.partition("?")
    own_pages = (v for v in entry.variants if any(f"{o}{v}{mark}{query}" in stock for o in shared))
    twins = {path.lower().rstrip("/") for path in (page.path, *own_pages)}
    odd = [v for v in entry.variants if v.lower().rstrip("/") not in twins]
    if not odd:
        return None
    # A page that its parameters choose is asked for with them, and keeps them.
    old = page._replace(path=odd[0])
    plan = make_plan(
        old,
        entry.site,
        policy,
        301,
        f"{shared[0]}{page.path}{mark}{query}",
        variants=entry.variants,
        host_given=True,
        where=KEPT_AS,
    )
    own = sorted({lower_path(v) if policy.folds_case else v for v in odd})
    folded = fold(old, policy)._replace(path=own[0])
    return replace(plan, folded=folded if query else folded._replace(params=()), paths=tuple(own))
