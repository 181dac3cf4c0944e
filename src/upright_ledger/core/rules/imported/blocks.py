"""The rules of one imported file, asked in their order."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import replace
from heapq import merge
from typing import Any

from upright_ledger.core.rules.imported.locations import location_of
from upright_ledger.core.rules.imported.rule import (
    HOST,
    INNER,
    PATH,
    RAW,
    STAGES_WITHIN,
    TARGET,
    Condition,
    ImportedRequest,
    ImportedRule,
    bytewise,
    compiled,
)
from upright_ledger.core.rules.templates.template_index import PASS
from upright_ledger.core.url.request_target import lower_ascii

_HEAD = 16
"""By how many letters of a path rules are looked up."""


class Block:
    """The rules of one file, asked in their order. Literal ones are looked up, so that many of them
    cost little.
    """

    def __init__(self, rules: Sequence[ImportedRule]) -> None:
        self.rules = tuple(rules)
        self._literal: dict[tuple[str, str], list[int]] = {}
        self._below: dict[
            str, list[int]
        ] = {}  # patterns for one path and what lies below it, by that path
        self._others: dict[
            tuple[str, str], list[int]
        ] = {}  # all else, by the host and by what the path begins with, if those are plain
        for n, rule in enumerate(self.rules):
            if rule.literal and not rule.negate and rule.subject in {PATH, RAW, TARGET}:
                text = bytewise(lower_ascii(rule.pattern) if rule.nocase else rule.pattern)
                self._literal.setdefault(
                    (rule.subject + ("i" if rule.nocase else ""), text), []
                ).append(n)
            elif top := _top(rule):
                self._below.setdefault(top, []).append(n)
            else:
                head = (
                    ""
                    if rule.subject not in {PATH, INNER}
                    else bytewise(lower_ascii(rule.head))[:_HEAD]
                )
                for host in _hosts(rule) or ("",):
                    self._others.setdefault((host, head), []).append(n)
        self._lengths = sorted({len(head) for _, head in self._others})
        self._kinds = sorted({kind for kind, _ in self._literal})

    def find(self, request: ImportedRequest) -> tuple[ImportedRule, str] | None:
        """The first rule that fits, and its destination, which may be relative; None where none
        does.
        """
        numbers: list[int] = []
        for kind in self._kinds:
            text = request.subject(kind.removesuffix("i"))
            numbers += self._literal.get(
                (kind, lower_ascii(text) if kind.endswith("i") else text), ()
            )
        if self._below:
            path = lower_ascii(request.path).rstrip("/")
            while path:
                numbers += self._below.get(path, ())
                path = path.rpartition("/")[0]
        done: set[int] = set()
        path = lower_ascii(request.path)
        heads = [path[:length] for length in self._lengths if length <= len(path)]
        others = (
            self._others.get((host, head), ()) for host in {request.host, ""} for head in heads
        )
        for n in merge(sorted(numbers), *others):
            rule = self.rules[n]
            if done and not done.isdisjoint(stages_around(rule.stage)):
                continue
            found = _fits(rule, request)
            if found is not None and not rule.ends:
                done.add(rule.stage)
            elif found is not None:
                location = location_of(rule, request, *found)
                # What cannot be said is no answer: the server gives an error. Nor is what leads to
                # itself: a server asked by HTTP alone, with another before it that speaks HTTPS,
                # would not do so.
                if location is None or (request.scheme == "https" and location == _own(request)):
                    return replace(rule, status=PASS, destination=()), ""
                return rule, location
        return None


def _hosts(rule: ImportedRule) -> list[str]:
    """The hosts that a rule is for, where its conditions name them; none where it may be for
    any.
    """
    for group in rule.groups:
        if all(c.subject == HOST and c.literal and not c.negate for c in group):
            return sorted({lower_ascii(c.pattern) for c in group})
    return []


def _top(rule: ImportedRule) -> str:
    """The path (in lower case, without a closing slash) at or below which every path lies that a
    pattern fits; empty where it is not plain to see.
    """
    if rule.negate or rule.literal or rule.subject not in {PATH, INNER} or not rule.address:
        return ""
    literal = rule.pattern.removesuffix("$").removesuffix("(.*)")
    if rule.pattern.endswith("(.*)$") and not literal.endswith("/"):
        return ""  # it goes on within the name
    return lower_ascii(rule.address).rstrip("/")


def holds(condition: Condition, text: str) -> bool:
    """Whether a condition holds for what it looks at."""
    return bool(_found(text, condition.pattern, condition)) != condition.negate


def stages_around(stage: int) -> Iterator[int]:
    """A stage, and those that it lies in."""
    yield stage
    while stage >= STAGES_WITHIN:
        stage //= STAGES_WITHIN
        yield stage


def _own(request: ImportedRequest) -> str:
    return f"{request.scheme}://{request.host}{request.subject(TARGET)}"


def _fits(rule: ImportedRule, request: ImportedRequest) -> tuple[Any, Any] | None:
    """The matches of a rule's own pattern and of its last condition; None where it does not fit."""
    if rule.subject == INNER:
        if not request.path.startswith(bytewise(rule.below)):
            return None
        text = request.path[len(bytewise(rule.below)) :]
    else:
        text = request.subject(rule.subject)
    own = _found(text, rule.pattern, rule)
    if bool(own) == rule.negate:
        return None
    last, open_or = None, False
    for condition in rule.conditions:
        if open_or:
            open_or = condition.or_next
            continue
        found = _found(request.subject(condition.subject), condition.pattern, condition)
        if bool(found) == condition.negate:
            if condition.or_next:
                continue
            return None
        if not condition.literal and not condition.negate:
            last = found
        open_or = condition.or_next
    return own, last


def _found(text: str, pattern: str, how: ImportedRule | Condition) -> Any:
    """Whether a text equals a literal, or what a pattern finds in it."""
    if not how.literal:
        return compiled(pattern, how.nocase).search(text.encode("latin-1", "replace"))
    wanted = bytewise(pattern)
    return lower_ascii(text) == lower_ascii(wanted) if how.nocase else text == wanted
