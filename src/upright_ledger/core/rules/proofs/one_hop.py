"""Keeping a rule set to one hop: templates that would send a request to another rule are held back,
with the address that shows it.

Exact rules are built as they were decided, loops apart (see `checks`). A template answers addresses
that nobody looked at one by one: of those, none may run into a second hop.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field, replace
from itertools import count

from upright_ledger.core.rules.canonical_form import CanonicalForm
from upright_ledger.core.rules.exact_rule import ExactRule
from upright_ledger.core.rules.finding import SEVERITIES, Finding, FindingKind
from upright_ledger.core.rules.proofs.proof import Proof, Witness, in_their_order
from upright_ledger.core.rules.proofs.prover import prove
from upright_ledger.core.rules.ruleset import RuleSet
from upright_ledger.core.rules.templates.template_index import PASS, TemplateRule
from upright_ledger.core.url.address import parse_address
from upright_ledger.core.url.query import QueryPolicy
from upright_ledger.core.url.request_target import split_target

_HOLES = 4
"""Rounds in which single addresses are let pass; a template that still leads to exact rules then is
held back as a whole.
"""


@dataclass(frozen=True, slots=True)
class Stopped:
    """What was held back: a template, or one address of it (`address`, else empty), and the
    witness.
    """

    template: TemplateRule
    address: str
    witness: Witness

    @property
    def reason(self) -> str:
        """Why, in words."""
        end = "without end" if self.witness.loops else "a second time"
        return f"it would send requests on {end}: {' → '.join(self.witness.way[:4])}"


@dataclass
class OneHop:
    """A rule set without chains of templates, what was held back for it, and what is proved of the
    set that is left.
    """

    rules: RuleSet
    proof: Proof
    stopped: list[Stopped] = field(default_factory=list)

    @property
    def whole_proof(self) -> Proof:
        """What is known of all that was decided: what was held back for is shown, too."""
        witnesses = {s.witness.url: s.witness for s in self.stopped} | {
            w.url: w for w in self.proof.witnesses
        }
        return replace(
            self.proof, witnesses=in_their_order(witnesses.values()), held_back=len(self.stopped)
        )


def keep_to_one_hop(rules: RuleSet) -> OneHop:
    """Take out of a rule set the templates that lead to another rule, or to themselves by a way
    round.
    """
    stopped: list[Stopped] = []
    for n in count():
        proof = prove(rules)
        found = _to_stop(rules, proof, holes=n < _HOLES)
        if not found:
            return OneHop(rules, proof, stopped)
        stopped += found
        rules = _without(rules, found)
    raise AssertionError  # each round takes something out


def _to_stop(rules: RuleSet, proof: Proof, *, holes: bool) -> list[Stopped]:
    """What is to be held back for the witnesses, one after the other: what runs through a template
    that goes is looked at again.
    """
    found: list[Stopped] = []
    gone: set[int] = set()
    for witness in proof.witnesses:
        stop = _stop(rules, witness, holes=holes)
        if stop is not None and not gone & {id(rule) for _, rule in _rules_of(rules, witness)}:
            found.append(stop)
            if not stop.address:
                gone.add(id(stop.template))
    return found


def _stop(rules: RuleSet, witness: Witness, *, holes: bool) -> Stopped | None:
    """What is to be held back for a witness; None where exact rules and forms alone are on its
    way.
    """
    on_the_way = _rules_of(rules, witness)
    # A chain is its first rule's; of a loop every rule has its part, and the first template on it
    # can be done without.
    looked_at = on_the_way if witness.loops else on_the_way[:1]
    found = next(((url, rule) for url, rule in looked_at if isinstance(rule, TemplateRule)), None)
    if found is None:
        return None
    url, template = found
    following = [rule for at, rule in on_the_way if at != url]
    if not witness.loops and all(isinstance(r, CanonicalForm) for r in following):
        return None  # its destination is not in the form of its site: said, and built as decided
    by_exact_rules = not any(isinstance(r, TemplateRule) for r in following)
    return Stopped(template, url if holes and by_exact_rules else "", witness)


def _rules_of(rules: RuleSet, witness: Witness) -> list[tuple[str, object]]:
    """The addresses on the way of a witness that are answered, each with the rule that answers
    it.
    """
    found: list[tuple[str, object]] = []
    for url in dict.fromkeys(witness.way):
        address = parse_address(url)
        answer = rules.answer(address.authority, address.target, address.scheme)
        if answer is not None:
            found.append((url, answer.rule))
    return found


def _without(rules: RuleSet, stopped: Iterable[Stopped]) -> RuleSet:
    whole = {id(s.template) for s in stopped if not s.address}
    passes: dict[tuple[str, str], ExactRule] = {}
    for s in stopped:
        if s.address:
            address = parse_address(s.address)
            path = rules.fold_request_path(split_target(address.target)[0])
            site = s.template.site
            passes[site, path] = ExactRule(
                site, path, (), (path,), PASS, "", s.address, QueryPolicy.DROP
            )
    return replace(
        rules,
        rules=(*rules.rules, *(passes[k] for k in sorted(passes))),
        templates=tuple(t for t in rules.templates if id(t) not in whole),
    )


def findings_of(sound: OneHop, known: Iterable[Finding]) -> list[Finding]:
    """What the proof shows, as findings; what is known by its address already is left out."""
    told = {(f.kind, _plain(f.legacy_url)) for f in known}
    found: list[Finding] = []
    held = {s.witness.url: s for s in sound.stopped}
    for witness in sound.whole_proof.witnesses:
        kind = FindingKind.LOOP if witness.loops else FindingKind.CHAIN
        if (kind, _plain(witness.url)) in told or (
            kind == FindingKind.CHAIN and (FindingKind.LOOP, _plain(witness.url)) in told
        ):
            continue
        stop = held.get(witness.url)
        what = (
            "this address" if stop and stop.address else stop.template.source.text if stop else ""
        )
        detail = " → ".join(witness.way[:6]) + (
            f": {what} is held back until that is settled" if what else ""
        )
        cause = (
            f"{stop.template.source.text} leads to another rule"
            if stop
            else "the proof shows an address that is sent on again"
        )
        found.append(Finding(kind, SEVERITIES[kind], witness.url, witness.way[-1], detail, cause))
    return found


def _plain(url: str) -> str:
    return (
        url.partition("://")[2].partition("/")[2].rstrip("/").lower()
        if "://" in url
        else url.strip("/").lower()
    )
