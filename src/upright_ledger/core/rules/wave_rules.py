"""The rules of one wave: those of the sections that are live with it, and nothing that would answer
an address of a later one.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass, field, replace
from itertools import islice, product

from upright_ledger.core.inventory.normalisation import FoldingPolicy
from upright_ledger.core.rules.compiler import with_passes
from upright_ledger.core.rules.ruleset import RuleSet
from upright_ledger.core.rules.templates.path_automata import common_path, source_pattern
from upright_ledger.core.rules.templates.template_index import PASS, TemplateGroup, TemplateRule
from upright_ledger.core.rules.templates.template_samples import sample_text
from upright_ledger.core.url.address import address_of
from upright_ledger.core.url.origins import Sites

_SORTS = 6
_MOST_SAMPLES = 200

Within = Callable[[str, str], bool]
"""Whether an address (site, path) is live with a wave."""


@dataclass
class WaveRules:
    """The rules of a wave. later: how many exact rules wait for a later one; waiting: templates
    that do, as they reach beyond it.
    """

    rules: RuleSet
    later: int = 0
    waiting: list[TemplateRule] = field(default_factory=list)


def rules_within(rules: RuleSet, within: Within, sites: Sites, policy: FoldingPolicy) -> WaveRules:
    """The rules of a wave. Where a template of it would answer what a rule of a later wave is for,
    that address is left alone.
    """
    mine_of = [rule.status == PASS or within(rule.site, rule.key) for rule in rules.rules]
    told = list(zip(rules.rules, mine_of, strict=True))
    left = [rule for rule, is_mine in told if not is_mine]
    taken = {(rule.site, path) for rule, is_mine in told if is_mine for path in rule.paths}
    exact = [
        rule if is_mine else rule.passing
        for rule, is_mine in told
        if is_mine or any((rule.site, path) in taken for path in rule.paths)
    ]
    later, mine = list[TemplateGroup](), list[TemplateGroup]()
    for group in rules.template_index:
        if group.rules[0].status != PASS:
            of_wave = all(_all_within(t, within) for t in group.rules)
            (mine if of_wave else later).append(group)
    order = {id(group): n for n, group in enumerate(rules.template_index)}
    passing = list[TemplateRule]()
    for group in list(later):
        before, after = _around(group, mine, order, fold=rules.fold_case)
        if after and not before:
            passing += [t.passing for t in group.rules]
        elif after:  # what comes before it is not to be kept from its addresses
            mine = [g for g in mine if g not in after]
            later += after
    waiting = {id(t) for group in later for t in group.rules}
    templates = (*(t for t in rules.templates if id(t) not in waiting), *passing)
    kept = replace(rules, rules=tuple(exact), templates=templates, forms=())
    if kept.templates:
        kept = with_passes(kept, (address_of(r.legacy_url) for r in left), sites, policy, ())
    return WaveRules(kept, len(left), [t for t in rules.templates if id(t) in waiting])


def _all_within(template: TemplateRule, within: Within) -> bool:
    """Whether addresses of all sorts that a template answers are live with a wave."""
    return all(within(template.site, path) for path in islice(_samples(template), _MOST_SAMPLES))


def _samples(template: TemplateRule) -> Iterator[str]:
    captures = template.source.captures
    choices = [
        c.values or tuple(dict.fromkeys(sample_text(c, n) for n in range(_SORTS))) for c in captures
    ]
    for values in product(*choices):
        told = dict(zip(captures, values, strict=True))
        yield "".join(p if isinstance(p, str) else told[p] for p in template.source.parts)


def _around(
    later: TemplateGroup, mine: list[TemplateGroup], order: Mapping[int, int], *, fold: bool
) -> tuple[list[TemplateGroup], list[TemplateGroup]]:
    """The templates of this wave that share addresses with one of a later wave: those that come
    before it where both fit, and those that come after it. order: the identity of a group → place.
    """
    pattern = source_pattern(later.source, fold, later.rules[0].slash)
    shared = [
        group
        for group in mine
        if group.site == later.site
        and common_path(pattern, source_pattern(group.source, fold, group.rules[0].slash))
        is not None
    ]
    place = order[id(later)]
    return (
        [g for g in shared if order[id(g)] < place],
        [g for g in shared if order[id(g)] > place],
    )
