"""The short way for plain answers: what most answers are, and in which nothing can be wrong,
becomes a rule at once.

An answer is plain where its address and its destination are spelled so simply that nothing is
folded but letter case, index file and slash, its page is in stock, and nothing else has to do with
it. All others take the careful way, by `make_plan` and `check`; a property test holds both equal.
"""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Callable, Iterable, Iterator
from typing import NamedTuple

from upright_ledger.core.checks.context import CheckContext
from upright_ledger.core.checks.destination_checks import against_policy, slash_of_plans
from upright_ledger.core.checks.rule_checks import CROWD
from upright_ledger.core.inventory.normalisation import SIMPLE_PATH, fold
from upright_ledger.core.rules.draft import Plan
from upright_ledger.core.rules.exact_rule import GONE, ExactRule
from upright_ledger.core.url.address import NotAnAddressError, parse_address
from upright_ledger.core.url.destination import slash_twin
from upright_ledger.core.url.query import QueryPolicy
from upright_ledger.core.url.request_target import canonical_path, lower_path, names_file

STATUSES = frozenset({301, 308, GONE})
"""Those of plain answers: moves for a time are a finding."""
_LONGEST = 2_000  # characters of a path
_QUERIES = {str(policy): policy for policy in QueryPolicy}

Key = tuple[str, str]
"""Site and key of an entry."""


class Told(NamedTuple):
    """An answer that may be plain, of an entry with one variant at most, which nothing contests,
    and no parameters. old: the address as it was given with the answer, or empty; url: by which the
    entry is called: its variant, where it has one.
    """

    entry: int
    site: str
    key: str
    url: str
    variants: int
    status: int
    destination: str
    query: str
    old: str


class _Sound(NamedTuple):
    """goal: what would answer the destination, where that lies on an old site, and by which path it
    is asked for there.
    """

    rule: ExactRule
    entry: int
    goal: tuple[Key, Key] | None


class ShortWay:
    """Plain answers as rules. doubtful: entries of all others among those that were told."""

    def __init__(self, around: CheckContext, told: Iterable[Told]) -> None:
        self.doubtful: list[int] = []
        self._around = around
        self._shared = around.sites.shared_origins
        self._origins: dict[str, tuple[bool, str]] = {}
        self._found: dict[Key, _Sound] = {}
        self.pages: dict[str, str] = {}
        """Page key → path of all destinations that were looked at."""
        for t in told:
            sound = self._sound(t)
            if sound is None:
                self.doubtful.append(t.entry)
            else:
                self._found[t.site, t.key] = sound

    @property
    def rules(self) -> Iterator[ExactRule]:
        """The rules of plain answers."""
        return (sound.rule for sound in self._found.values())

    def __len__(self) -> int:
        return len(self._found)

    def part(self, plans: list[Plan], plans_of: Callable[[list[int]], list[Plan]]) -> None:
        """Take out what has to do with another answer. plans: of the careful way; plans_of: lets
        entries take it, too.
        """
        known, named = {plan.key for plan in plans}, {plan.legacy_url for plan in plans}
        spelled = {self._spelling(plan) for plan in plans if not plan.old.query}
        pages = Counter(sound.rule.destination for sound in self._found.values())
        pages.update(plan.page for plan in plans)
        crowded = {page for page, n in pages.items() if n >= CROWD and page}
        slash = slash_of_plans(plans, self._around, self.pages)
        odd = {page for page, path in self.pages.items() if against_policy(path, slash)}
        met = [
            key
            for key, sound in self._found.items()
            if key in known
            or sound.rule.legacy_url in named
            or sound.rule.destination in crowded
            or sound.rule.destination in odd
            or (sound.goal is not None and self._is_answered(*sound.goal, known, spelled))
        ]
        plans = [*plans, *plans_of([self._found.pop(key).entry for key in met])]
        # What leads to a plain answer is looked at together with it.
        ends = {key for plan in plans if (key := self._goal_of(plan)) in self._found}
        plans_of([self._found.pop(key).entry for key in sorted(ends)])

    def _is_answered(self, goal: Key, asked: Key, known: set[Key], spelled: set[Key]) -> bool:
        """Whether a destination on an old site is one that a rule answers."""
        return goal in self._found or goal in known or asked in spelled

    def _spelling(self, plan: Plan) -> Key:
        return plan.site, self._folded(canonical_path(plan.old.path))

    def _folded(self, path: str) -> str:
        return lower_path(path) if self._around.policy.folds_case else path

    def _goal_of(self, plan: Plan) -> Key:
        goal = plan.goal
        site = self._around.sites.site_of(goal) if goal is not None else ""
        return (site, fold(goal, self._around.policy).key) if goal and site else ("", "")

    def _sound(self, t: Told) -> _Sound | None:
        """An answer as a rule; None where it is not plain."""
        policy = self._around.policy
        text = t.old or t.url
        path = self._path(text)
        if path is None or len(path) > _LONGEST or t.key == "/":
            return None
        if policy.fold_and_keep(path)[0] != t.key:
            return None
        if self._origin(text[: -len(path)])[1] != t.site:
            return None
        paths = {t.key, path.lower() if policy.folds_case else path}
        if text != t.url:
            spelled = self._path(t.url)
            if not spelled or not t.variants or policy.fold_and_keep(spelled)[0] != t.key:
                return None
            paths.add(spelled.lower() if policy.folds_case else spelled)
        if not names_file(t.key):
            paths.add(f"{t.key}/")
        goal: tuple[Key, Key] | None = None
        if t.status == GONE:
            if t.destination:
                return None
        else:
            its_path = self._path(t.destination)
            if its_path is None or not self._is_sound_page(t.destination, its_path):
                return None
            site = self._origin(t.destination[: -len(its_path)])[1]
            if site:
                if self._around.forms or policy.secrets.in_path(its_path) != its_path:
                    return None
                asked = site, self._folded(its_path)
                goal = (site, policy.fold_and_keep(its_path)[0]), asked
        if self._shared(t.site) and self._hides(t, paths):
            return None
        given = (t.status, t.destination, text, _QUERIES[t.query])
        return _Sound(ExactRule(t.site, t.key, (), tuple(sorted(paths)), *given), t.entry, goal)

    def _is_sound_page(self, destination: str, path: str) -> bool:
        """Whether a destination, spelled as its page is, is a page of the new site that answers."""
        around = self._around
        if around.stock:
            page = around.stock.get(destination)
            if page is None or page.planned or page.status >= 300:
                return False
        if destination in around.homes or not self._origin(destination[: -len(path)])[0]:
            return False
        self.pages[destination] = path
        return True

    def _hides(self, t: Told, paths: Iterable[str]) -> bool:
        """Whether a rule may hide a live page."""
        stock = self._around.stock
        for origin in self._shared(t.site):
            for path in paths:
                key = f"{origin}{path}"
                page = stock.get(key)
                if page and page.status == 200 and t.destination not in {key, slash_twin(key)}:
                    return True
        return False

    def _path(self, text: str) -> str | None:
        """The path of an address that is spelled so simply that nobody would read it otherwise;
        else None.
        """
        found = _SIMPLE.match(text)
        return found[2] if found is not None and self._origin(found[1]) is not _NO_ORIGIN else None

    def _origin(self, origin: str) -> tuple[bool, str]:
        """Whether an origin is one of the new site, and the old site to which it belongs;
        _NO_ORIGIN where it is not spelled as it is read.
        """
        known = self._origins.get(origin)
        if known is None:
            known = self._origins[origin] = self._read_origin(origin)
        return known

    def _read_origin(self, origin: str) -> tuple[bool, str]:
        try:
            address = parse_address(f"{origin}/")
        except NotAnAddressError:
            return _NO_ORIGIN
        if address.text != f"{origin}/":
            return _NO_ORIGIN
        sites = self._around.sites
        return sites.is_new(address), sites.site_of(address)


_NO_ORIGIN = (False, "?")
_SIMPLE = re.compile(rf"(https?://[^/?#]+)({SIMPLE_PATH})")
