"""Template rules among each other: which of them is responsible for a request."""

from __future__ import annotations

import re
from collections import defaultdict
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass, replace
from functools import lru_cache

from upright_ledger.core.rules.templates.template_syntax import Goal, Source, read_goal
from upright_ledger.core.url.destination import authority_of
from upright_ledger.core.url.query import QueryPolicy

PASS = 0
"""The status of a rule that answers nothing and lets no other rule answer."""


@dataclass(frozen=True, slots=True)
class TemplateRule:
    """A template of one old site and its answer.

    destination: absolute, with captures; empty for 410 and PASS. slash: "any" answers both slash
    forms, "bare" and "slashed" only one of them. legacy_url: how it is named towards people.
    """

    site: str
    source: Source
    status: int
    destination: str
    legacy_url: str
    query: QueryPolicy
    slash: str = "any"

    def __post_init__(self) -> None:
        # Its captures take all that may stand there, where they are not copied.
        object.__setattr__(self, "source", self.source.widened(self.copied))

    @property
    def copied(self) -> tuple[str, ...]:
        """The names of the captures that its destination takes."""
        return self.goal.names if self.destination else ()

    @property
    def goal(self) -> Goal:
        return read_goal(self.destination)

    @property
    def params(self) -> tuple[str, ...]:
        """The names of the query parameters it captures."""
        return tuple(p.name for p in self.source.params)

    @property
    def goal_authority(self) -> str:
        return authority_of(self.destination) if self.destination else ""

    @property
    def passing(self) -> TemplateRule:
        """What only keeps others from its addresses."""
        return replace(self, status=PASS, destination="", query=QueryPolicy.DROP)

    def state(self) -> tuple[object, ...]:
        """All that it means."""
        said = (self.site, self.source.text, self.status, self.destination, self.query, self.slash)
        return (*said, "wide") if self.source.wide else said


@dataclass(slots=True)
class TemplateGroup:
    """The rules of one path template. The first group whose path fits a request decides on it, if
    only by giving no answer.

    names: query parameters that matter there. rules: those with the most parameters first.
    """

    source: Source
    pattern: re.Pattern[str]
    names: frozenset[str]
    rules: tuple[TemplateRule, ...]

    @property
    def site(self) -> str:
        return self.rules[0].site

    @property
    def literal_paths(self) -> tuple[str, ...]:
        """The paths it answers where it captures none of the path; else none."""
        if self.source.captures:
            return ()
        path = str(self.source.parts[0])
        return (path, f"{path}/") if self.source.takes_slash else (path,)

    def choose(self, carried: Mapping[str, str]) -> tuple[TemplateRule, dict[str, str]] | None:
        """The rule for the significant parameters that a request carries, and the values it
        captures of them.
        """
        for rule in self.rules:
            if not rule.params:
                if not carried:
                    return rule, {}
                continue
            values = {}
            for capture in rule.source.params:
                value = carried.get(capture.name, "")
                if not _compiled(capture.regex()).fullmatch(value):
                    break
                values[capture.name] = value
            else:
                return rule, values
        return None


_compiled = lru_cache(maxsize=1 << 14)(re.compile)


class TemplateIndex:
    """All template rules of a set, in the order in which they are asked."""

    def __init__(self, rules: Iterable[TemplateRule], *, fold: bool) -> None:
        by_path: dict[tuple[str, str, str], list[TemplateRule]] = defaultdict(list)
        for rule in rules:
            by_path[rule.site, rule.source.path, rule.slash].append(rule)
        groups = []
        for members in by_path.values():
            members.sort(key=lambda r: (-len(r.params), r.source.text))
            # What one of them copies holds nothing, in all of them, that cannot be copied.
            source = members[0].source.widened({n for r in members for n in r.copied})
            slash = members[0].slash
            pattern = _compiled(source.regex(fold=fold, slash=slash))
            names = frozenset(n for r in members for n in r.params)
            groups.append(TemplateGroup(source, pattern, names, tuple(members)))
        self.groups = sorted(groups, key=_rank)
        self._by_head: dict[tuple[str, str], list[TemplateGroup]] = defaultdict(list)
        self._anywhere: dict[str, list[TemplateGroup]] = defaultdict(list)
        for group in self.groups:
            head = first_segment(group.source)
            head = head.lower() if fold else head
            if head:
                self._by_head[group.site, head].append(group)
            else:
                self._anywhere[group.site].append(group)
        self._merged: dict[tuple[str, str], list[TemplateGroup]] = {}
        self.fold = fold

    def __iter__(self) -> Iterator[TemplateGroup]:
        return iter(self.groups)

    def find(self, site: str, path: str) -> tuple[TemplateGroup, re.Match[str]] | None:
        """The first group whose path fits a path as it was sent, and the match."""
        head = path.split("/", 2)[1] if path.startswith("/") else ""
        for group in self.candidates(site, head):
            match = group.pattern.fullmatch(path)
            if match is not None:
                return group, match
        return None

    def candidates(self, site: str, head: str) -> list[TemplateGroup]:
        """The groups that may fit paths with this first segment, in the order in which they are
        asked.
        """
        key = (site, head.lower() if self.fold else head)
        found = self._merged.get(key)
        if found is None:
            own = self._by_head.get(key, ())
            found = sorted([*own, *self._anywhere[site]], key=_rank)
            if own or len(self._merged) < 10_000:
                self._merged[key] = found
        return found


def _rank(group: TemplateGroup) -> tuple[object, ...]:
    """What protects comes first, then the longest literal text; ties by source text."""
    first = group.rules[0]
    return (first.status != PASS, *group.source.rank, first.slash, first.site)


def first_segment(source: Source) -> str:
    """The first segment of a template's path where it is literal as a whole; else an empty
    string.
    """
    first = source.parts[0]
    if not isinstance(first, str):
        return ""
    head, slash, _ = first[1:].partition("/")
    return head if slash or len(source.parts) == 1 else ""
