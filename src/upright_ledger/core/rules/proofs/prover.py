"""The search for chains and loops, over every URL that there is."""

from __future__ import annotations

import re
from bisect import bisect_left
from collections import defaultdict
from collections.abc import Iterator
from functools import cached_property

from upright_ledger.core.rules.canonical_form import CanonicalForm, form_of
from upright_ledger.core.rules.compiler import image_pattern
from upright_ledger.core.rules.exact_rule import ExactRule, PathRules
from upright_ledger.core.rules.proofs.proof import Proof, Witness, in_their_order
from upright_ledger.core.rules.ruleset import RuleSet
from upright_ledger.core.rules.templates.path_automata import (
    OTHER_LETTERS,
    Pattern,
    common_path,
    common_paths,
    source_pattern,
)
from upright_ledger.core.rules.templates.template_index import PASS, TemplateGroup, TemplateRule
from upright_ledger.core.rules.templates.template_samples import (
    head_of,
    is_identity,
    path_pieces,
    sample_text,
)
from upright_ledger.core.url.address import Address, parse_address
from upright_ledger.core.url.destination import authority_of
from upright_ledger.core.url.escapes import value_spellings
from upright_ledger.core.url.query import QueryPolicy
from upright_ledger.core.url.request_target import lower_path

_MOST_HOPS = 20


_FEW_PATHS = 64


_SORTS = 6


def prove(rules: RuleSet) -> Proof:
    """Look for an address that a rule sends to another rule. Each witness was played through the
    rules. Imported blocks, which are not built, have no part in it.
    """
    proof = Proof(len(rules.answering))
    prover = _Prover(rules)
    old, beginnings = rules.site_of.keys(), rules.beginnings
    for rule in rules.answering:
        if not isinstance(rule, ExactRule):
            if rule.destination:
                prover.template(rule, proof)
        elif rule.destination.startswith(beginnings) and authority_of(rule.destination) in old:
            prover.exact(rule, proof)
    for form in rules.forms:
        prover.form(form, proof)
    unique = {w.url: w for w in proof.witnesses}
    proof.witnesses = in_their_order(unique.values())
    proof.undecided = list(dict.fromkeys(proof.undecided))
    return proof


class _Prover:
    """Holds what is looked up again and again: the sources of each site."""

    def __init__(self, rules: RuleSet) -> None:
        self.rules = rules
        self.heads: dict[str, list[tuple[TemplateGroup, str]]] = defaultdict(list)
        for group in rules.template_index if rules.templates else ():
            if group.rules[0].status != PASS:
                first = group.source.parts[0]
                text = first if isinstance(first, str) else ""
                self.heads[group.site].append((group, text.lower() if rules.fold_case else text))
        self.host_of: dict[str, str] = {}
        for authority, site in sorted(rules.site_of.items(), key=lambda item: (len(item[0]), item)):
            self.host_of.setdefault(site, authority)

    @cached_property
    def groups(self) -> dict[tuple[str, str], PathRules]:
        """Site and path → the rules there."""
        return {(site, path): group for site, path, group in self.rules.paths()}

    @cached_property
    def paths(self) -> dict[str, list[str]]:
        """Site → its answered paths, in order."""
        found: dict[str, list[str]] = defaultdict(list)
        for site, path in self.groups:
            found[site].append(path)
        for listed in found.values():
            listed.sort()
        return found

    def exact(self, rule: ExactRule, proof: Proof) -> None:
        """An exact rule leads to one address on an old site; what it carries on of the query may
        choose a rule there.
        """
        site = self.rules.site_of[authority_of(rule.destination)]
        goal = parse_address(rule.destination)
        ends = self.rules.answer(goal.authority, goal.target, goal.scheme) is None
        if rule.query != QueryPolicy.CARRY and ends:
            return
        # A rule may be named by its path alone.
        authority = rule.legacy_url.partition("://")[2].partition("/")[0]
        host = authority if authority in self.rules.site_of else self.host_of[rule.site]
        self._try(host, rule.key, rule, proof)
        if rule.query == QueryPolicy.CARRY:
            self._carried(rule, host, site, goal, proof)

    def _carried(
        self,
        rule: ExactRule | TemplateRule,
        host: str,
        site: str,
        goal: Address,
        proof: Proof,
        path: str = "",
    ) -> None:
        """Queries that rules at the destination ask for, sent along."""
        group = self.groups.get((site, self.rules.fold_request_path(goal.path)))
        start = path or (rule.path if isinstance(rule, ExactRule) else "")
        for shape, table in group.by_shape.items() if group else ():
            for values in table:
                query = "&".join(f"{n}={v}" for n, v in zip(shape, values, strict=True))
                self._try(host, f"{start}?{query}", rule, proof)
        found = self.rules.template_index.find(site, goal.path)
        if found is not None:
            for params in (r.source.params for r in found[0].rules if r.source.params):
                query = "&".join(f"{c.name}={sample_text(c, 0)}" for c in params)
                self._try(host, f"{start}?{query}", rule, proof)

    def template(self, rule: TemplateRule, proof: Proof) -> None:
        """The image of a template, met with every source on the site where it lies."""
        site = self.rules.site_of.get(rule.goal_authority)
        if site is None:
            return
        image = image_pattern(rule, fold=self.rules.fold_case)
        for path in self._near(site, rule):
            folded = lower_path(path) if self.rules.fold_case else path
            if image.accepts(folded):
                self._meets(rule, path, site, proof)
        head = head_of(rule)
        head = head.lower() if self.rules.fold_case else head
        for group, first in self.heads[site]:
            if not (head.startswith(first) or first.startswith(head)):
                continue
            if (
                site == rule.site
                and is_identity(rule)
                and group.source.takes_slash
                and group.rules[0].slash == "any"
            ):
                # what the group takes, it takes before; where the rule itself is asked again, it
                # does not fire
                continue
            if self._lacks_parameters(rule, group):
                continue
            source = source_pattern(group.source, self.rules.fold_case, group.rules[0].slash)
            witness = common_path(image, source)
            if witness is not None:
                before = len(proof.witnesses)
                others = (
                    common_path(image, source, letters) or witness for letters in OTHER_LETTERS
                )
                for path in dict.fromkeys((witness, *others)):
                    self._meets(rule, path, site, proof)
                    for other in group.rules:
                        self._with_params(rule, path, other, proof)
                    if len(proof.witnesses) > before:
                        break
                if len(proof.witnesses) == before and not self._never_meets(
                    rule, image, group, proof
                ):
                    proof.undecided.append(f"{rule.source.text} may lead to {group.source.text}")
        if form_of(self.rules.forms, site):
            # What a form makes of a destination hangs on its last name and on its capitals: the
            # samples have all sorts.
            for n in range(
                max(_SORTS, *(len(c.values) for c in (*rule.source.captures, *rule.source.params)))
            ):
                start = self._source_of(rule, "", n)
                if start is not None:
                    self._try(self.host_of[rule.site], start, rule, proof)
        if rule.query == QueryPolicy.CARRY:
            start = self._source_of(rule, "", 0)
            if start is not None:
                goal = parse_address(rule.goal.fill(dict.fromkeys(rule.goal.names, "x")))
                self._carried(rule, self.host_of[rule.site], site, goal, proof, start)

    def _lacks_parameters(self, rule: TemplateRule, group: TemplateGroup) -> bool:
        """Whether a group asks for parameters that no destination of a template can have."""
        if rule.query == QueryPolicy.CARRY or "?" in rule.destination:
            return False
        carried = set() if rule.query == QueryPolicy.DROP else set(self.rules.tracking)
        return all(r.params and not carried & set(r.params) for r in group.rules)

    def _never_meets(
        self, rule: TemplateRule, image: Pattern, group: TemplateGroup, proof: Proof
    ) -> bool:
        """Whether all addresses that a template could send to a group are known, and none of them
        is answered by it.

        That is so where the shared paths are few, and each tells all of the address it came from:
        earlier rules may take them all.
        """
        fold = self.rules.fold_case
        told = set(path_pieces(rule)[1::2])
        if (
            rule.params
            or any(r.params for r in group.rules)
            or any(c.name not in told for c in rule.source.captures)
        ):
            return False
        paths = common_paths(
            image,
            source_pattern(group.source, fold, group.rules[0].slash),
            fold=fold,
            most=_FEW_PATHS,
        )
        if paths is None:
            return False
        before, host = len(proof.witnesses), self.host_of[rule.site]
        for path in paths:
            start = self._source_of(rule, path, 0)
            if start is None:
                return False
            for target in (start, f"{start}/"):
                self._try(host, target, rule, proof)
        return len(proof.witnesses) == before

    def form(self, form: CanonicalForm, proof: Proof) -> None:
        """A form leads to nothing that it would move again; on another old site, rules may."""
        site = self.rules.site_of.get(form.authority)
        if site is None or site == form.site:
            return
        host, before = self.host_of[form.site], len(proof.witnesses)
        samples = (
            self._source_of(r, "", n)
            for g, _ in self.heads[site]
            for r in g.rules
            for n in range(_SORTS)
        )
        for target in (*self.paths[site], *filter(None, samples)):
            self._try(host, target, form, proof)
            if len(proof.witnesses) > before:
                return
        if self.heads[site]:
            proof.undecided.append(f"{form.legacy_url} may lead to a template of {site}")

    def _near(self, site: str, rule: TemplateRule) -> Iterator[str]:
        """The exact paths of a site that begin as a template's destination does."""
        head = head_of(rule)
        head = head.lower() if self.rules.fold_case else head
        listed = self.paths[site]
        for at in range(bisect_left(listed, head), len(listed)):
            if not listed[at].startswith(head):
                return
            yield listed[at]

    def _meets(self, rule: TemplateRule, path: str, site: str, proof: Proof) -> None:
        """Try to find a request that the template sends to this path, which a rule answers."""
        for n in range(3):
            start = self._source_of(rule, path, n)
            if start is None:
                return
            before = len(proof.witnesses)
            self._try(self.host_of[rule.site], start, rule, proof)
            if len(proof.witnesses) > before:
                return
        group = self.groups.get((site, self.rules.fold_request_path(path)))
        for shape, table in group.by_shape.items() if group else ():
            for values in table:
                self._asking_for(rule, path, dict(zip(shape, values, strict=True)), proof)

    def _with_params(
        self, rule: TemplateRule, path: str, other: TemplateRule, proof: Proof
    ) -> None:
        if other.source.params:
            self._asking_for(
                rule, path, {c.name: sample_text(c, 0) for c in other.source.params}, proof
            )

    def _asking_for(
        self, rule: TemplateRule, path: str, named: dict[str, str], proof: Proof
    ) -> None:
        """Try requests whose destination has this path and these parameters: from captures, or
        carried on.
        """
        start = self._source_of(rule, path, 0, named)
        if start is None:
            return
        self._try(self.host_of[rule.site], start, rule, proof)
        if rule.query == QueryPolicy.CARRY:
            query = "&".join(f"{n}={v}" for n, v in named.items())
            self._try(
                self.host_of[rule.site],
                f"{start}{'&' if '?' in start else '?'}{query}",
                rule,
                proof,
            )

    def _source_of(
        self, rule: TemplateRule, path: str, sample: int, named: dict[str, str] | None = None
    ) -> str | None:
        """A request of the template whose destination has this path; named: what its query is to
        hold.
        """
        captures = {c.name: c for c in (*rule.source.captures, *rule.source.params)}
        values: dict[str, str] = {}
        if path:
            pattern = "".join(
                f"({captures[piece].regex(fold=self.rules.fold_case)})"
                if n % 2
                else _folded(piece, self.rules.fold_case)
                for n, piece in enumerate(path_pieces(rule))
            )
            match = re.fullmatch(pattern, path)
            if match is None:
                return None
            values = dict(zip(path_pieces(rule)[1::2], match.groups(), strict=True))
        query = rule.goal.text.partition("?")[2].partition("#")[0] if rule.destination else ""
        for part in query.split("&"):
            name, _, text = part.partition("=")
            if named and name in named and (hole := re.fullmatch(r"\{(\w+)\}", text)):
                value = next(
                    (
                        v
                        for v in value_spellings(named[name])
                        if re.fullmatch(captures[hole[1]].regex(), v)
                    ),
                    "",
                )
                if not value:
                    return None
                values[hole[1]] = value
        for name, capture in captures.items():
            values.setdefault(name, sample_text(capture, sample))
        text = "".join(p if isinstance(p, str) else values[p.name] for p in rule.source.parts)
        if rule.slash == "slashed":
            text += "/"
        asked = "&".join(f"{c.name}={values[c.name]}" for c in rule.source.params)
        return f"{text}?{asked}" if asked else text

    def _asked(self, url: str) -> tuple[str, str, str]:
        """What tells a request from others: its scheme only where a form asks for it."""
        address = parse_address(url)
        knows = any(form.scheme_from for form in self.rules.forms)
        return address.authority, address.target, address.scheme if knows else ""

    def _try(self, host: str, target: str, rule: object, proof: Proof) -> None:
        """Keep an address as a witness if this rule sends it to another one."""
        answer = self.rules.answer(host, target)
        if answer is not None and answer.rule is rule:
            self._play(host, target, proof)

    def _play(self, host: str, target: str, proof: Proof) -> None:
        way = [f"http://{host}{target}"]
        here = (host, target, "http")
        for _ in range(_MOST_HOPS):
            answer = self.rules.answer(*here)
            if answer is None or not answer.location:
                break
            way.append(answer.location)
            if self._asked(answer.location) in {self._asked(w) for w in way[:-1]}:
                proof.witnesses.append(Witness(way[0], tuple(way), loops=True))
                return
            goal = parse_address(answer.location)
            here = (goal.authority, goal.target, goal.scheme)
        last = self.rules.answer(*here)
        if len(way) > 2 or (len(way) == 2 and last is not None):
            proof.witnesses.append(Witness(way[0], tuple(way), loops=len(way) > _MOST_HOPS))


def _folded(text: str, fold: bool) -> str:
    return f"(?i:{re.escape(text)})" if fold else re.escape(text)
