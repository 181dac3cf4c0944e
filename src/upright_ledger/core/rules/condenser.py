"""Condensing: template rules in place of many exact ones, where nothing that is known changes."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, replace

from upright_ledger.core.inventory.normalisation import FoldingPolicy
from upright_ledger.core.inventory.placing.text_columns import column, texts
from upright_ledger.core.rules.compiler import make_template, template_fault, with_passes
from upright_ledger.core.rules.exact_rule import ExactRule
from upright_ledger.core.rules.fast_lookup import NOTHING, UNSURE, PlainRules
from upright_ledger.core.rules.generality import Bound, Reach, made_up
from upright_ledger.core.rules.proofs.proof import Witness
from upright_ledger.core.rules.proofs.prover import prove
from upright_ledger.core.rules.rule_families import HOLE, Candidate, candidates_of
from upright_ledger.core.rules.ruleset import RuleSet
from upright_ledger.core.rules.templates.template_index import PASS, TemplateRule
from upright_ledger.core.rules.templates.template_syntax import TemplateError
from upright_ledger.core.url.address import Address, parse_address
from upright_ledger.core.url.origins import Sites

FEWEST = 3
"""Exact rules that make a template worth its while."""

_LONGEST_LIST = 2500  # characters: servers take no words beyond some 4,000
_ROUNDS = 5


@dataclass(frozen=True, slots=True)
class Condensed:
    """One template in place of exact rules. replaced: how many; examples: some of their
    addresses. beyond: a made-up one that nobody knows and where the template leads it, or None.
    """

    template: TemplateRule
    replaced: int
    examples: tuple[str, ...]
    beyond: tuple[str, str] | None = None


_Chosen = tuple[TemplateRule, list[ExactRule]]
"""A template, and the rules that it takes the place of."""

_Offer = tuple[ExactRule, list[tuple[Candidate, str]]]
"""A rule, and what it may be an instance of, with its value in a list."""

_Member = tuple[ExactRule, str]
"""A rule, and its value in a list."""


def condense(
    rules: RuleSet,
    known: Iterable[tuple[str, str]],
    standing: Sequence[Address],
    sites: Sites,
    policy: FoldingPolicy,
    *,
    bold: bool = False,
    bound: Bound | None = None,
) -> tuple[RuleSet, list[Condensed]]:
    """A rule set with fewer rules that answers all known requests (host, target) as before.

    Cautious templates take only what the entries' own families look like; bold ones take whole
    folders. bound: what bears out templates that answer more than what is known. standing:
    addresses that no template may take. The result is compared with the original on every known
    request.
    """
    wanted = _answers(rules, dict.fromkeys(known))
    unanswered = [
        parse_address(f"http://{h}{t}")
        for (h, t), (status, _) in wanted.items()
        if status == NOTHING
    ]
    left_alone = [*standing, *unanswered]
    forbidden: set[tuple[str, str]] = set()
    offers = [
        (rule, list(dict.fromkeys(candidates_of(rule, bold=bold))))
        for rule in rules.rules
        if rule.status != PASS
    ]
    reach = Reach((rule for rule, _ in offers), bound, fold=rules.fold_case)
    for _ in range(_ROUNDS):
        chosen = _choose(rules, offers, sites, forbidden, reach)
        gone = {rule_key(r) for _, members in chosen for r in members}
        base = replace(
            rules,
            rules=tuple(r for r in rules.rules if r.status == PASS or rule_key(r) not in gone),
            templates=(*rules.templates, *(t for t, _ in chosen)),
        )
        made = with_passes(base, left_alone, sites, policy) if base.templates else base
        changed = {r for r, answer in _answers(made, wanted).items() if answer != wanted[r]}
        leading_on = _leading_on(made, chosen) if not changed else []
        for _, members in leading_on:
            forbidden |= {rule_key(r) for r in members}
        if not changed and not leading_on:
            told = [
                Condensed(
                    t,
                    len(m),
                    tuple(r.legacy_url for r in m[:3]),
                    made_up(t, m, fold=rules.fold_case),
                )
                for t, m in chosen
            ]
            return made, sorted(told, key=lambda c: (-c.replaced, c.template.source.text))
        # Whose answer would change keeps an exact rule of its own.
        for request in changed:
            found = rules.find(*request)
            if found is not None and isinstance(found[0], ExactRule):
                forbidden.add(rule_key(found[0]))
    return rules, []


def _leading_on(made: RuleSet, chosen: Sequence[_Chosen]) -> list[_Chosen]:
    """The templates that would send some address on to another rule: each is one that the proof
    shows, or may be.
    """
    on_site = [c for c in chosen if c[0].goal_authority in made.site_of]
    if not on_site:
        return []
    proof = prove(made)
    shown = {id(rule) for w in proof.witnesses if (rule := _first_rule(made, w)) is not None}
    open_ones = {text.partition(" may lead")[0] for text in proof.undecided}
    return [c for c in on_site if id(c[0]) in shown or c[0].source.text in open_ones]


def _first_rule(rules: RuleSet, witness: Witness) -> object:
    address = parse_address(witness.url)
    answer = rules.answer(address.authority, address.target, address.scheme)
    return answer.rule if answer is not None else None


def rule_key(rule: ExactRule) -> tuple[str, str]:
    """What names an exact rule within its set."""
    return rule.site, rule.key


def _answers(
    rules: RuleSet, requests: Iterable[tuple[str, str]]
) -> dict[tuple[str, str], tuple[int, str]]:
    """Request (host, target) → status (or NOTHING) and location of its answer; without what sites
    settle for all their addresses.
    """
    targets_of: dict[str, list[str]] = defaultdict(list)
    found = {}
    for host, target in requests:
        found[host, target] = UNSURE, ""
        targets_of[host].append(target)
    plain = PlainRules(rules)
    for host, targets in targets_of.items():
        statuses, locations = plain.answers(host, column(targets))
        told = zip(targets, statuses.tolist(), texts(locations), strict=True)
        for target, status, location in told:
            if status == UNSURE:
                answer = rules.answer_of_rules(host, target)
                found[host, target] = (
                    (NOTHING, "") if answer is None else (answer.status, answer.location)
                )
            else:
                found[host, target] = status, location
    return found


def _choose(
    rules: RuleSet,
    offers: Iterable[_Offer],
    sites: Sites,
    forbidden: set[tuple[str, str]],
    reach: Reach,
) -> list[_Chosen]:
    """Templates and the rules that each takes the place of: the one that takes the most first."""
    groups: dict[Candidate, list[_Member]] = defaultdict(list)
    for rule, candidates in offers:
        if rule_key(rule) not in forbidden:
            for candidate, value in candidates:
                groups[candidate].append((rule, value))
    covered: set[tuple[str, str]] = set()
    chosen = []
    for candidate, members in sorted(
        groups.items(), key=lambda g: (-len(g[1]), g[0].is_list, g[0].source, g[0].destination)
    ):
        free = [(r, value) for r, value in members if rule_key(r) not in covered]
        if len(free) < FEWEST:
            continue
        for portion in _portions(candidate, free):
            taken = [rule for rule, _ in portion]
            template = _template(candidate, _source(candidate, portion), rules, sites)
            if template is not None:
                template = _template(candidate, reach.narrowed(template, taken), rules, sites)
            if template is not None and reach.allows(template, taken):
                chosen.append((template, taken))
                covered |= {rule_key(r) for r in taken}
    return chosen


def _portions(candidate: Candidate, members: list[_Member]) -> Iterator[list[_Member]]:
    """The members of one template each: lists are cut where they grow long."""
    if not candidate.is_list:
        yield members
        return
    portion: list[_Member] = []
    length = 0
    for member in sorted(members, key=lambda m: m[1]):
        length += len(member[1]) + 1
        if length > _LONGEST_LIST:
            yield portion
            portion, length = [], len(member[1]) + 1
        portion.append(member)
    if len(portion) >= FEWEST:
        yield portion


def _source(candidate: Candidate, members: list[_Member]) -> str:
    # Values that are alike, as of dates in several folders, stand once.
    return candidate.source.replace(HOLE, ",".join(sorted({value for _, value in members})))


def _template(
    candidate: Candidate, source: str, rules: RuleSet, sites: Sites
) -> TemplateRule | None:
    label = f"{sites.base_of(candidate.site)}{source}"
    try:
        made = make_template(
            candidate.site,
            source,
            candidate.status,
            candidate.destination,
            label,
            fold=rules.fold_case,
            query=candidate.query,
        )
    except TemplateError:
        return None
    return None if template_fault(made, sites, fold=rules.fold_case) else made
