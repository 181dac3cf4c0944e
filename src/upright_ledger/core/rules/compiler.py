"""Compiling: sound answers become a rule set; the others are named, with the reason."""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace

from upright_ledger.core.inventory.declared_paths import declared_paths, unanswerable
from upright_ledger.core.inventory.normalisation import FoldingPolicy, fold
from upright_ledger.core.rules.canonical_form import CanonicalForm, form_of
from upright_ledger.core.rules.draft import Plan, asks_for_itself, is_same_path
from upright_ledger.core.rules.exact_rule import ExactRule
from upright_ledger.core.rules.finding import Finding, FindingKind
from upright_ledger.core.rules.ruleset import RuleSet
from upright_ledger.core.rules.templates.path_automata import (
    Pattern,
    common_path,
    image_parts,
    pattern_of,
    source_pattern,
)
from upright_ledger.core.rules.templates.template_index import PASS, TemplateIndex, TemplateRule
from upright_ledger.core.rules.templates.template_syntax import (
    CaptureKind,
    TemplateError,
    read_goal,
    read_source,
)
from upright_ledger.core.url.address import Address, parse_address
from upright_ledger.core.url.destination import is_safe_destination
from upright_ledger.core.url.origins import Sites
from upright_ledger.core.url.query import QueryPolicy
from upright_ledger.core.url.request_target import canonical_path, lower_path
from upright_ledger.core.word import Word

PROTECTED = ("/robots.txt", "/favicon.ico", "/.well-known/{+rest}")
"""What no template may take: files that browsers, crawlers and certificate authorities ask for by
themselves.
"""


class Exclusion(Word):
    """Why an answer without a finding became no rule."""

    REFUSED = "refused"  # no server, or not this one, could say it exactly
    PATTERN = "pattern"  # an imported pattern that no template says


class TemplateFault(Word):
    """Why a template cannot be executed safely."""

    OFF_SITE = "its destination lies on no new origin"
    ONTO_ITSELF = "it may lead onto itself"


@dataclass(frozen=True, slots=True)
class ExcludedRule:
    """An answer that became no rule, and why."""

    legacy_url: str
    kind: FindingKind | Exclusion
    reason: str


def compile_rules(
    plans: Iterable[Plan],
    findings: Iterable[Finding],
    sites: Sites,
    policy: FoldingPolicy,
    templates: Sequence[TemplateRule] = (),
    standing: Iterable[Address] = (),
    protected: Sequence[str] = PROTECTED,
    forms: Sequence[CanonicalForm] = (),
    plain: Iterable[ExactRule] = (),
) -> tuple[RuleSet, list[ExcludedRule]]:
    """The rule set of all sound plans in a fixed order, and what was held back.

    findings: what `checks.check` found in these plans. Loops, conflicts and the like keep an answer
    out; other faults are built as they were decided. standing: addresses that no template may take:
    entries that are kept or ignored, and live pages. protected: paths and templates of the same
    sort, on all sites. forms: what sites settle for all their addresses. plain: rules of other
    addresses, in which there is nothing to look at.
    """
    rules, held = _exact_rules(list(plans), findings, sites, policy, forms)
    rules += plain
    rules.sort(key=lambda r: (r.site, r.key if r.params else r.path))
    significant = {
        r.path: names
        for r in (rules if policy.significant else ())
        if (names := policy.significant_at(r.path)) is not None
    }
    significant |= policy.significant_by_path
    sound = []
    for template in templates:
        if fault := template_fault(template, sites, fold=policy.folds_case):
            held.append(ExcludedRule(template.legacy_url, Exclusion.REFUSED, fault))
        else:
            sound.append(_slash_settled(template, sites))
    authorities = dict(sites.site_of_authority)
    base = RuleSet(
        tuple(rules),
        authorities,
        policy.folds_case,
        policy.tracking,
        significant,
        tuple(sound),
        forms=tuple(forms),
    )
    return (with_passes(base, standing, sites, policy, protected) if sound else base), held


def _exact_rules(
    plans: list[Plan],
    findings: Iterable[Finding],
    sites: Sites,
    policy: FoldingPolicy,
    forms: Sequence[CanonicalForm],
) -> tuple[list[ExactRule], list[ExcludedRule]]:
    """The rules of sound plans, by site and key, and the plans that are held back."""
    rules: list[ExactRule] = []
    held: list[ExcludedRule] = []
    faults = {f.legacy_url: f.kind for f in findings if f.kind in _REASONS}
    unsound = {p.key: faults[p.legacy_url] for p in plans if p.legacy_url in faults}
    seen: set[tuple[str, str]] = set()
    for plan in sorted(plans, key=lambda p: (p.site, p.folded.key, p.legacy_url)):
        kind = unsound.get(plan.key)
        reason = (
            (_REASONS[kind] if kind else "")
            or _inexpressible(plan, sites, policy)
            or _sent_back(plan, sites, policy, forms)
        )
        if reason:
            held.append(ExcludedRule(plan.legacy_url, kind or Exclusion.REFUSED, reason))
        elif plan.key not in seen:
            seen.add(plan.key)
            rules.append(
                ExactRule(
                    plan.site,
                    plan.folded.path,
                    plan.folded.params,
                    plan.paths,
                    plan.status,
                    plan.destination,
                    plan.legacy_url,
                    plan.query,
                ),
            )
    return rules, held


def make_template(
    site: str,
    text: str,
    status: int,
    destination: str,
    label: str,
    *,
    fold: bool,
    query: QueryPolicy = QueryPolicy.CARRY_TRACKING,
) -> TemplateRule:
    """A template rule from texts. Raises TemplateError."""
    source = read_source(text, fold=fold)
    if destination:
        # The scheme and host as a URL parser spells them, so that texts can be compared.
        destination = (
            f"{parse_address(read_goal(destination).head + 'x').origin}/"
            f"{destination.split('/', 3)[3]}"
        )
        goal = read_goal(destination)
        named = {c.name for c in (*source.captures, *source.params)}
        rests = [c.name for c in source.captures if c.kind == CaptureKind.REST]
        if rests and re.search(rf"\{{{rests[0]}\}}[^?#]", goal.text):
            raise TemplateError(f"{{{rests[0]}}} stands before the end of the destination's path")
        if missing := sorted(set(goal.names) - named):
            raise TemplateError(
                f"the destination names {{{missing[0]}}}, which its source does not capture"
            )
    if query not in {QueryPolicy.CARRY_TRACKING, QueryPolicy.CARRY, QueryPolicy.DROP}:
        raise TemplateError(f"{query!r} is no way to treat a query")
    return TemplateRule(site, source, status, destination, label, query)


def template_fault(rule: TemplateRule, sites: Sites, *, fold: bool) -> TemplateFault | None:
    """Why a template cannot be executed safely; None where it can."""
    if not rule.destination:
        return None
    head = parse_address(rule.goal.head + "x")
    if not sites.is_new(head):
        return TemplateFault.OFF_SITE
    if (
        head.authority not in sites.authorities_of(rule.site)
        or _slash_settled(rule, sites).slash != "any"
    ):
        return None
    if (
        common_path(source_pattern(rule.source, fold, "any"), image_pattern(rule, fold=fold))
        is None
    ):
        return None
    query = rule.goal.text.partition("?")[2]
    if (
        rule.params
        and rule.query != QueryPolicy.CARRY
        and not any(f"{n}=" in query for n in rule.params)
    ):
        return None  # what it leads to lacks the parameter that it answers
    return TemplateFault.ONTO_ITSELF


def image_pattern(rule: TemplateRule, *, fold: bool) -> Pattern:
    """The paths that a template's destination can have."""
    goal = rule.goal
    pieces: list[str] = []
    for n, piece in enumerate(goal.pieces):
        text = piece
        if n == 0:
            text = "/" + text.partition("://")[2].partition("/")[2]
        if n % 2 == 0 and ("?" in text or "#" in text):
            pieces.append(text.replace("#", "?").partition("?")[0])
            break
        pieces.append(text)
    return pattern_of(image_parts(pieces, (*rule.source.captures, *rule.source.params)), fold=fold)


def _slash_settled(rule: TemplateRule, sites: Sites) -> TemplateRule:
    """On a shared host a template that only puts a slash on, or takes it off, answers only the
    other form.
    """
    if (
        not rule.destination
        or not rule.source.takes_slash
        or rule.goal_authority not in sites.authorities_of(rule.site)
    ):
        return rule
    path = (
        "/"
        + rule.goal.text.partition("://")[2].partition("/")[2].partition("?")[0].partition("#")[0]
    )
    bare = "".join(p if isinstance(p, str) else f"{{{p.name}}}" for p in rule.source.parts)
    return replace(rule, slash={bare + "/": "bare", bare: "slashed"}.get(path, rule.slash))


def with_passes(
    rules: RuleSet,
    standing: Iterable[Address],
    sites: Sites,
    policy: FoldingPolicy,
    protected: Sequence[str] = PROTECTED,
) -> RuleSet:
    """The set with rules that answer nothing, where a template would catch what must be left
    alone.
    """
    taken = {(r.site, r.key) for r in rules.rules}
    index = TemplateIndex(rules.templates, fold=rules.fold_case)
    passes: dict[tuple[str, str], ExactRule] = {}
    more: list[TemplateRule] = []
    wanted = list(standing)
    stated = {(t.site, t.source.text) for t in rules.templates}
    for text in protected:
        for site in sites.old:
            if "{" in text:
                if (site.name, text) not in stated:
                    more.append(
                        make_template(
                            site.name,
                            text,
                            PASS,
                            "",
                            f"{site.origins[0]}{text}",
                            fold=rules.fold_case,
                        )
                    )
            else:
                wanted.append(parse_address(text, site.origins[0]))
    for address in wanted:
        site_name = sites.site_of(address)
        folded = fold(address, policy)
        key = (site_name, folded.key)
        paths = declared_paths(folded.path, frozenset((folded.variant,)), policy)
        if not site_name or key in passes or key in taken:
            continue
        if any(index.find(site_name, p) for p in paths):
            label = address.without_fragment
            passes[key] = ExactRule(
                site_name, folded.path, folded.params, paths, PASS, "", label, QueryPolicy.DROP
            )
    exact = (*rules.rules, *(passes[k] for k in sorted(passes)))
    return replace(rules, rules=exact, templates=(*rules.templates, *more))


_REASONS = {
    FindingKind.LOOP: "it is part of a loop",
    FindingKind.SELF: "it leads onto itself",
    FindingKind.CONFLICT: "two answers claim this address",
    FindingKind.OFF_SITE: "it leads to a host that is none of the new site's",
    FindingKind.PLANNED: "the page it leads to is not published yet",
}
"""Findings that keep an answer out of a rule set, in words. All other faults are built as
decided.
"""


def _inexpressible(plan: Plan, sites: Sites, policy: FoldingPolicy) -> str:
    """Why no server could execute a plan safely, or an empty string."""
    if reason := unanswerable(plan.old):
        return reason
    names = [name for name, _ in plan.folded.params]
    if len(set(names)) < len(names):
        return (
            f"no server tells apart addresses in which {max(names, key=names.count)} is given with "
            "several values"
        )
    goal = plan.goal
    if goal is None:
        return ""
    if not is_safe_destination(plan.destination):
        return "its destination holds characters that cannot be written safely"
    if not sites.is_new(goal):
        return TemplateFault.OFF_SITE
    if goal.authority not in sites.authorities_of(plan.site):
        return ""
    if plan.folded.params and (
        asks_for_itself(plan, goal, policy)
        or (plan.query == QueryPolicy.CARRY and is_same_path(plan, goal, policy))
    ):
        return "it leads onto itself"
    if _is_case_only(plan, goal, policy):
        return "only letter case changes, and servers that fold case cannot tell the two apart"
    return ""


def _sent_back(
    plan: Plan, sites: Sites, policy: FoldingPolicy, forms: Sequence[CanonicalForm]
) -> str:
    """Why the form of a site makes a loop of a plan that leads there, or an empty string."""
    goal = plan.goal
    form = form_of(forms, plan.site)
    if goal is None or form is None or sites.site_of(goal) != plan.site:
        return ""
    settled = form.canonicalised(goal.authority, goal.target, goal.scheme)
    if not settled or not is_same_path(plan, parse_address(settled), policy):
        return ""
    return (
        f"{form.legacy_url} sends its destination on to {settled}, where the rule itself would "
        "answer"
    )


def _is_case_only(plan: Plan, goal: Address, policy: FoldingPolicy) -> bool:
    old, new = plan.folded.variant, canonical_path(goal.path)
    return (
        policy.folds_case
        and not plan.folded.params
        and old != new
        and lower_path(old) == lower_path(new)
    )
