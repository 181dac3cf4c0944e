"""Condensing: template rules in place of many exact ones, where nothing that is known changes."""

from __future__ import annotations

import re
from collections import defaultdict
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, replace
from typing import NamedTuple

from upright_ledger.core.inventory.normalisation import FoldingPolicy
from upright_ledger.core.rules.compiler import make_template, template_fault, with_passes
from upright_ledger.core.rules.exact_rule import ExactRule
from upright_ledger.core.rules.fast_lookup import NOTHING, UNSURE, PlainRules, is_plain
from upright_ledger.core.rules.proofs.proof import Witness
from upright_ledger.core.rules.proofs.prover import prove
from upright_ledger.core.rules.ruleset import RuleSet
from upright_ledger.core.rules.templates.template_index import PASS, TemplateRule
from upright_ledger.core.rules.templates.template_syntax import TemplateError
from upright_ledger.core.url.address import Address, parse_address
from upright_ledger.core.url.origins import Sites
from upright_ledger.core.url.query import QueryPolicy

FEWEST = 3
"""Exact rules that make a template worth its while."""

_LONGEST_LIST = 2500  # characters: servers take no words beyond some 4,000
_ROUNDS = 5
_PLAIN = re.compile(r"[A-Za-z0-9._~-]+\Z")
_ENDING = re.compile(r"(?<=.)\.[a-z][a-z0-9]{0,4}\Z", re.IGNORECASE)
_PARAMETER = re.compile(r"[a-z][a-z0-9_]{0,30}\Z")
_HOLE = "\0"
_WORD = frozenset("ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789")
_BEFORE, _BEHIND = _WORD | {"{"}, _WORD | {"}"}
"""What stands at neither end of a word that is one of its own."""


@dataclass(frozen=True, slots=True)
class Condensed:
    """One template in place of exact rules. replaced: how many; examples: some of their
    addresses.
    """

    template: TemplateRule
    replaced: int
    examples: tuple[str, ...]


class _Candidate(NamedTuple):
    """What some exact rules have in common. source, destination: with holes for list values, or
    captures by name.
    """

    site: str
    source: str
    destination: str
    status: int
    query: QueryPolicy
    is_list: bool = False


_Chosen = tuple[TemplateRule, list[ExactRule]]
"""A template, and the rules that it takes the place of."""

_Offer = tuple[ExactRule, list[tuple[_Candidate, str]]]
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
) -> tuple[RuleSet, list[Condensed]]:
    """A rule set with fewer rules that answers all known requests (host, target) as before.

    Cautious templates take only what the entries' own families look like; bold ones take whole
    folders. standing: addresses that no template may take. The result is compared with the original
    on every known request.
    """
    wanted = _answers(rules, dict.fromkeys(known))
    unanswered = [
        parse_address(f"http://{h}{t}") for (h, t), answer in wanted.items() if answer == NOTHING
    ]
    left_alone = [*standing, *unanswered]
    forbidden: set[tuple[str, str]] = set()
    offers = [
        (rule, list(dict.fromkeys(_candidates(rule, bold=bold))))
        for rule in rules.rules
        if rule.status != PASS
    ]
    for _ in range(_ROUNDS):
        chosen = _choose(rules, offers, sites, forbidden)
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
            told = [Condensed(t, len(m), tuple(r.legacy_url for r in m[:3])) for t, m in chosen]
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
    """Request (host, target) → status and location of its answer, or NOTHING; without what sites
    settle for all their addresses.
    """
    plainly = PlainRules(rules).answer
    found = {}
    for host, target in requests:
        site = rules.site_of.get(host)
        said = plainly(site, target) if site is not None and is_plain(target) else UNSURE
        if said == UNSURE:
            answer = rules.answer_of_rules(host, target)
            said = NOTHING if answer is None else (answer.status, answer.location)
        found[host, target] = said
    return found


def _choose(
    rules: RuleSet, offers: Iterable[_Offer], sites: Sites, forbidden: set[tuple[str, str]]
) -> list[_Chosen]:
    """Templates and the rules that each takes the place of: the one that takes the most first."""
    groups: dict[_Candidate, list[_Member]] = defaultdict(list)
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
            template = _template(candidate, portion, rules, sites)
            if template is not None:
                taken = [rule for rule, _ in portion]
                chosen.append((template, taken))
                covered |= {rule_key(r) for r in taken}
    return chosen


def _portions(candidate: _Candidate, members: list[_Member]) -> Iterator[list[_Member]]:
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


def _template(
    candidate: _Candidate, members: list[_Member], rules: RuleSet, sites: Sites
) -> TemplateRule | None:
    # Values that are alike, as of dates in several folders, stand once.
    values = ",".join(sorted({value for _, value in members}))
    source = candidate.source.replace(_HOLE, values)
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


def _candidates(rule: ExactRule, *, bold: bool) -> Iterator[tuple[_Candidate, str]]:
    """What an exact rule may be an instance of; of lists, with its value in them."""
    whole = (rule.status, rule.query)
    carried = [c for pieces in _readings(rule.path) if (c := _carried(rule, pieces)) is not None]
    yield from ((_Candidate(rule.site, *c, *whole), "") for c in carried)
    if bold and (moved := _folder_moved(rule)) is not None:
        yield _Candidate(rule.site, *moved, *whole), ""
    if not carried:
        for source, value in _with_a_hole(rule):
            yield _Candidate(rule.site, source, rule.destination, *whole, is_list=True), value


Pieces = tuple[tuple[str, str], ...]
"""A path in pieces: what stands before each (a slash, or another sign within a segment), and its
text; the ending last.
"""


def _readings(path: str) -> Iterator[Pieces]:
    """Ways to take a path apart: by segments; with the numbers that begin the last one apart; with
    its few words apart.
    """
    parts = path.split("/")[1:]
    stem, ending = _stem(parts[-1])
    above = tuple(("/", p) for p in parts[:-1])
    end = (("", ending),)
    yield (*above, ("/", stem), *end)
    if match := re.match(r"((?:[0-9]+[-_.])+)([^0-9].*)\Z", stem):
        yield (*above, *_apart(match[1]), (match[1][-1], match[2]), *end)
    if match := re.match(r"([a-z]+)([0-9]+)\Z", stem):
        yield (*above, (f"/{match[1]}", match[2]), *end)
    words = re.split(r"[-_]", stem)
    if len(words) in {2, 3} and all(re.fullmatch("[a-z0-9]+", w) for w in words):
        yield (*above, *_apart(stem), *end)


def _apart(text: str) -> Iterator[tuple[str, str]]:
    """Words with the sign before each; the first begins a segment."""
    sign = "/"
    for match in re.finditer(r"([a-z0-9]+)([-_.]?)", text):
        yield sign, match[1]
        sign = match[2]


def _carried(rule: ExactRule, pieces: Pieces) -> tuple[str, str] | None:
    """Source and destination with captures for what stands in both; numbers of the path that do not
    are any number.

    None where the destination repeats nothing of the source.
    """
    head, goal = _split(rule.destination)
    *texts, (_, ending) = pieces
    taken: dict[int, str] = {}
    # The longest first, so that "2011" within "clock-2011" is not taken for the year. The first
    # folder stays as it is: it is what tells the family from others.
    order = sorted(range(len(texts)), key=lambda n: (-len(texts[n][1]), n))
    for at in (
        n for n in order if n or len(texts) == 1 or texts[1][0] != "/" or texts[0][1].isdigit()
    ):
        text = texts[at][1]
        found = _find(goal, text) if len(text) > 1 or text.isdigit() else -1
        if found >= 0 and len(taken) < 5:
            taken[at] = f"p{at + 1}"
            goal = f"{goal[:found]}{{p{at + 1}}}{goal[found + len(text) :]}"
    params = ""
    for name, value in rule.params:
        found = _find(goal, value) if _PLAIN.match(value) and _PARAMETER.match(name) else -1
        if found < 0:
            return None
        goal = f"{goal[:found]}{{{name}}}{goal[found + len(value) :]}"
        params += f"{{?{name}{'|digits' if value.isdigit() else ''}}}"
    if not taken and not params:
        return None
    source = ""
    for at, (sign, text) in enumerate(texts):
        # Within a segment a capture must not hold the sign that follows it.
        inner = sign != "/" or (at + 1 < len(texts) and texts[at + 1][0] != "/")
        narrow = (
            "|digits"
            if text.isdigit()
            else "|word"
            if inner and re.fullmatch("[A-Za-z0-9]+", text)
            else ""
        )
        if at in taken:
            source += f"{sign}{{{taken[at]}{narrow}}}"
        else:
            source += sign + (f"{{n{at + 1}|digits}}" if text.isdigit() else text)
    return source + ending + params, head + goal


def _find(goal: str, text: str) -> int:
    """Where a text stands in a destination as a word of its own, or -1. The last one counts:
    folders come first.
    """
    if not _PLAIN.match(text):
        return -1
    last, at = -1, goal.find(text)
    while at >= 0:
        end = at + len(text)
        if goal[at - 1 : at] not in _BEFORE and goal[end : end + 1] not in _BEHIND:
            last, at = at, goal.find(text, end)
        else:
            at = goal.find(text, at + 1)
    return last


def _folder_moved(rule: ExactRule) -> tuple[str, str] | None:
    """A whole folder that moved with all that is below it."""
    head, goal = _split(rule.destination)
    if rule.params or not goal or "?" in goal or "#" in goal:
        return None
    below, there = rule.path, "/" + goal
    old_parts, new_parts = below.strip("/").split("/"), there.strip("/").split("/")
    shared = 0
    while (
        shared < min(len(old_parts), len(new_parts))
        and old_parts[-1 - shared] == new_parts[-1 - shared]
    ):
        shared += 1
    if shared == 0 or shared == len(old_parts) or there.endswith("/") != below.endswith("/"):
        return None
    old, new = "/".join(old_parts[:-shared]), "/".join(new_parts[: len(new_parts) - shared])
    return f"/{old}/{{+rest}}", f"{head}{new}{'/' if new else ''}{{rest}}"


def _with_a_hole(rule: ExactRule) -> Iterator[tuple[str, str]]:
    """A path with one of its names left open, and that name; numbers around it may be any. Or the
    value of its one parameter.
    """
    if rule.params:
        (name, value), *more = rule.params
        if not more and _PLAIN.match(value) and _PARAMETER.match(name):
            yield f"{rule.path}{{?{name}|{_HOLE}}}", value
        return
    parts = rule.path.split("/")[1:]
    stems = [(text, "") for text in parts[:-1]] + [_stem(parts[-1])]
    for at, (stem, _) in enumerate(stems):
        if not _PLAIN.match(stem):
            continue
        for loose in (False, True):
            texts = [
                f"{{name|{_HOLE}}}{end}"
                if n == at
                else f"{{n{n + 1}|digits}}{end}"
                if loose and t.isdigit()
                else t + end
                for n, (t, end) in enumerate(stems)
            ]
            yield "/" + "/".join(texts), stem


def _split(destination: str) -> tuple[str, str]:
    """Origin with its slash, and the rest."""
    scheme, mark, rest = destination.partition("://")
    host, slash, goal = rest.partition("/")
    return f"{scheme}{mark}{host}{slash}", goal


def _stem(segment: str) -> tuple[str, str]:
    match = _ENDING.search(segment)
    return (segment[: match.start()], match[0]) if match else (segment, "")
