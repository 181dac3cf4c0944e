"""The short way for plain answers: what most answers are, and in which nothing can be wrong,
becomes a rule at once, all of them together as columns.

An answer is plain where its address and its destination are spelled so simply that nothing is
folded but letter case, index file and slash, its page is in stock, and nothing else has to do with
it. All others take the careful way, by `make_plan` and `check`; a property test holds both equal.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterator, Sequence
from functools import cached_property
from itertools import compress
from typing import Any, NamedTuple

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from numpy.typing import NDArray

from upright_ledger.core.checks.context import CheckContext
from upright_ledger.core.checks.destination_checks import against_policy, slash_of_plans
from upright_ledger.core.checks.rule_checks import CROWD
from upright_ledger.core.checks.told_answers import Told
from upright_ledger.core.inventory.normalisation import fold
from upright_ledger.core.inventory.placing.text_columns import (
    PathFolds,
    array,
    column,
    name_files,
    plain_paths,
    texts,
)
from upright_ledger.core.rules.draft import Plan
from upright_ledger.core.rules.exact_rule import GONE, ExactRule
from upright_ledger.core.url.address import parse_address
from upright_ledger.core.url.destination import slash_twin
from upright_ledger.core.url.query import QueryPolicy
from upright_ledger.core.url.redaction import SECRETS_IN_RE2
from upright_ledger.core.url.request_target import canonical_path, lower_path

_LONGEST = 2_000  # characters of a path
_LONG_NAME = "[^/]{40}"  # those may hold a secret
_QUERIES = {str(policy): policy for policy in QueryPolicy}

Key = tuple[str, str]
"""Site and key of an entry."""
Rows = NDArray[np.bool_]
"""Which of the answers."""


class _Origin(NamedTuple):
    """Whether an origin is spelled as it is read, whether it is one of the new site, and the old
    site to which it belongs.
    """

    sound: bool
    new: bool
    site: str


class _Spelled(NamedTuple):
    """Addresses, in their order. plain: where the others say something: the site of its origin,
    whether that is new, its path with letters as they are compared, and what that folds to.
    """

    plain: Rows
    site: NDArray[Any]
    new: Rows
    path: Any
    lowered: Any
    folded: Any


class ShortWay:
    """Plain answers as rules. doubtful: entries of all others among those that were told."""

    def __init__(self, around: CheckContext, told: Told) -> None:
        self._around, self._told = around, told
        self._folds = PathFolds(around.policy)
        hosts = sorted(around.sites.hosts)
        self._origins = [f"{scheme}://{host}" for host in hosts for scheme in ("http", "https")]
        told_of = [self._read_origin(origin) for origin in self._origins]
        self._facts = np.array(told_of, dtype=object).reshape(-1, len(_Origin._fields))
        asked = [old or url for old, url in zip(told.old, told.url, strict=True)]
        self._asked, self._paths = asked, list[tuple[str, ...]]()
        self.pages: dict[str, str] = {}
        """Page key → path of all destinations that were looked at."""
        self._goals: dict[int, tuple[Key, Key]] = {}
        """Row → what would answer its destination, where that lies on an old site, and by which
        path it is asked for there.
        """
        self._plain = self._sources()
        self._plain &= self._destinations()
        self._plain &= ~self._hides()
        self.doubtful = self._entries(~self._plain)

    @cached_property
    def rules(self) -> list[ExactRule]:
        """The rules of plain answers, once `part` has looked at them."""
        t, asked, paths = self._told, self._asked, self._paths
        query = map(_QUERIES.__getitem__, t.query)
        told = zip(t.site, t.key, paths, t.status, t.destination, asked, query, strict=True)
        return [
            ExactRule(site, key, (), its, status, page, url, carried)
            for site, key, its, status, page, url, carried in compress(told, self._plain)
        ]

    def __len__(self) -> int:
        return int(np.count_nonzero(self._plain))

    def part(self, plans: list[Plan], plans_of: Callable[[list[int]], list[Plan]]) -> None:
        """Take out what has to do with another answer. plans: of the careful way; plans_of: lets
        entries take it, too.
        """
        met = self._met(plans)
        self._plain &= ~met
        plans = [*plans, *plans_of(self._entries(met))]
        # What leads to a plain answer is looked at together with it.
        ends = {key for plan in plans if all(key := self._goal_of(plan))}
        led = np.zeros(len(met), dtype=np.bool_)
        if ends:
            led = self._plain & self._are_among(ends)
        self._plain &= ~led
        plans_of(self._entries(led))

    def _met(self, plans: list[Plan]) -> Rows:
        """The plain answers that have to do with another one, or with many."""
        t = self._told
        pages = Counter(compress(t.destination, self._plain))
        pages.update(plan.page for plan in plans)
        crowded = {page for page, n in pages.items() if n >= CROWD and page}
        slash = slash_of_plans(plans, self._around, self.pages)
        odd = {page for page, path in self.pages.items() if against_policy(path, slash)}
        met = _among(t.destination, crowded | odd)
        known = {plan.key for plan in plans}
        if plans:
            met |= self._are_among(known)
            met |= _among(self._asked, {plan.legacy_url for plan in plans})
        if self._goals:
            spelled = {self._spelling(plan) for plan in plans if not plan.old.query}
            known.update(compress(zip(t.site, t.key, strict=True), self._plain))
            for row, (goal, asked) in self._goals.items():
                met[row] |= goal in known or asked in spelled
        return met & self._plain

    def _entries(self, which: Rows) -> list[int]:
        return list(compress(self._told.entry, which))

    def _are_among(self, keys: set[Key]) -> Rows:
        named = zip(self._told.site, self._told.key, strict=True)
        return np.fromiter((key in keys for key in named), np.bool_, len(self._told.key))

    def _spelling(self, plan: Plan) -> Key:
        path = canonical_path(plan.old.path)
        return plan.site, lower_path(path) if self._around.policy.folds_case else path

    def _goal_of(self, plan: Plan) -> Key:
        goal = plan.goal
        site = self._around.sites.site_of(goal) if goal is not None else ""
        return (site, fold(goal, self._around.policy).key) if goal and site else ("", "")

    def _sources(self) -> Rows:
        """Where the addresses are plain; their rules' paths."""
        t, asked = self._told, self._asked
        told = self._spelled(asked)
        key, site = column(t.key), np.array(t.site, dtype=object)
        plain: Rows = told.plain & array(pc.equal(told.folded, key))
        plain &= (told.site == site) & array(pc.not_equal(key, "/"))
        files = name_files(key)
        self._paths = [
            (name,) if file else (name, f"{name}/")
            for name, file in zip(t.key, files.tolist(), strict=True)
        ]
        bare = pc.if_else(pa.array(files), told.lowered, pc.utf8_rtrim(told.lowered, "/"))
        others = ~array(pc.equal(bare, key))
        for row, path in _rows(others, told.lowered):
            self._paths[row] = tuple(sorted({*self._paths[row], path}))
        renamed = np.array(
            [a is not b and a != b for a, b in zip(asked, t.url, strict=True)], dtype=np.bool_
        )
        seen = self._spelled(list(compress(t.url, renamed)))
        same = seen.plain & array(pc.equal(seen.folded, key.filter(pa.array(renamed))))
        seen_as = zip(
            np.flatnonzero(renamed).tolist(), same.tolist(), texts(seen.lowered), strict=True
        )
        for row, sound, path in seen_as:
            if sound and t.variants[row]:
                self._paths[row] = tuple(sorted({*self._paths[row], path}))
            else:
                plain[row] = False
        return plain

    def _destinations(self) -> Rows:
        """Where nothing can be wrong with the destination."""
        t, around = self._told, self._around
        told = self._spelled(t.destination)
        gone = np.array(t.status) == GONE
        sound = told.plain & told.new & self._are_pages()
        for row, path in _rows(sound, told.path):
            self.pages[t.destination[row]] = path
        home = sound & (told.site != "")
        if home.any():
            sound &= ~home | (not around.forms and ~_may_hold_a_secret(told.path))
            goals = zip(
                _rows(sound & home, told.folded), _rows(sound & home, told.lowered), strict=True
            )
            for (row, folded), (_, path) in goals:
                site = told.site[row]
                self._goals[row] = (site, folded), (site, path)
        nowhere = np.array([not page for page in t.destination], dtype=np.bool_)
        found: Rows = np.where(gone, nowhere, sound)
        return found

    def _are_pages(self) -> Rows:
        """Which destinations are pages that answer, and no front pages."""
        around, named = self._around, self._told.destination
        if not around.stock:
            return ~_among(named, around.homes)
        answering = {
            key for key, page in around.stock.items() if not page.planned and page.status < 300
        }
        return _among(named, answering - around.homes)

    def _hides(self) -> Rows:
        """Which rules may hide a live page."""
        t, stock = self._told, self._around.stock
        found = np.zeros(len(t.key), dtype=np.bool_)
        for name in set(t.site):
            for origin in self._around.sites.shared_origins(name):
                live = {
                    key[len(origin) :]
                    for key, page in stock.items()
                    if page.status == 200 and key.startswith(f"{origin}/")
                }
                for row, paths in enumerate(self._paths if live else ()):
                    if t.site[row] == name and not live.isdisjoint(paths):
                        keys = [f"{origin}{path}" for path in paths if path in live]
                        goal = t.destination[row]
                        found[row] |= any(goal not in {key, slash_twin(key)} for key in keys)
        return found

    def _spelled(self, addresses: Sequence[str]) -> _Spelled:
        plain, origin, path = plain_paths(column(addresses), self._origins)
        plain &= array(pc.less_equal(pc.binary_length(path), _LONGEST))
        sound, new, site = self._facts[origin].T
        folded, whole = self._folds.folded(path)
        plain &= sound.astype(np.bool_) & whole
        lowered = self._folds.lowered(path)
        return _Spelled(plain, site, new.astype(np.bool_), path, lowered, folded)

    def _read_origin(self, origin: str) -> _Origin:
        address, sites = parse_address(f"{origin}/"), self._around.sites
        return _Origin(address.text == f"{origin}/", sites.is_new(address), sites.site_of(address))


def _among(names: Sequence[str], known: set[str] | frozenset[str]) -> Rows:
    if not known:
        return np.zeros(len(names), dtype=np.bool_)
    return np.fromiter(map(known.__contains__, names), np.bool_, len(names))


def _rows(which: Rows, told: Any) -> Iterator[tuple[int, str]]:
    """Some rows of a column, with their numbers."""
    numbers = np.flatnonzero(which)
    return zip(numbers.tolist(), texts(told.take(pa.array(numbers))), strict=True)


def _may_hold_a_secret(paths: Any) -> Rows:
    return array(pc.match_substring_regex(pc.ascii_lower(paths), f"{SECRETS_IN_RE2}|{_LONG_NAME}"))
