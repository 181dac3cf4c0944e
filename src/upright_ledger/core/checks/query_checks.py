"""Checks of what becomes of queries: parameters that no longer choose a page, and campaigns that a
rule drops.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Iterator

from upright_ledger.core.checks.context import finding_of
from upright_ledger.core.inventory.answer import AnswerKind
from upright_ledger.core.inventory.normalisation import FoldingPolicy
from upright_ledger.core.rules.draft import Plan
from upright_ledger.core.rules.finding import Finding, FindingKind
from upright_ledger.core.url.query import QueryPolicy

ENOUGH = 3
"""Values of a parameter, all sent to one page, from which on that is said."""

_KIND = FindingKind.QUERY_LOST


def check_choices(plans: Iterable[Plan]) -> Iterator[Finding]:
    """Paths whose parameters chose a page on the old site, and choose nothing any more: all their
    values lead to one page.
    """
    by_path: dict[tuple[str, str], list[Plan]] = defaultdict(list)
    for plan in plans:
        if plan.folded.params:
            by_path[plan.site, plan.folded.path].append(plan)
    for (_, path), members in by_path.items():
        pages = {p.page for p in members}
        if (
            len({p.folded.params for p in members}) < ENOUGH
            or len(pages) > 1
            or pages == {str(AnswerKind.GONE)}
        ):
            continue
        names = ", ".join(sorted({name for p in members for name, _ in p.folded.params}))
        first = min(members, key=lambda p: p.legacy_url)
        detail = (
            f"all {len(members):,} values of {names} lead to one page; name the page of each, or "
            f"answer {path} as a whole"
        )
        yield finding_of(_KIND, first, detail, f"{names} no longer chooses a page at {path}")


def check_campaigns(
    plans: Iterable[Plan], queries: Iterable[tuple[tuple[str, str], str]], policy: FoldingPolicy
) -> Iterator[Finding]:
    """Rules that drop campaign parameters with which their addresses were seen. queries: key of an
    entry, and a query it was seen with.
    """
    dropping = {p.key: p for p in plans if p.query == QueryPolicy.DROP and p.destination}
    seen: dict[tuple[str, str], set[str]] = defaultdict(set)
    for key, query in queries if dropping else ():
        if key in dropping:
            given = (part.partition("=")[0] for part in query.split("&"))
            seen[key] |= {name for name in given if name in policy.tracking}
    for key, names in seen.items():
        if names:
            listed = ", ".join(sorted(names))
            detail = (
                f"was seen with {listed}, which its rule drops; carry-tracking keeps campaigns "
                "apart"
            )
            yield finding_of(_KIND, dropping[key], detail, f"rules that drop {listed}")
