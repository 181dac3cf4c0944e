"""Rules: what a server executes, and the reference for what that means.

`RuleSet.answer` is the one definition of which status and Location a request gets. Every server
dialect is a translation of it, and is right when the real server agrees for every request.
"""

from __future__ import annotations

import hashlib
import re
from collections.abc import Iterable, Iterator
from dataclasses import dataclass, field
from functools import cached_property

from upright_ledger.core.rules.canonical_form import CanonicalForm, form_of
from upright_ledger.core.rules.exact_rule import GONE, Answer, ExactRule, PathRules, Rule
from upright_ledger.core.rules.imported.blocks import Block
from upright_ledger.core.rules.imported.rule import request_of
from upright_ledger.core.rules.templates.template_index import PASS, TemplateIndex, TemplateRule
from upright_ledger.core.url.address import parse_address
from upright_ledger.core.url.destination import authority_of
from upright_ledger.core.url.query import QueryPolicy, given, tracked_pattern
from upright_ledger.core.url.request_target import (
    canonical_path,
    lower_ascii,
    lower_path,
    reject_reason,
    split_target,
)

_AT_ONCE = 10_000
"""Rules whose meaning is written before it is digested."""


@dataclass(frozen=True)
class RuleSet:
    """An ordered set of rules with all that is needed to evaluate it.

    templates: asked where no exact rule answers; blocks: imported rules, asked last and no part of
    the digest: they are not built. forms: asked where nothing else answers, one a site, which
    differ by their origin alone. cache_control: a header that servers send with each answer, or
    empty. bases: authority → origin, for destinations of blocks that name no host. site_of:
    authority (host, with a port when it is not the scheme's own) → site name. significant: folded
    path → names that choose the page there, beyond those the rules name. tracking: names carried by
    `carry-tracking`, in the order in which they are written.
    """

    rules: tuple[ExactRule, ...]
    site_of: dict[str, str]
    fold_case: bool
    tracking: tuple[str, ...]
    significant: dict[str, frozenset[str]] = field(default_factory=dict)
    templates: tuple[TemplateRule, ...] = ()
    blocks: tuple[Block, ...] = ()
    bases: dict[str, str] = field(default_factory=dict)
    cache_control: str = ""
    forms: tuple[CanonicalForm, ...] = ()

    def __post_init__(self) -> None:
        if len({(f.slash, f.lower, f.scheme_from) for f in self.forms}) > 1:
            raise ValueError("the forms of all sites agree about slash, letter case and scheme")

    @cached_property
    def _tracked(self) -> tuple[tuple[str, re.Pattern[str]], ...]:
        return tuple((n, tracked_pattern(n)) for n in self.tracking)

    @property
    def carries_pattern(self) -> str:
        """Finds any carried parameter in a query, of a set that carries some: a quick look that may
        say yes too often.
        """
        return rf"(?:^|&)(?:{'|'.join(map(re.escape, self.tracking))})="

    @cached_property
    def _carries(self) -> re.Pattern[str]:
        return re.compile(self.carries_pattern if self.tracking else "(?!)")

    @cached_property
    def _indexes(self) -> tuple[dict[tuple[str, str], PathRules], TemplateIndex]:
        """What is looked up, made when it is first asked for: rules by site and path, and the
        templates in their order.
        """
        index: dict[tuple[str, str], PathRules] = {}
        nothing = frozenset[str]()
        for rule in self.rules:
            site, names = rule.site, self.significant.get(rule.path, nothing)
            for path in rule.paths:
                group = index.get((site, path))
                if group is not None:
                    group.add(rule)
                elif rule.params:
                    index[site, path] = group = PathRules(names, {})
                    group.add(rule)
                else:  # as most are
                    index[site, path] = PathRules(names, {}, rule)
        templates = TemplateIndex(self.templates, fold=self.fold_case)
        for template in templates:
            names = frozenset[str]()
            for path in template.literal_paths:
                if beside := index.get((template.site, path)):
                    names |= beside.names
                    beside.names |= template.names
            template.names |= names
        for group in index.values():
            if len(group.by_shape) > 1:
                group.settle()
        return index, templates

    @property
    def _groups(self) -> dict[tuple[str, str], PathRules]:
        return self._indexes[0]

    @property
    def template_index(self) -> TemplateIndex:
        """The template rules in the order in which they are asked."""
        return self._indexes[1]

    def paths(self) -> Iterator[tuple[str, str, PathRules]]:
        """Site, path and rules of every answered path."""
        for (site, path), group in self._groups.items():
            yield site, path, group

    @cached_property
    def judges_parameters(self) -> bool:
        """Whether parameters choose among the rules of some path."""
        return any(group.names for group in self._groups.values())

    @cached_property
    def digest(self) -> str:
        """SHA-256 over the meaning of the set: equal digests give equal answers."""
        state = hashlib.sha256()
        state.update(repr((self.fold_case, self.tracking, sorted(self.site_of.items()))).encode())
        state.update(repr(sorted((k, sorted(v)) for k, v in self.significant.items())).encode())
        policies = {policy: repr(policy) for policy in QueryPolicy}
        for start in range(0, len(self.rules), _AT_ONCE):
            told = [  # as the representation of a tuple of these
                f"({r.site!r}, {r.path!r}, {r.params!r}, {r.paths!r}, {r.status}, "
                f"{r.destination!r}, {policies[r.query]})"
                for r in self.rules[start : start + _AT_ONCE]
            ]
            state.update("".join(told).encode())
        for t in self.templates:
            state.update(repr(t.state()).encode())
        for form in self.forms:
            state.update(repr(form.state()).encode())
        state.update(self.cache_control.encode())
        return state.hexdigest()

    @cached_property
    def answering(self) -> tuple[Rule, ...]:
        """The rules that give an answer: not those that only keep others from it."""
        exact = [r for r in self.rules if r.status != PASS]
        return (*exact, *(t for t in self.templates if t.status != PASS))

    @cached_property
    def beginnings(self) -> tuple[str, ...]:
        """With which every destination on an old site begins, and perhaps others: for a quick look
        before a careful one.
        """
        return tuple(f"{scheme}://{host}" for host in self.site_of for scheme in ("http", "https"))

    def __len__(self) -> int:
        return len(self.rules) + len(self.templates)

    def __iter__(self) -> Iterator[Rule]:
        """All rules, exact ones first."""
        yield from self.rules
        yield from self.templates

    def fold_request_path(self, path: str) -> str:
        canonical = canonical_path(path)
        return lower_path(canonical) if self.fold_case else canonical

    @cached_property
    def ports_matter(self) -> bool:
        """Whether some old origin names a port; otherwise a request's port is left aside."""
        return any(":" in authority for authority in self.site_of)

    def known_authority(self, authority: str) -> str:
        """A request's host as the sites are named: lower case, no closing dot, a port only where
        ports matter.
        """
        if authority in self.site_of:
            return authority
        host, colon, port = lower_ascii(authority).partition(":")
        return f"{host.rstrip('.')}{colon}{port}" if self.ports_matter else host.rstrip(".")

    def find(self, authority: str, target: str) -> tuple[Rule, str] | None:
        """The rule that is responsible for a request, and its destination there, before it is asked
        whether it may fire.

        authority: the host asked, with or without a port.
        target: the request target as sent.
        """
        site = self.site_of.get(self.known_authority(authority))
        if site is None or reject_reason(target):
            return None
        path, query = split_target(target)
        group = self._groups.get((site, self.fold_request_path(path)))
        if group is not None:
            carried = given(query, group.names)
            if carried is None:
                return None
            rule = group.find(carried)
            if rule is not None:
                return rule, rule.destination
        return self._find_template(site, path, query, group) if self.templates else None

    def _find_template(
        self, site: str, path: str, query: str, beside: PathRules | None
    ) -> tuple[Rule, str] | None:
        """As `find`, among the templates. beside: the exact rules of this path, none of which
        answers.
        """
        found = self.template_index.find(site, path)
        if found is None:
            return None
        group, match = found
        if beside is not None and not group.literal_paths and given(query, beside.names):
            return None  # a significant parameter with a value that no rule knows stays open
        carried = given(query, group.names)
        chosen = None if carried is None else group.choose(carried)
        if chosen is None:
            return None
        rule, values = chosen
        if not rule.destination:
            return rule, ""
        values |= zip((c.name for c in group.source.captures), match.groups(), strict=True)
        return rule, rule.goal.fill(values)

    def answer(self, authority: str, target: str, scheme: str = "") -> Answer | None:
        """Status and Location for a request, or None when nothing answers it.

        scheme: "http", "https", or empty where it is not known.
        """
        answer = self.answer_of_rules(authority, target)
        if answer is None and self.forms:
            return self._formed(self.known_authority(authority), target, scheme)
        return answer

    def _formed(self, authority: str, target: str, scheme: str) -> Answer | None:
        """What the form of the site makes of a request that no rule answers."""
        form = form_of(self.forms, self.site_of.get(authority, ""))
        if form is None or reject_reason(target):
            return None
        location = form.canonicalised(authority, target, scheme)
        return Answer(301, location, form) if location else None

    def answer_of_rules(self, authority: str, target: str) -> Answer | None:
        """As `answer`, without what sites settle for all their addresses."""
        found = self.find(authority, target)
        if found is None:
            return self._imported(authority, target) if self.blocks else None
        rule, destination = found
        if rule.status == PASS:
            return None
        if rule.status == GONE:
            return Answer(GONE, "", rule)
        if self.is_own_destination(rule, destination, authority, target):
            return None
        return Answer(
            rule.status, self.location(rule.query, destination, split_target(target)[1]), rule
        )

    @cached_property
    def at_once(self) -> dict[tuple[str, str], Answer]:
        """What requests (site, target) for canonical paths without a query get, where nothing else
        plays a part.
        """
        return {
            key: Answer(rule.status, rule.destination, rule)
            for key, group in self._groups.items()
            if (rule := group.plain) is not None
            and rule.status != PASS
            and not group.names
            and (not rule.destination or authority_of(rule.destination) not in self.site_of)
        }

    def answers_of_rules(self, requests: Iterable[tuple[str, str]]) -> Iterator[Answer | None]:
        """As `answer_of_rules`, for many requests (host, target): most of them are one lookup."""
        sites, at_once = self.site_of, self.at_once
        for authority, target in requests:
            found = at_once.get((sites.get(authority, ""), target))
            yield found if found is not None else self.answer_of_rules(authority, target)

    def _imported(self, authority: str, target: str) -> Answer | None:
        """What the imported rules answer, where none of ours is responsible."""
        authority = self.known_authority(authority)
        origin = self.bases.get(authority)
        if origin is None or reject_reason(target) or self._leaves_open(authority, target):
            return None
        request = request_of(origin, authority, target)
        for block in self.blocks:
            found = block.find(request)
            if found is not None:
                rule, destination = found
                if rule.status == PASS:
                    return None
                where = (
                    f"{origin}{destination}"
                    if destination.startswith("/") and destination[1:2] != "/"
                    else destination
                )
                return Answer(rule.status, where, rule)
        return None

    def _leaves_open(self, authority: str, target: str) -> bool:
        """Whether a rule of ours knows the path, and leaves this request without an answer on
        purpose.
        """
        site = self.site_of.get(authority, "")
        path, query = split_target(target)
        group = self._groups.get((site, self.fold_request_path(path)))
        return group is not None and bool(given(query, group.names))

    def is_own_destination(self, rule: Rule, destination: str, authority: str, target: str) -> bool:
        """Whether the request already asks for what the rule would send it to: then it must not
        fire.

        The scheme is left aside (a connection behind a TLS terminator does not know it), and so is
        the query unless the rule itself depends on one: /events/?page=2 is the live page, too. Case
        counts as little as it does for the lookup.
        """
        if authority_of(destination) != self.known_authority(authority):
            return False
        goal = parse_address(destination)
        if rule.params:
            following = self.find(goal.authority, goal.target)
            return following is not None and following[0] is rule
        return self.fold_request_path(goal.path) == self.fold_request_path(split_target(target)[0])

    def location(self, policy: QueryPolicy, destination: str, query: str) -> str:
        """The Location for a destination and a request's query; carried text goes before a
        fragment.
        """
        carried = self.carried(policy, query)
        return with_query(destination, carried) if carried else destination

    def carried(self, policy: QueryPolicy, query: str) -> str:
        if policy == QueryPolicy.DROP or not query:
            return ""
        if policy == QueryPolicy.CARRY:
            return query
        if not self._carries.search(query):
            return ""
        found = ((name, pattern.search(query)) for name, pattern in self._tracked)
        return "&".join(f"{name}={match[1]}" for name, match in found if match)


def with_query(destination: str, carried: str) -> str:
    """A destination with what is carried of a query, before its fragment."""
    body, mark, fragment = destination.partition("#")
    return f"{body}{'&' if '?' in body else '?'}{carried}{mark}{fragment}"
