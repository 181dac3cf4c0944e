"""Checks: faults in answers and their rules, found without any server."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Iterator, Mapping

from upright_ledger.core.checks.context import CheckContext, finding_of
from upright_ledger.core.checks.destination_checks import (
    NO_PAGES,
    check_destination,
    short_text,
    slash_of_plans,
)
from upright_ledger.core.inventory.normalisation import FoldingPolicy, fold
from upright_ledger.core.rules.draft import Plan, asks_for_itself
from upright_ledger.core.rules.finding import Finding, FindingKind, in_order
from upright_ledger.core.severity import Severity
from upright_ledger.core.url.address import Address
from upright_ledger.core.url.destination import differs_by_slash_only, slash_twin
from upright_ledger.core.url.difference import what_changed
from upright_ledger.core.url.request_target import canonical_path, lower_path

CROWD = 25
"""Addresses that lead to one page from which on that is said."""


def check(
    plans: list[Plan], around: CheckContext, plain: Mapping[str, str] = NO_PAGES
) -> list[Finding]:
    """All findings, the gravest kinds first, in a fixed order. plain: see `slash_of_plans`."""
    answers = _Answers(plans, around)
    findings = list(_contested(answers))
    slash = slash_of_plans(plans, around, plain)
    for plan in plans:
        findings += _check_one(plan, answers, slash)
    unique = {(f.kind, f.legacy_url, f.destination): f for f in findings}
    return in_order(unique.values())


def check_crowds(plans: Iterable[Plan], homes: frozenset[str]) -> Iterator[Finding]:
    """Pages to which very many addresses lead: search engines take such moves for missing pages,
    unless the page stands for all of them. Home pages are a finding of their own.
    """
    crowds: dict[str, list[Plan]] = defaultdict(list)
    for plan in plans:
        if plan.destination and plan.page not in homes:
            crowds[plan.page].append(plan)
    for page, members in crowds.items():
        if len(members) >= CROWD:
            first = min(members, key=lambda p: p.legacy_url)
            detail = (
                f"{len(members):,} addresses lead to this one page; does it stand for all of them?"
            )
            yield finding_of(
                FindingKind.MASS_MOVE, first, detail, f"many addresses lead to {short_text(page)}"
            )


class _Answers:
    """The plans by address: first as they were spelled, then as they fold."""

    def __init__(self, plans: list[Plan], around: CheckContext) -> None:
        self.around = around
        self.by_key: dict[tuple[str, str], list[Plan]] = defaultdict(list)
        self._spelled: dict[tuple[str, str, str], Plan] = {}
        for plan in plans:
            self.by_key[plan.key].append(plan)
            self._spelled.setdefault(self._spelling(plan.old, plan.site), plan)

    def _spelling(self, address: Address, site: str) -> tuple[str, str, str]:
        path = canonical_path(address.path)
        return site, lower_path(path) if self.around.policy.folds_case else path, address.query

    def next(self, plan: Plan) -> Plan | None:
        """The plan that answers a plan's destination, when that lies on an old site."""
        goal = plan.goal
        if goal is None:
            return None
        site = self.around.sites.site_of(goal)
        if not site:
            return None
        found = self._spelled.get(self._spelling(goal, site))
        if found is None:
            folded = self.by_key.get((site, fold(goal, self.around.policy).key))
            if not folded:
                return None
            found = folded[0]
        return None if _asks_for_its_goal(goal, found, self.around.policy) else found

    def walk(self, plan: Plan) -> tuple[list[Plan], bool]:
        """The plans a request runs through, beginning with `plan`, and whether they never end."""
        steps, seen = [plan], {id(plan)}
        following = self.next(plan)
        while following is not None:
            if id(following) in seen:
                return steps, True
            seen.add(id(following))
            steps.append(following)
            following = self.next(following)
        return steps, False


def _asks_for_its_goal(asked: Address, plan: Plan, policy: FoldingPolicy) -> bool:
    """Whether a rule would leave this request alone, because it asks for what the rule leads to."""
    goal = plan.goal
    if goal is None:
        return False
    return asked.authority == goal.authority and _comparable(asked, policy) == _comparable(
        goal, policy
    )


def _comparable(address: Address, policy: FoldingPolicy) -> tuple[str, str]:
    path = canonical_path(address.path)
    return lower_path(path) if policy.folds_case else path, address.query


def _contested(answers: _Answers) -> Iterable[Finding]:
    """Two answers for one address; where they differ by the slash alone, that is the fault."""
    for group in answers.by_key.values():
        pages = {plan.page: plan for plan in reversed(group)}
        if len(pages) == 1 and len({p.status for p in group}) == 1:
            continue
        listed = " and ".join(sorted(pages))
        first = group[0]
        if len(pages) == 1:
            statuses = " and ".join(str(s) for s in sorted({p.status for p in group}))
            yield finding_of(
                FindingKind.CONFLICT,
                first,
                f"claimed with the statuses {statuses}; decide on one",
                "two answers for one address",
            )
        elif len(pages) == 2 and differs_by_slash_only(*pages):
            if not any(answers.walk(p)[1] for p in group):
                detail = f"its spellings lead to {listed}: one page, two slash forms"
                yield finding_of(
                    FindingKind.SLASH_MISMATCH,
                    first,
                    detail,
                    "one page is given with and without its slash",
                )
        else:
            yield finding_of(
                FindingKind.CONFLICT,
                first,
                f"claimed by {listed}; decide on one",
                "two answers for one address",
            )


def _check_one(plan: Plan, answers: _Answers, slash: str) -> list[Finding]:
    around = answers.around
    found: list[Finding] = []
    if plan.status in {302, 307}:
        severity = Severity.NOTE if plan.meant else Severity.WARNING
        detail = f"moves for a time only ({plan.status}); use 301 if it is for good"
        found.append(
            finding_of(
                FindingKind.TEMPORARY,
                plan,
                detail,
                f"a temporary status ({plan.status}) where moves are for good",
                severity,
            )
        )
    goal = plan.goal
    if goal is None:
        return found + _hidden_page(plan, around)
    if _is_self(plan, goal, around):
        return [
            *found,
            finding_of(
                FindingKind.SELF,
                plan,
                _onto_itself(plan, goal),
                "a rule onto itself changes nothing",
            ),
        ]
    steps, endless = answers.walk(plan)
    if endless:
        way = " → ".join(_short(p.old) for p in [*steps, answers.next(steps[-1]) or steps[-1]])
        return [
            *found,
            finding_of(
                FindingKind.LOOP,
                plan,
                f"never ends: {way}",
                f"the loop through {_short(_anchor(steps, answers).old)}",
            ),
        ]
    if len(steps) > 1:
        found.append(_chain(plan, steps, around.policy.index_set))
    elif settled := around.canonicalised(goal):
        way = f"{_short(plan.old)} → {plan.destination} → {settled}"
        found.append(
            finding_of(
                FindingKind.CHAIN,
                plan,
                f"{way}; lead it to {settled} at once",
                "the form of the site moves it on",
            )
        )
    else:
        found += check_destination(plan, goal, around, slash)
    if plan.page in around.homes and around.policy.fold_path(plan.old.path)[0] != "/":
        found.append(
            finding_of(
                FindingKind.HOME_FALLBACK,
                plan,
                "leads to the home page; name the page that took its place, or 410",
                "inner pages sent to the home page",
            ),
        )
    return found + _hidden_page(plan, around)


def _anchor(steps: list[Plan], answers: _Answers) -> Plan:
    """One fixed member of the cycle a walk ends in, so that all who lead into it share a cause."""
    back = answers.next(steps[-1])
    start = next(n for n, p in enumerate(steps) if p is back)
    return min(steps[start:], key=lambda p: p.legacy_url)


def _chain(plan: Plan, steps: list[Plan], index_files: frozenset[str]) -> Finding:
    ways = [_short(plan.old), *(short_text(p.destination or "410") for p in steps)]
    end = steps[-1].destination
    advice = (
        f"lead it to {short_text(end)} at once" if end else "it ends in 410: answer it with --gone"
    )
    changed = (
        what_changed(plan.destination, steps[1].destination, index_files)
        if steps[1].destination
        else ()
    )
    if changed == ("slash",):
        cause = "one missing slash" if steps[1].destination.endswith("/") else "one slash too many"
    elif steps[1].imported and steps[1].where:
        cause = f"the rule of {steps[1].where} moves them on"
    else:
        cause = f"the rule of {_short(steps[1].old)} moves it on"
    return finding_of(FindingKind.CHAIN, plan, f"{' → '.join(ways)}; {advice}", cause)


def _is_self(plan: Plan, goal: Address, around: CheckContext) -> bool:
    same_host = plan.old.authority == goal.authority
    if not same_host and not plan.host_given:
        same_host = goal.authority in around.sites.authorities_of(plan.site)
    if not same_host:
        return False
    if plan.folded.params:
        return asks_for_itself(plan, goal, around.policy)
    return _comparable(plan.old, around.policy) == _comparable(goal, around.policy)


def _onto_itself(plan: Plan, goal: Address) -> str:
    """What to do about a rule onto itself: letter case is settled for a whole site, or not."""
    written = plan.old.path
    if written != goal.path and written.lower().rstrip("/") == goal.path.lower().rstrip("/"):
        return (
            "leads onto itself but for its letter case; lower_case in [form], and a canonical "
            "origin of its [[site]], settle that for all addresses"
        )
    return "leads onto itself; answer it with --keep"


def _hidden_page(plan: Plan, around: CheckContext) -> list[Finding]:
    """A rule whose address is a live page of the new site: the page could never be seen."""
    if plan.folded.params or not around.stock:
        return []
    for origin in around.sites.shared_origins(plan.site):
        for path in plan.paths:
            key = f"{origin}{path}"
            page = around.stock.get(key)
            if page and page.status == 200 and key != plan.page and slash_twin(key) != plan.page:
                return [
                    finding_of(
                        FindingKind.SOURCE_LIVE,
                        plan,
                        f"hides the live page {key}",
                        "rules that hide live pages",
                    )
                ]
    return []


def _short(address: Address) -> str:
    return address.target
