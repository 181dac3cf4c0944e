"""Checks: faults in answers and their rules, found without any server."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass

from upright_ledger.core.inventory.normalisation import FoldingPolicy, fold
from upright_ledger.core.rules.canonical_form import CanonicalForm, form_of
from upright_ledger.core.rules.draft import Plan, asks_for_itself
from upright_ledger.core.rules.finding import NOTE, SEVERITIES, WARNING, Finding, in_order
from upright_ledger.core.rules.target_pages import StockPage
from upright_ledger.core.url.address import Address, canonical_path, lower_path, names_file, parse_address
from upright_ledger.core.url.destination import differs_by_slash_only, page_key, slash_twin
from upright_ledger.core.url.difference import what_changed
from upright_ledger.core.url.origins import Sites

CROWD = 25
"""Addresses that lead to one page from which on that is said."""

INFER_SHARE = 0.8
INFER_LEAST = 10


@dataclass(frozen=True, slots=True)
class Surroundings:
    """What plans are checked against.

    stock: page key → page, empty when no stock was taken. slash: "always", "never" or "as-stock". forms: what sites settle for all their addresses.
    """

    sites: Sites
    policy: FoldingPolicy
    stock: Mapping[str, StockPage]
    homes: frozenset[str]
    slash: str = "as-stock"
    forms: tuple[CanonicalForm, ...] = ()

    def settled(self, goal: Address) -> str:
        """Where the form of an old site would move a destination, or an empty string."""
        form = form_of(self.forms, self.sites.site_of(goal)) if self.forms else None
        return form.settled(goal.authority, goal.target, goal.scheme) if form else ""


def check(plans: list[Plan], around: Surroundings) -> list[Finding]:
    """All findings, the gravest kinds first, in a fixed order."""
    book = _Book(plans, around)
    findings = list(_contested(book))
    slash = _slash_rule(plans, around)
    for plan in plans:
        findings += _check_one(plan, book, slash)
    unique = {(f.kind, f.legacy_url, f.destination): f for f in findings}
    return in_order(unique.values())


def check_crowds(plans: Iterable[Plan], homes: frozenset[str]) -> Iterator[Finding]:
    """Pages to which very many addresses lead: search engines take such moves for missing pages, unless the page stands for all of them. Home pages
    are a finding of their own.
    """
    crowds: dict[str, list[Plan]] = defaultdict(list)
    for plan in plans:
        if plan.destination and plan.page not in homes:
            crowds[plan.page].append(plan)
    for page, members in crowds.items():
        if len(members) >= CROWD:
            first = min(members, key=lambda p: p.legacy_url)
            detail = f"{len(members):,} addresses lead to this one page; does it stand for all of them?"
            yield finding_of("mass-move", first, detail, f"many addresses lead to {_short_text(page)}")


def finding_of(kind: str, plan: Plan, detail: str, cause: str, severity: str = "") -> Finding:
    """A finding about a plan, with the file and row that it came from."""
    where = f" ({plan.where})" if plan.where else ""
    return Finding(kind, severity or SEVERITIES[kind], plan.legacy_url, plan.destination, detail + where, cause)


class _Book:
    """The plans by address: first as they were spelled, then as they fold."""

    def __init__(self, plans: list[Plan], around: Surroundings) -> None:
        self.around = around
        self.by_key: dict[tuple[str, str], list[Plan]] = defaultdict(list)
        self._spelled: dict[tuple[str, str, str], Plan] = {}
        for plan in plans:
            self.by_key[plan.key].append(plan)
            self._spelled.setdefault(self._spelling(plan.old, plan.site), plan)

    def _spelling(self, address: Address, site: str) -> tuple[str, str, str]:
        path = canonical_path(address.path)
        return site, lower_path(path) if self.around.policy.case == "fold" else path, address.query

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
    return asked.authority == goal.authority and _comparable(asked, policy) == _comparable(goal, policy)


def _comparable(address: Address, policy: FoldingPolicy) -> tuple[str, str]:
    path = canonical_path(address.path)
    return lower_path(path) if policy.case == "fold" else path, address.query


def _contested(book: _Book) -> Iterable[Finding]:
    """Two answers for one address; where they differ by the slash alone, that is the fault."""
    for group in book.by_key.values():
        pages = {plan.page: plan for plan in reversed(group)}
        if len(pages) == 1 and len({p.status for p in group}) == 1:
            continue
        listed = " and ".join(sorted(pages))
        first = group[0]
        if len(pages) == 1:
            statuses = " and ".join(str(s) for s in sorted({p.status for p in group}))
            yield finding_of(
                "conflict", first, f"claimed with the statuses {statuses}; decide on one", "two answers for one address"
            )
        elif len(pages) == 2 and differs_by_slash_only(*pages):
            if not any(book.walk(p)[1] for p in group):
                detail = f"its spellings lead to {listed}: one page, two slash forms"
                yield finding_of("slash-mismatch", first, detail, "one page is given with and without its slash")
        else:
            yield finding_of("conflict", first, f"claimed by {listed}; decide on one", "two answers for one address")


def _check_one(plan: Plan, book: _Book, slash: str) -> list[Finding]:
    around = book.around
    found: list[Finding] = []
    if plan.status in {302, 307}:
        severity = NOTE if plan.meant else WARNING
        detail = f"moves for a time only ({plan.status}); use 301 if it is for good"
        found.append(
            finding_of(
                "temporary", plan, detail, f"a temporary status ({plan.status}) where moves are for good", severity
            )
        )
    goal = plan.goal
    if goal is None:
        return found + _hidden_page(plan, around)
    if _is_self(plan, goal, around):
        return [
            *found,
            finding_of("self", plan, "leads onto itself; answer it with --keep", "a rule onto itself changes nothing"),
        ]
    steps, endless = book.walk(plan)
    if endless:
        way = " → ".join(_short(p.old) for p in [*steps, book.next(steps[-1]) or steps[-1]])
        return [
            *found,
            finding_of("loop", plan, f"never ends: {way}", f"the loop through {_short(_anchor(steps, book).old)}"),
        ]
    if len(steps) > 1:
        found.append(_chain(plan, steps, around.policy.index_set))
    elif settled := around.settled(goal):
        way = f"{_short(plan.old)} → {plan.destination} → {settled}"
        found.append(
            finding_of("chain", plan, f"{way}; lead it to {settled} at once", "the form of the site moves it on")
        )
    else:
        found += _check_goal(plan, goal, around, slash)
    if plan.page in around.homes and around.policy.fold_path(plan.old.path)[0] != "/":
        found.append(
            finding_of(
                "home-fallback",
                plan,
                "leads to the home page; name the page that took its place, or 410",
                "inner pages sent to the home page",
            ),
        )
    return found + _hidden_page(plan, around)


def _anchor(steps: list[Plan], book: _Book) -> Plan:
    """One fixed member of the cycle a walk ends in, so that all who lead into it share a cause."""
    back = book.next(steps[-1])
    start = next(n for n, p in enumerate(steps) if p is back)
    return min(steps[start:], key=lambda p: p.legacy_url)


def _chain(plan: Plan, steps: list[Plan], index_files: frozenset[str]) -> Finding:
    ways = [_short(plan.old), *(_short_text(p.destination or "410") for p in steps)]
    end = steps[-1].destination
    advice = f"lead it to {_short_text(end)} at once" if end else "it ends in 410: answer it with --gone"
    changed = what_changed(plan.destination, steps[1].destination, index_files) if steps[1].destination else ()
    if changed == ("slash",):
        cause = "one missing slash" if steps[1].destination.endswith("/") else "one slash too many"
    elif steps[1].imported and steps[1].where:
        cause = f"the rule of {steps[1].where} moves them on"
    else:
        cause = f"the rule of {_short(steps[1].old)} moves it on"
    return finding_of("chain", plan, f"{' → '.join(ways)}; {advice}", cause)


def _check_goal(plan: Plan, goal: Address, around: Surroundings, slash: str) -> list[Finding]:
    """Check where a plan ends at once: the host, the page, and its slash."""
    sites = around.sites
    if not sites.is_new(goal):
        if sites.site_of(goal):
            detail = f"ends on the old site at {plan.destination}, where no rule answers"
        else:
            detail = f"{goal.authority} is no declared new origin"
        return [finding_of("off-site", plan, detail, f"destinations on {goal.authority}")]
    key = plan.page
    page = around.stock.get(key) or around.stock.get(
        page_key(Address(goal.scheme, goal.host, goal.port, goal.path, ""))
    )
    wrong = _against_policy(goal, slash)
    twin = around.stock.get(slash_twin(key)) if page is None and around.stock else None
    if wrong or (twin is not None and twin.status < 300):
        cause = wrong or ("one missing slash" if slash_twin(key).endswith("/") else "one slash too many")
        return [finding_of("slash-mismatch", plan, f"the site has this page as {slash_twin(key)}", cause)]
    if not around.stock:
        return []
    if page is None and (other := _other_scheme(key)) in around.stock:
        detail = f"the stock has this page as {other}: its scheme alone is wrong"
        return [
            finding_of(
                "unknown-destination",
                plan,
                detail,
                f"destinations on {goal.scheme} in place of {other.partition(':')[0]}",
            )
        ]
    if page is None:
        return [
            finding_of(
                "unknown-destination",
                plan,
                "not in the stock of new pages",
                f"no page {_short_text(plan.destination)} in stock",
            )
        ]
    if page.planned:
        return [finding_of("planned", plan, "the page is planned and not published yet", "pages still to be published")]
    if 300 <= page.status < 400:
        to = f" to {page.redirects_to}" if page.redirects_to else ""
        return [
            finding_of(
                "redirecting-destination",
                plan,
                f"answers {page.status}{to} itself",
                f"{_short_text(plan.destination)} redirects itself",
            )
        ]
    if page.status >= 400:
        return [
            finding_of(
                "dead-destination",
                plan,
                f"answers {page.status}",
                f"{_short_text(plan.destination)} answers {page.status}",
            )
        ]
    return []


def _other_scheme(key: str) -> str:
    return f"http{key[5:]}" if key.startswith("https") else f"https{key[4:]}"


def _against_policy(goal: Address, slash: str) -> str:
    """What is wrong with a destination's slash under a policy, or an empty string."""
    if slash not in {"always", "never"} or goal.path == "/" or names_file(goal.path):
        return ""
    if slash == "always" and not goal.path.endswith("/"):
        return "one missing slash"
    if slash == "never" and goal.path.endswith("/"):
        return "one slash too many"
    return ""


def _slash_rule(plans: list[Plan], around: Surroundings) -> str:
    """The policy to hold destinations against. Without a stock it is read off the destinations themselves.

    Only a clear habit counts: at least ten pages, four in five of them alike.
    """
    if around.slash != "as-stock" or around.stock:
        return around.slash
    goals = {p.page: p.goal for p in plans if p.goal is not None}
    pages = [g for g in goals.values() if g.path != "/" and not names_file(g.path)]
    if len(pages) < INFER_LEAST:
        return around.slash
    share = sum(1 for g in pages if g.path.endswith("/")) / len(pages)
    if share >= INFER_SHARE:
        return "always"
    return "never" if share <= 1 - INFER_SHARE else around.slash


def _is_self(plan: Plan, goal: Address, around: Surroundings) -> bool:
    same_host = plan.old.authority == goal.authority
    if not same_host and not plan.host_given:
        same_host = goal.authority in around.sites.authorities_of(plan.site)
    if not same_host:
        return False
    if plan.folded.params:
        return asks_for_itself(plan, goal, around.policy)
    return _comparable(plan.old, around.policy) == _comparable(goal, around.policy)


def _hidden_page(plan: Plan, around: Surroundings) -> list[Finding]:
    """A rule whose address is a live page of the new site: the page could never be seen."""
    if plan.folded.params or not around.stock:
        return []
    for origin in around.sites.shared_origins(plan.site):
        for path in plan.paths:
            key = f"{origin}{path}"
            page = around.stock.get(key)
            if page and page.status == 200 and key != plan.page and slash_twin(key) != plan.page:
                return [finding_of("source-live", plan, f"hides the live page {key}", "rules that hide live pages")]
    return []


def _short(address: Address) -> str:
    return address.target


def _short_text(url: str) -> str:
    """A destination as people speak of it: without scheme and host."""
    return parse_address(url).target if "://" in url else url
