"""Checks of template rules: where they lead, what they cannot reach, and what they are no use
for.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence

from upright_ledger.core.checks.context import CheckContext
from upright_ledger.core.rules.compiler import TemplateFault, template_fault
from upright_ledger.core.rules.finding import SEVERITIES, Finding, FindingKind
from upright_ledger.core.rules.imported.blocks import Block
from upright_ledger.core.rules.imported.rule import ImportedRule, request_of
from upright_ledger.core.rules.ruleset import RuleSet
from upright_ledger.core.rules.templates.path_automata import common_path, source_pattern
from upright_ledger.core.rules.templates.template_index import PASS, TemplateGroup, TemplateRule
from upright_ledger.core.rules.templates.template_syntax import CaptureKind
from upright_ledger.core.severity import Severity
from upright_ledger.core.url.address import address_of
from upright_ledger.core.url.destination import page_key
from upright_ledger.core.url.redaction import has_masked_segment

_KINDS = {
    TemplateFault.OFF_SITE: FindingKind.OFF_SITE,
    TemplateFault.ONTO_ITSELF: FindingKind.SELF,
}


def check_templates(
    templates: Iterable[TemplateRule], rules: RuleSet, around: CheckContext
) -> Iterator[Finding]:
    """Faults of templates themselves. rules: the set in which they stand."""
    fold = around.policy.folds_case
    for rule in templates:
        if reason := template_fault(rule, around.sites, fold=fold):
            kind = _KINDS[reason]
            yield _finding(kind, rule, f"{reason}: it is not built", f"templates: {reason}")
        elif rule.status in {302, 307}:
            detail = f"moves for a time only ({rule.status}); use 301 if it is for good"
            yield _finding(
                FindingKind.TEMPORARY,
                rule,
                detail,
                f"a temporary status ({rule.status}) where moves are for good",
                Severity.NOTE,
            )
        if rule.destination and _leads_home(rule, around):
            yield _finding(
                FindingKind.HOME_FALLBACK,
                rule,
                "leads to the home page whatever is asked for; name a page of each section, or 410",
                "inner pages sent to the home page",
            )
    yield from _order_decides(rules, fold=fold)


def _leads_home(rule: TemplateRule, around: CheckContext) -> bool:
    """Whether all that a template answers ends on a front page."""
    if rule.goal.names:
        return False
    return page_key(address_of(rule.destination)) in around.homes


def _order_decides(rules: RuleSet, *, fold: bool) -> Iterator[Finding]:
    """Templates that another one takes all or some addresses from, of which they tell something
    else.
    """
    groups = [g for g in rules.template_index if g.rules[0].status != PASS]
    for first, second in sorted(_beginning_alike(groups)):
        earlier, later = groups[first], groups[second]
        shared = common_path(
            source_pattern(earlier.source, fold, earlier.rules[0].slash),
            source_pattern(later.source, fold, later.rules[0].slash),
        )
        if shared is not None and not _is_for_the_rest(later, earlier, fold=fold):
            text = f"{earlier.source.text} comes first where both fit, as at {shared}"
            yield _finding(
                FindingKind.SHADOWED,
                later.rules[0],
                text,
                f"{earlier.source.text} comes first",
                Severity.NOTE,
            )


def _is_for_the_rest(general: TemplateGroup, one: TemplateGroup, *, fold: bool) -> bool:
    """Whether a template is one for all that follows, and another for a part of that: the second
    comes first, as whoever wrote them wants it.
    """
    head, within = general.source.head, one.source.head
    if fold:
        head, within = head.lower(), within.lower()
    ends_there = [p.kind for p in general.source.captures] == [CaptureKind.REST]
    return ends_there and len(within) > len(head) and within.startswith(head)


def _beginning_alike(groups: Sequence[TemplateGroup]) -> Iterator[tuple[int, int]]:
    """Pairs of groups of one site, by their places, of which one's literal beginning begins the
    other's.

    Sorted by these beginnings, all that begin with a text follow on it: so those open at any time
    are a stack.
    """
    heads = sorted((g.site, g.source.head.lower(), n) for n, g in enumerate(groups))
    above: list[tuple[str, str, int]] = []
    for site, head, n in heads:
        while above and not (above[-1][0] == site and head.startswith(above[-1][1])):
            above.pop()
        yield from ((min(n, other), max(n, other)) for _, _, other in above)
        above.append((site, head, n))


def check_variants(
    answered: Iterable[tuple[str, str, str, str]], rules: RuleSet
) -> Iterator[Finding]:
    """Spellings of an entry that its template does not answer. answered: host, target, template and
    destination of each spelling.
    """
    for host, target, template, destination in answered:
        if rules.answer_of_rules(host, target) is None:
            detail = (
                f"this spelling was seen, and {template} does not answer it: decide it on its own"
            )
            cause = f"spellings that {template} does not answer"
            yield Finding(
                FindingKind.UNCOVERED_VARIANT,
                SEVERITIES[FindingKind.UNCOVERED_VARIANT],
                f"http://{host}{target}",
                destination,
                detail,
                cause,
            )


def check_sessions(unanswered: Iterable[tuple[str, str]]) -> Iterator[Finding]:
    """Spellings with the identifier of a visit, or a secret, in their path, which belong to an
    answered entry and have no rule: (spelling, entry).
    """
    for spelling, entry in unanswered:
        if has_masked_segment(spelling.partition("?")[0]):
            detail = (
                "seen with secrets in its path, which are masked here: decide a template that "
                "takes any text in their place, such as /reset/{secret}"
            )
            cause = "secrets in paths"
        else:
            detail = (
                f"seen with the identifier of a visit in its path, which belongs to {entry}: no "
                "rule answers that; "
                "let the server take identifiers out of paths before it asks the rules"
            )
            cause = "identifiers of visits in paths"
        yield Finding(
            FindingKind.UNCOVERED_VARIANT,
            SEVERITIES[FindingKind.UNCOVERED_VARIANT],
            spelling,
            "",
            detail,
            cause,
        )


def check_imported(
    rules: Iterable[tuple[Block, ImportedRule]], bases: dict[str, str]
) -> Iterator[Finding]:
    """Rules of a server's file that an earlier rule of the same file keeps from ever answering."""
    for block, rule in rules:
        host = rule.host or next(iter(bases), "")
        if not rule.address or host not in bases:
            continue
        found = block.find(request_of(bases[host], host, rule.address))
        if found is not None and found[0] is not rule:
            text = (
                f"never asked: the rule of {found[0].where} takes {rule.address} first "
                f"({rule.where})"
            )
            url = f"{bases[host].partition('://')[0]}://{host}{rule.address}"
            yield Finding(
                FindingKind.SHADOWED,
                SEVERITIES[FindingKind.SHADOWED],
                url,
                "",
                text,
                f"the rule of {found[0].where} comes first",
            )


def _finding(
    kind: FindingKind, rule: TemplateRule, detail: str, cause: str, severity: Severity | None = None
) -> Finding:
    return Finding(
        kind, severity or SEVERITIES[kind], rule.legacy_url, rule.destination, detail, cause
    )
