"""Plans: answers as they were given, before they become rules.

A plan keeps what a rule set cannot hold: two answers for one address, rules onto themselves,
destinations on another site. `checks` looks for faults in plans; `compile_rules` turns the
sound ones into a rule set and names the others.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

from upright_ledger.core.addresses import Address, canonical_path, lower_path, parse_address
from upright_ledger.core.answers import GONE
from upright_ledger.core.destinations import is_safe_destination, page_key
from upright_ledger.core.findings import Finding
from upright_ledger.core.folding import Folded, FoldingPolicy, canonical_value, declared_paths, fold, unanswerable
from upright_ledger.core.rules import CARRY, CARRY_TRACKING, ExactRule, RuleSet
from upright_ledger.core.sites import Sites


@dataclass(frozen=True, slots=True)
class Plan:
    """One answer that asks for a rule.

    old: the legacy address; host_given: whether its host was written by somebody or only assumed.
    destination: empty for 410. meant: a person chose this status for this one entry. where: the
    file and row it came from, or empty.
    """

    old: Address
    site: str
    folded: Folded
    paths: tuple[str, ...]
    status: int
    destination: str
    host_given: bool = True
    meant: bool = False
    where: str = ""
    query: str = CARRY_TRACKING
    label: str = ""

    @property
    def key(self) -> tuple[str, str]:
        return self.site, self.folded.key

    @property
    def legacy_url(self) -> str:
        """How the address is named towards people: as it was written, where that is known."""
        return self.label or self.old.without_fragment

    @property
    def page(self) -> str:
        """The page key of the destination, or "410"."""
        return page_key(parse_address(self.destination)) if self.destination else str(GONE)


def make_plan(
    old: Address,
    site: str,
    policy: FoldingPolicy,
    status: int,
    destination: str,
    *,
    variants: Iterable[str] = (),
    host_given: bool = True,
    meant: bool = False,
    where: str = "",
    label: str = "",
) -> Plan:
    """A plan for one legacy address, with all the spellings its rule will answer."""
    folded = fold(old, policy)
    paths = declared_paths(folded.path, frozenset((*variants, folded.variant)), policy)
    return Plan(old, site, folded, paths, status, destination, host_given, meant, where, label=label)


@dataclass(frozen=True, slots=True)
class HeldBack:
    """An answer that became no rule, and why."""

    legacy_url: str
    kind: str
    reason: str


def compile_rules(
    plans: Iterable[Plan],
    findings: Iterable[Finding],
    sites: Sites,
    policy: FoldingPolicy,
) -> tuple[RuleSet, list[HeldBack]]:
    """The rule set of all sound plans in a fixed order, and what was held back.

    findings: what `checks.check` found in these plans. Loops, conflicts and the like keep an answer
    out; other faults are built as they were decided.
    """
    rules: list[ExactRule] = []
    held: list[HeldBack] = []
    plans = list(plans)
    faults = {f.legacy_url: f.kind for f in findings if f.kind in _REASONS}
    unsound = {p.key: faults[p.legacy_url] for p in plans if p.legacy_url in faults}
    seen: set[tuple[str, str]] = set()
    for plan in sorted(plans, key=lambda p: (p.site, p.folded.key, p.legacy_url)):
        kind = unsound.get(plan.key, "")
        reason = _REASONS.get(kind, "") or _inexpressible(plan, sites, policy)
        if reason:
            held.append(HeldBack(plan.legacy_url, kind or "refused", reason))
        elif plan.key not in seen:
            seen.add(plan.key)
            rules.append(
                ExactRule(
                    plan.site,
                    plan.folded.path,
                    plan.folded.params,
                    plan.paths,
                    plan.status,
                    plan.destination,
                    plan.legacy_url,
                    plan.query,
                ),
            )
    significant = {r.path: names for r in rules if (names := policy.significant_at(r.path)) is not None}
    significant |= policy.significant_by_path
    return RuleSet(
        tuple(rules), dict(sites.site_of_authority), policy.case == "fold", policy.tracking, significant
    ), held


_REASONS = {
    "loop": "it is part of a loop",
    "self": "it leads onto itself",
    "conflict": "two answers claim this address",
    "off-site": "it leads to a host that is none of the new site's",
    "planned": "the page it leads to is not published yet",
}
"""Findings that keep an answer out of a rule set, in words. All other faults are built as decided."""


def _inexpressible(plan: Plan, sites: Sites, policy: FoldingPolicy) -> str:
    """Why no server could execute a plan safely, or an empty string."""
    if reason := unanswerable(plan.old):
        return reason
    if not plan.destination:
        return ""
    if not is_safe_destination(plan.destination):
        return "its destination holds characters that cannot be written safely"
    goal = parse_address(plan.destination)
    if not sites.is_new(goal):
        return "its destination lies on no new origin"
    if goal.authority not in sites.authorities_of(plan.site):
        return ""
    if plan.folded.params and (
        asks_for_itself(plan, goal, policy) or (plan.query == CARRY and _is_same_path(plan, goal, policy))
    ):
        return "it leads onto itself"
    if _is_case_only(plan, goal, policy):
        return "only letter case changes, and servers that fold case cannot tell the two apart"
    return ""


def asks_for_itself(plan: Plan, goal: Address, policy: FoldingPolicy) -> bool:
    """Whether a destination with parameters is one that the plan's own rule would answer again."""
    if not _is_same_path(plan, goal, policy):
        return False
    values: dict[str, str] = {}
    for part in goal.query.split("&"):
        name, _, value = part.partition("=")
        values.setdefault(name, canonical_value(value))
    return all(values.get(name) == value for name, value in plan.folded.params)


def _is_same_path(plan: Plan, goal: Address, policy: FoldingPolicy) -> bool:
    return policy.fold_path(goal.path)[0] == plan.folded.path


def _is_case_only(plan: Plan, goal: Address, policy: FoldingPolicy) -> bool:
    old, new = plan.folded.variant, canonical_path(goal.path)
    return policy.case == "fold" and not plan.folded.params and old != new and lower_path(old) == lower_path(new)
