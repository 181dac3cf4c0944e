"""How far a template may go beyond the rules that it takes the place of: as far as what is known
bears it out.
"""

from __future__ import annotations

import re
from bisect import bisect_left
from collections import defaultdict
from collections.abc import Iterable, Mapping, Sequence
from itertools import product
from math import prod, sqrt
from typing import NamedTuple

from upright_ledger.core.rules.exact_rule import ExactRule
from upright_ledger.core.rules.templates.template_index import TemplateRule
from upright_ledger.core.rules.templates.template_syntax import Capture, CaptureKind

_Z = 1.645
"""Of the normal distribution, at 95 % on one side."""
_MADE_UP = ("example", "another-example", "a-further-example")
_MOST_TRIED = 1000


class Bound(NamedTuple):
    """What bears a template out. most_wrong: of the addresses of its form that nobody knows, so
    many at most may be meant for elsewhere, at 95 % confidence, by those that are known (Wilson's
    score). kinds: values that a capture must have had before it takes any other.
    """

    most_wrong: float
    kinds: int

    def holds(self, wrong: int, of: int) -> bool:
        """Whether so many that go elsewhere, of so many of a form, are few enough."""
        if not of:
            return False
        share, weight = wrong / of, _Z * _Z / of
        spread = _Z * sqrt(share * (1 - share) / of + weight / (4 * of))
        return (share + weight / 2 + spread) / (1 + weight) <= self.most_wrong


CAUTIOUS = Bound(0.15, 5)
"""Sixteen addresses of a form that all go its way, or twenty-eight of which one does not."""


class Reach:
    """How far templates may go in the place of some exact rules, by a bound; without one as far as
    they like.
    """

    def __init__(self, rules: Iterable[ExactRule], bound: Bound | None, *, fold: bool) -> None:
        by_site: dict[str, list[tuple[str, ExactRule]]] = defaultdict(list)
        for rule in rules:
            by_site[rule.site].append((rule.path, rule))
        for told in by_site.values():
            told.sort(key=lambda pair: pair[0])
        self._rules = {site: [rule for _, rule in told] for site, told in by_site.items()}
        self._paths = {site: [path for path, _ in told] for site, told in by_site.items()}
        self._bound, self._fold = bound, fold

    def narrowed(self, template: TemplateRule, members: Sequence[ExactRule]) -> str:
        """The source of a template in place of these rules, whose captures take none but their
        values where these are of too few kinds.
        """
        text = template.source.text
        if self._bound is None:
            return text
        seen = _values(template, members, fold=self._fold)
        for capture in (*template.source.captures, *template.source.params):
            told = sorted({values[capture.name] for values in seen})
            if capture.kind != CaptureKind.LIST and len(told) < self._bound.kinds:
                mark = "{?" if capture in template.source.params else "{"
                listed = Capture(capture.name, CaptureKind.LIST, tuple(told)).text[1:]
                text = text.replace(f"{mark}{capture.text[1:]}", f"{mark}{listed}", 1)
        return text

    def allows(self, template: TemplateRule, members: Sequence[ExactRule]) -> bool:
        """Whether a template answers nothing but these rules' addresses, or the known ones of its
        form go where it says, but for so few as the bound allows.
        """
        if self._bound is None or not _goes_beyond(template, members, fold=self._fold):
            return True
        agree = wrong = 0
        for rule, values in self._of_form(template):
            goal = template.goal.fill(values) if template.destination else ""
            if (rule.status, rule.destination) == (template.status, goal):
                agree += 1
            else:
                wrong += 1
        return self._bound.holds(wrong, agree + wrong)

    def _of_form(self, template: TemplateRule) -> Iterable[tuple[ExactRule, dict[str, str]]]:
        source, paths = template.source, self._paths.get(template.site, [])
        head = source.head.lower() if self._fold else source.head
        rules = self._rules.get(template.site, [])
        for at in range(bisect_left(paths, head), len(paths)):
            if not paths[at].startswith(head):
                break
            values = _values_in(template, rules[at], fold=self._fold)
            if values is not None:
                yield rules[at], values


def _values_in(template: TemplateRule, rule: ExactRule, *, fold: bool) -> dict[str, str] | None:
    """What a template's captures take of an exact rule's address; None where it does not fit."""
    source = template.source
    match = re.fullmatch(source.regex(fold=fold), rule.path)
    asked = dict(rule.params)
    if match is None or asked.keys() != {p.name for p in source.params}:
        return None
    if not all(re.fullmatch(p.regex(), asked[p.name]) for p in source.params):
        return None
    return {c.name: match[n] for n, c in enumerate(source.captures, 1)} | asked


def _goes_beyond(template: TemplateRule, rules: Sequence[ExactRule], *, fold: bool) -> bool:
    captures = (*template.source.captures, *template.source.params)
    if any(c.kind != CaptureKind.LIST for c in captures):
        return True
    seen = {tuple(v[c.name] for c in captures) for v in _values(template, rules, fold=fold)}
    return prod(len(c.values) for c in captures) > len(seen)


def made_up(
    template: TemplateRule, rules: Sequence[ExactRule], *, fold: bool
) -> tuple[str, str] | None:
    """An address of a template's form that none of these rules is for, and where it goes; None
    where there is none.
    """
    captures = (*template.source.captures, *template.source.params)
    seen = _values(template, rules, fold=fold)
    known = {tuple(v[c.name] for c in captures) for v in seen}
    choices = [_choices(c, {v[c.name] for v in seen}) for c in captures]
    for n, values in enumerate(product(*choices)):
        if n == _MOST_TRIED:
            break
        if values not in known:
            told = dict(zip((c.name for c in captures), values, strict=True))
            return _address(template, told), (
                template.goal.fill(told) if template.destination else ""
            )
    return None


def _choices(capture: Capture, known: set[str]) -> Sequence[str]:
    """Values of a capture, such as nobody knows first."""
    if capture.kind == CaptureKind.LIST:
        return capture.values
    if capture.kind == CaptureKind.DIGITS:
        return [str(max((int(v) for v in known), default=0) + 1)]
    if capture.kind == CaptureKind.REST:
        return ["example/page"]
    word = capture.kind == CaptureKind.WORD
    told = [name.replace("-", "") if word else name for name in _MADE_UP]
    return [name for name in told if name not in known] or told


def _address(template: TemplateRule, values: Mapping[str, str]) -> str:
    path = "".join(p if isinstance(p, str) else values[p.name] for p in template.source.parts)
    query = "&".join(f"{p.name}={values[p.name]}" for p in template.source.params)
    return f"{path}?{query}" if query else path


def _values(
    template: TemplateRule, rules: Iterable[ExactRule], *, fold: bool
) -> list[dict[str, str]]:
    found = (_values_in(template, rule, fold=fold) for rule in rules)
    return [values for values in found if values is not None]
