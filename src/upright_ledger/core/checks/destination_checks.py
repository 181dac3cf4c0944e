"""Faults in where an answer leads: pages that are not there, closing slashes, schemes."""

from __future__ import annotations

from collections.abc import Iterable, Mapping

from upright_ledger.core.checks.context import CheckContext, finding_of
from upright_ledger.core.rules.draft import Plan
from upright_ledger.core.rules.finding import Finding, FindingKind
from upright_ledger.core.url.address import Address, parse_address
from upright_ledger.core.url.destination import page_key, slash_twin
from upright_ledger.core.url.request_target import names_file

INFER_SHARE = 0.8


INFER_LEAST = 10


NO_PAGES: Mapping[str, str] = {}


def check_destination(plan: Plan, goal: Address, around: CheckContext, slash: str) -> list[Finding]:
    """Check where a plan ends at once: the host, the page, and its slash."""
    sites = around.sites
    if not sites.is_new(goal):
        if sites.site_of(goal):
            detail = f"ends on the old site at {plan.destination}, where no rule answers"
        else:
            detail = f"{goal.authority} is no declared new origin"
        return [finding_of(FindingKind.OFF_SITE, plan, detail, f"destinations on {goal.authority}")]
    key = plan.page
    page = around.stock.get(key) or around.stock.get(
        page_key(Address(goal.scheme, goal.host, goal.port, goal.path, ""))
    )
    wrong = against_policy(goal.path, slash)
    twin = around.stock.get(slash_twin(key)) if page is None and around.stock else None
    if wrong or (twin is not None and twin.status < 300):
        cause = wrong or (
            "one missing slash" if slash_twin(key).endswith("/") else "one slash too many"
        )
        return [
            finding_of(
                FindingKind.SLASH_MISMATCH,
                plan,
                f"the site has this page as {slash_twin(key)}",
                cause,
            )
        ]
    if not around.stock:
        return []
    if page is None and (other := _other_scheme(key)) in around.stock:
        detail = f"the stock has this page as {other}: its scheme alone is wrong"
        return [
            finding_of(
                FindingKind.UNKNOWN_DESTINATION,
                plan,
                detail,
                f"destinations on {goal.scheme} in place of {other.partition(':')[0]}",
            )
        ]
    if page is None:
        return [
            finding_of(
                FindingKind.UNKNOWN_DESTINATION,
                plan,
                "not in the stock of new pages",
                f"no page {short_text(plan.destination)} in stock",
            )
        ]
    if page.planned:
        return [
            finding_of(
                FindingKind.PLANNED,
                plan,
                "the page is planned and not published yet",
                "pages still to be published",
            )
        ]
    if 300 <= page.status < 400:
        to = f" to {page.redirects_to}" if page.redirects_to else ""
        return [
            finding_of(
                FindingKind.REDIRECTING_DESTINATION,
                plan,
                f"answers {page.status}{to} itself",
                f"{short_text(plan.destination)} redirects itself",
            )
        ]
    if page.status >= 400:
        return [
            finding_of(
                FindingKind.DEAD_DESTINATION,
                plan,
                f"answers {page.status}",
                f"{short_text(plan.destination)} answers {page.status}",
            )
        ]
    return []


def _other_scheme(key: str) -> str:
    return f"http{key[5:]}" if key.startswith("https") else f"https{key[4:]}"


def against_policy(path: str, slash: str) -> str:
    """What is wrong with the slash of a destination's path under a policy, or an empty string."""
    if slash not in {"always", "never"} or path == "/" or names_file(path):
        return ""
    if slash == "always" and not path.endswith("/"):
        return "one missing slash"
    if slash == "never" and path.endswith("/"):
        return "one slash too many"
    return ""


def slash_of_plans(
    plans: Iterable[Plan], around: CheckContext, plain: Mapping[str, str] = NO_PAGES
) -> str:
    """The policy to hold destinations against. Without a stock it is read off the destinations
    themselves. plain: page key → path of destinations of which there is no plan.

    Only a clear habit counts: at least ten pages, four in five of them alike.
    """
    if around.slash != "as-stock" or around.stock:
        return around.slash
    paths = {**plain, **{p.page: p.goal.path for p in plans if p.goal is not None}}
    pages = [path for path in paths.values() if path != "/" and not names_file(path)]
    if len(pages) < INFER_LEAST:
        return around.slash
    share = sum(1 for path in pages if path.endswith("/")) / len(pages)
    if share >= INFER_SHARE:
        return "always"
    return "never" if 1 - share >= INFER_SHARE else around.slash


def short_text(url: str) -> str:
    """A destination as people speak of it: without scheme and host."""
    return parse_address(url).target if "://" in url else url
