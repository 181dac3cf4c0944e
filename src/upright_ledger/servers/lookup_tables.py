"""Lowering: a rule set as the plain tables that every server's files are made of."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass, field
from functools import wraps
from typing import Any, ParamSpec, TypeVar

from upright_ledger.core.rules.exact_rule import GONE, ExactRule, Rule
from upright_ledger.core.rules.ruleset import RuleSet
from upright_ledger.core.rules.templates.template_index import PASS, TemplateGroup
from upright_ledger.core.url.address import parse_address
from upright_ledger.core.url.destination import authority_of
from upright_ledger.core.url.query import QueryPolicy

P = ParamSpec("P")
T = TypeVar("T")
Shape = tuple[str, ...]
Key = tuple[str, str]
"""Number of a site, and a folded canonical path."""


@dataclass(frozen=True, slots=True)
class RuleReply:
    """What a rule answers. body, args, fragment: of its destination, without "?" and "#". own: the
    host on which it must not fire at this path, or empty. status PASS: nothing, and no other rule
    may.
    """

    status: int
    body: str = ""
    args: str = ""
    fragment: str = ""
    query: QueryPolicy = QueryPolicy.DROP
    own: str = ""

    @property
    def redirects(self) -> bool:
        return self.status not in {GONE, PASS}


@dataclass(frozen=True, slots=True)
class ParamGroup:
    """Paths on which the same parameters matter, in the same lists. names: sorted; shapes: in the
    order of asking.
    """

    number: int
    names: Shape
    shapes: tuple[Shape, ...]


@dataclass
class LookupTables:
    """The tables. sites: authority → number; numbers: name of a site → number. plain: path → reply.
    groups: path → parameter group. ranked: of each rank in turn, (path, values in a spelling, in
    the order of the group's shape) → reply. falls_through: paths at which a template with
    parameters is asked where no exact rule knows them. templates: in the order of asking.
    """

    sites: dict[str, str]
    numbers: dict[str, str]
    plain: dict[Key, RuleReply] = field(default_factory=dict)
    groups: dict[Key, ParamGroup] = field(default_factory=dict)
    ranked: list[dict[tuple[Key, tuple[str, ...]], RuleReply]] = field(default_factory=list)
    falls_through: set[Key] = field(default_factory=set)
    templates: list[tuple[str, TemplateGroup]] = field(default_factory=list)

    @property
    def param_groups(self) -> list[ParamGroup]:
        """Each once, by number."""
        return sorted({g.number: g for g in self.groups.values()}.values(), key=lambda g: g.number)

    @property
    def names(self) -> list[str]:
        """All parameter names that matter anywhere."""
        named = {n for g in self.groups.values() for n in g.names}
        return sorted(named | {n for _, group in self.templates for n in group.names})

    def statuses(self) -> list[int]:
        """The statuses of all answers, the commonest first."""
        counts: dict[int, int] = {}
        replies: list[Iterable[RuleReply]] = [
            self.plain.values(),
            *(t.values() for t in self.ranked),
        ]
        for reply in (r for part in replies for r in part):
            counts[reply.status] = counts.get(reply.status, 0) + 1
        for rule in (r for _, group in self.templates for r in group.rules):
            counts[rule.status] = counts.get(rule.status, 0) + 1
        counts.pop(PASS, None)
        return sorted(counts, key=lambda c: (-counts[c], c))


def remembered(work: Callable[P, T]) -> Callable[P, T]:
    """A function that remembers its last result, by its very arguments: what is written is read
    back at once, and worked out but once for both.
    """
    last: list[tuple[tuple[Any, ...], T]] = []

    @wraps(work)
    def of(*given: P.args, **named: P.kwargs) -> T:
        if named or not last or any(a is not b for a, b in zip(last[0][0], given, strict=True)):
            last[:] = [(given, work(*given, **named))]
        return last[0][1]

    return of


@remembered
def lower(rules: RuleSet) -> LookupTables:
    """Lower a rule set."""
    numbers = {name: str(n) for n, name in enumerate(sorted(set(rules.site_of.values())), 1)}
    out = LookupTables(
        {authority: numbers[site] for authority, site in sorted(rules.site_of.items())}, numbers
    )
    known: dict[tuple[Shape, tuple[Shape, ...]], ParamGroup] = {}
    last: ExactRule | None = None  # paths come rule by rule
    reply = RuleReply(GONE)
    for site, path, group in rules.paths():
        key = (numbers[site], path)
        if group.plain is not None:
            if group.plain is not last:
                reply = reply_of(rules, group.plain, path)
                last = None if stays_on_its_site(rules, group.plain) else group.plain
            out.plain[key] = reply
        if not group.names:
            continue
        shapes = tuple(group.by_shape)
        names = tuple(sorted(group.names))
        out.groups[key] = known.setdefault(
            (names, shapes), ParamGroup(len(known) + 1, names, shapes)
        )
        for rank, table in enumerate(group.by_shape.values()):
            if rank == len(out.ranked):
                out.ranked.append({})
            for values, rule in table.items():
                out.ranked[rank][key, values] = reply_of(rules, rule, path)
    for template in rules.template_index:
        out.templates.append((numbers[template.site], template))
        if template.names:
            out.falls_through |= {(numbers[template.site], path) for path in template.literal_paths}
    return out


def reply_of(rules: RuleSet, rule: ExactRule, path: str) -> RuleReply:
    """The reply of an exact rule at one of its paths."""
    if rule.status in {GONE, PASS}:
        return RuleReply(rule.status)
    return split_reply(rule, rule.destination, host_of_own_page(rules, rule, path))


def host_of_own_page(rules: RuleSet, rule: ExactRule, path: str) -> str:
    """The host on which a rule without parameters must not fire at this path, because it leads
    there; else empty.
    """
    if rule.params or not stays_on_its_site(rules, rule):
        return ""
    goal = parse_address(rule.destination)
    own = rules.fold_request_path(goal.path) == path
    return authority_of(rule.destination) if own else ""


def stays_on_its_site(rules: RuleSet, rule: ExactRule) -> bool:
    """Whether a rule leads to the site where it is asked: elsewhere it answers alike at all of its
    paths.
    """
    if not rule.destination.startswith(rules.beginnings):
        return False
    return rules.site_of.get(authority_of(rule.destination)) == rule.site


def split_reply(rule: Rule, destination: str, own: str = "") -> RuleReply:
    """A reply with its destination in parts."""
    if rule.status in {GONE, PASS}:
        return RuleReply(rule.status)
    rest, _, fragment = destination.partition("#")
    body, _, args = rest.partition("?")
    return RuleReply(rule.status, body, args, fragment, rule.query, own)


def filled(group: TemplateGroup, number: int, reference: Callable[[int], str]) -> RuleReply:
    """The reply of a template rule; `reference` gives what stands for a capture by its number,
    those of the path first.
    """
    rule = group.rules[number]
    if not rule.destination:
        return RuleReply(rule.status)
    names = [c.name for c in (*rule.source.captures, *rule.source.params)]
    return split_reply(
        rule, rule.goal.fill({name: reference(n) for n, name in enumerate(names, 1)})
    )
