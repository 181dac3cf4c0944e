"""The short way to answers, for requests that are spelled plainly: most of a list are such, and
they are looked up many at a time, as columns.

It leaves out only what cannot change the answer (guard, canonical form, parameters that nobody
asks for), and says so where something else may play a part.
"""

from __future__ import annotations

from itertools import repeat
from typing import Any, Final, NamedTuple

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from numpy.typing import NDArray

from upright_ledger.core.inventory.placing.text_columns import array, path_and_query, texts
from upright_ledger.core.rules.ruleset import RuleSet, with_query
from upright_ledger.core.rules.templates.template_index import (
    PASS,
    TemplateGroup,
    TemplateIndex,
    TemplateRule,
)
from upright_ledger.core.url.query import QueryPolicy

UNSURE: Final = -1
"""A status: the short way does not tell, ask the rules themselves."""
NOTHING: Final = 0
"""A status: no rule answers."""

# Letters and what no server changes; no segment is empty or begins with a dot.
PLAIN_PATH = r"(?:/[A-Za-z0-9_~-][A-Za-z0-9._~-]*)+/?"
PLAIN_TARGET = rf"{PLAIN_PATH}(?:\?[!\"$-~]*)?"

_POLICIES = tuple(QueryPolicy)
_TEMPLATE = -2
"""Where no rule stands for a path alone, though some do with parameters."""
_MOST_KEPT = 1 << 14


class Said(NamedTuple):
    """What requests get, in their order: statuses (UNSURE, NOTHING, or a rule's), and Locations as
    a column, empty where there is none.
    """

    statuses: NDArray[np.int16]
    locations: Any


class _Made(NamedTuple):
    """What a group of templates answers without parameters: a status, a destination with %s for
    each capture in the order of the path, whether it has any, what it carries of a query; and
    whether parameters matter there.
    """

    status: int
    form: str
    natural: bool
    policy: int
    asks: bool


class _ByTemplates(NamedTuple):
    """Which of some paths templates answer, with what; asks: whether parameters matter there."""

    rows: list[int]
    statuses: list[int]
    goals: list[str]
    policies: list[int]
    asks: list[bool]


class PlainRules:
    """A rule set, asked for plain targets alone."""

    def __init__(self, rules: RuleSet) -> None:
        self._rules = rules
        # What no rule answers may be answered by an imported block, or by the form of the site.
        self._otherwise = UNSURE if rules.blocks or rules.forms else NOTHING
        self._numbers: dict[str, dict[str, int]] = {}
        told = list[tuple[int, str, int, bool]]()
        for site, path, group in rules.paths():
            self._numbers.setdefault(site, {})[path] = len(told)
            rule = group.plain
            if rule is None:
                said = _TEMPLATE, "", 0
            elif rule.status == PASS:
                said = self._otherwise, "", 0
            elif not self._is_sure(rule.destination):
                said = UNSURE, "", 0
            else:
                said = rule.status, rule.destination, _POLICIES.index(rule.query)
            told.append((*said, bool(group.names)))
        statuses, goals, policies, asks = zip(*told, strict=True) if told else ((),) * 4
        self._statuses = np.array(statuses, dtype=np.int16)
        self._goals = pa.array(goals, pa.string())
        self._policies = np.array(policies, dtype=np.int8)
        self._asks = np.array(asks, dtype=np.bool_)
        self._templates = rules.template_index if rules.templates else None
        self._made: dict[int, _Made] = {}
        self._carried: dict[tuple[QueryPolicy, str], str] = {}

    def answers(self, authority: str, targets: Any) -> Said:
        """Statuses and Locations for a column of targets asked of a host: UNSURE where they are not
        plain.
        """
        statuses = np.full(len(targets), UNSURE, dtype=np.int16)
        nowhere = pa.repeat(pa.scalar("", pa.string()), len(targets))
        site = self._rules.site_of.get(authority)
        if site is None:
            return Said(statuses, nowhere)
        plain = pc.match_substring_regex(targets, rf"^{PLAIN_TARGET}$")
        its = self._of_plain(site, targets.filter(plain))
        statuses[array(plain)] = its.statuses
        return Said(statuses, pc.replace_with_mask(nowhere, plain, its.locations))

    def _of_plain(self, site: str, targets: Any) -> Said:
        paths, queries, asking = path_and_query(targets)
        keys = pc.ascii_lower(paths) if self._rules.fold_case else paths
        number_of = self._numbers.get(site, {}).get
        numbers = np.fromiter(map(number_of, texts(keys), repeat(-1)), np.int64, len(targets))
        exact = numbers >= 0
        statuses = np.full(len(targets), _TEMPLATE, dtype=np.int16)
        statuses[exact] = self._statuses[numbers[exact]]
        policies = np.zeros(len(targets), dtype=np.int8)
        policies[exact] = self._policies[numbers[exact]]
        unsettled = np.zeros(len(targets), dtype=np.bool_)
        unsettled[exact] = self._asks[numbers[exact]]
        goals = pc.fill_null(self._goals.take(pa.array(numbers, mask=~exact)), "")
        rest = np.flatnonzero(statuses == _TEMPLATE)
        statuses[rest] = self._otherwise
        if self._templates is not None and len(rest):
            made = self._by_templates(self._templates, site, paths.take(pa.array(rest)))
            at = rest[made.rows]
            statuses[at], policies[at] = made.statuses, made.policies
            unsettled[at] |= np.array(made.asks, dtype=np.bool_)
            led = np.zeros(len(targets), dtype=np.bool_)
            led[at] = True
            goals = pc.replace_with_mask(goals, pa.array(led), pa.array(made.goals, pa.string()))
        statuses[unsettled & asking] = UNSURE
        return Said(statuses, self._with_queries(goals, queries, policies, asking, statuses))

    def _is_sure(self, destination: str) -> bool:
        """Whether a destination lies on no old host, so that no request can ask for it itself."""
        return not destination or destination.split("/", 3)[2] not in self._rules.site_of

    def _by_templates(self, templates: TemplateIndex, site: str, paths: Any) -> _ByTemplates:
        """What templates answer of some paths."""
        heads = pc.list_element(pc.split_pattern(paths, "/", max_splits=2), 1).dictionary_encode()
        candidates = [templates.candidates(site, h) for h in heads.dictionary.to_pylist()]
        index = heads.indices.to_numpy()
        has_any = np.array([bool(c) for c in candidates], dtype=np.bool_)[index]
        asked = np.flatnonzero(has_any)
        found = _ByTemplates([], [], [], [], [])
        rows, statuses, goals = found.rows.append, found.statuses.append, found.goals.append
        policies, asks = found.policies.append, found.asks.append
        told = zip(
            asked.tolist(), texts(paths.take(pa.array(asked))), index[asked].tolist(), strict=True
        )
        made_of = self._made
        for row, path, head in told:
            for group in candidates[head]:
                match = group.pattern.fullmatch(path)
                if match is None:
                    continue
                made = made_of.get(id(group)) or self._make(group)
                status, form, natural, policy, asking = made
                rows(row)
                statuses(status)
                goals(form % match.groups() if natural else form)
                policies(policy)
                asks(asking)
                break
        return found

    def _make(self, group: TemplateGroup) -> _Made:
        made = _Made(*self._look_at(group), asks=bool(group.names))
        self._made[id(group)] = made
        return made

    def _look_at(self, group: TemplateGroup) -> tuple[int, str, bool, int]:
        rule = next((r for r in group.rules if not r.params), None)
        if rule is None or rule.status == PASS:
            return self._otherwise, "", False, 0
        policy = _POLICIES.index(rule.query)
        if not rule.destination:
            return rule.status, "", False, policy
        # One that takes captures in another order is left to the rules.
        if not self._is_sure(rule.destination) or not _in_order(rule):
            return UNSURE, "", False, policy
        pieces = rule.goal.pieces
        if len(pieces) == 1:
            return rule.status, rule.destination, False, policy
        return rule.status, "%s".join(p.replace("%", "%%") for p in pieces[0::2]), True, policy

    def _with_queries(
        self,
        goals: Any,
        queries: Any,
        policies: NDArray[np.int8],
        asking: NDArray[np.bool_],
        statuses: NDArray[np.int16],
    ) -> Any:
        """Locations: destinations with what rules carry of the queries."""
        rows = np.flatnonzero(
            asking & (statuses > 0) & (policies != _POLICIES.index(QueryPolicy.DROP))
        )
        if not len(rows):
            return goals
        queries = queries.take(pa.array(rows))
        carry = policies[rows] == _POLICIES.index(QueryPolicy.CARRY)
        if self._rules.tracking:
            carry |= array(pc.match_substring_regex(queries, self._rules.carries_pattern))
        rows, queries = rows[carry], queries.filter(pa.array(carry))
        told = zip(
            texts(goals.take(pa.array(rows))), texts(queries), policies[rows].tolist(), strict=True
        )
        locations = [
            with_query(goal, carried)
            if goal and (carried := self._carry(_POLICIES[policy], query))
            else goal
            for goal, query, policy in told
        ]
        changed = np.zeros(len(goals), dtype=np.bool_)
        changed[rows] = True
        return pc.replace_with_mask(goals, pa.array(changed), pa.array(locations, pa.string()))

    def _carry(self, policy: QueryPolicy, query: str) -> str:
        known = self._carried.get((policy, query))
        if known is None:
            known = self._rules.carried(policy, query)
            if len(self._carried) < _MOST_KEPT:
                self._carried[policy, query] = known
        return known


def _in_order(rule: TemplateRule) -> bool:
    """Whether a destination takes all captures of the path, in their order; or none."""
    return rule.goal.names in {(), tuple(c.name for c in rule.source.captures)}
