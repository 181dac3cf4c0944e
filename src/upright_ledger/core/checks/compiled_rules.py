"""All answers of a move, checked, compiled and proved."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from functools import cached_property
from itertools import chain
from typing import TYPE_CHECKING

from upright_ledger.core.checks.context import CheckContext
from upright_ledger.core.checks.query_checks import check_campaigns, check_choices
from upright_ledger.core.checks.rule_checks import check, check_crowds
from upright_ledger.core.checks.template_checks import (
    check_imported,
    check_sessions,
    check_templates,
    check_variants,
)
from upright_ledger.core.checks.told_answers import NOTHING_TOLD, Told
from upright_ledger.core.inventory.answer import AnsweredBy, AnswerKind, Claim
from upright_ledger.core.inventory.entry import Entry
from upright_ledger.core.rules.compiler import ExcludedRule, Exclusion, compile_rules
from upright_ledger.core.rules.draft import Plan, make_plan
from upright_ledger.core.rules.finding import Finding, FindingKind, in_order
from upright_ledger.core.rules.imported.blocks import Block
from upright_ledger.core.rules.imported.rule import ImportedRule
from upright_ledger.core.rules.imported.templates import templates_of
from upright_ledger.core.rules.kept_pages import KEPT_AS, plan_of_kept
from upright_ledger.core.rules.proofs.one_hop import OneHop, findings_of, keep_to_one_hop
from upright_ledger.core.rules.proofs.proof import Proof
from upright_ledger.core.rules.rule_answers import RuleAnswers
from upright_ledger.core.rules.ruleset import RuleSet
from upright_ledger.core.rules.templates.template_index import TemplateRule
from upright_ledger.core.url.address import Address, address_of, parse_address
from upright_ledger.core.url.redaction import has_masked_segment

if TYPE_CHECKING:
    from upright_ledger.core.checks.short_way import ShortWay


@dataclass
class CompiledRules:
    """The rules that answers amount to. entries: those that are answered, or kept, with the answers
    of rules where nobody decided; but for those whose answer may be plain (`told`).

    claims: number of an entry → answers that contest its own. entries_of: the entries of some
    numbers, answered or kept. What is asked for only where it plays a part: protected_urls,
    addresses that no template may take; seen_queries, (site, key) and a query with which it was
    seen; session_paths, number of an entry, and a spelling with a visit's identifier in its path.
    """

    around: CheckContext
    given: RuleAnswers
    entries: Sequence[Entry]
    claims: Mapping[int, Sequence[Claim]]
    protected_urls: Callable[[], Sequence[Address]]
    seen_queries: Callable[[], Iterable[tuple[tuple[str, str], str]]]
    session_paths: Callable[[], Iterable[tuple[int, str]]]
    told: Told = NOTHING_TOLD
    entries_of: Callable[[Sequence[int]], Sequence[Entry]] = lambda _: ()

    @cached_property
    def _parted(self) -> tuple[list[Plan], ShortWay]:
        """The answers that take the careful way, and those that take the short one."""
        from upright_ledger.core.checks.short_way import ShortWay

        short = ShortWay(self.around, self.told)
        careful = {(e.site, e.key): self._plans_of(e) for e in self.entries}

        def plans_of(numbers: Sequence[int]) -> list[Plan]:
            more = {(e.site, e.key): self._plans_of(e) for e in self.entries_of(numbers)}
            careful.update(more)
            return list(chain.from_iterable(more.values()))

        short.part([*chain.from_iterable(careful.values()), *plans_of(short.doubtful)], plans_of)
        return list(chain.from_iterable(careful[key] for key in sorted(careful))), short

    @property
    def plans(self) -> list[Plan]:
        """Every answer that asks for a rule, contested ones included, but for plain ones, in which
        there is nothing to find.
        """
        return self._parted[0]

    @property
    def answers(self) -> Iterator[tuple[str, tuple[str, str]]]:
        """Of every answer that asks for a rule: how its address is named, and its site and key."""
        plans, short = self._parted
        yield from ((plan.legacy_url, plan.key) for plan in plans)
        yield from ((rule.legacy_url, (rule.site, rule.key)) for rule in short.rules)

    def __len__(self) -> int:
        plans, short = self._parted
        return len(plans) + len(short) + len(self.given.all_templates)

    def _plans_of(self, e: Entry) -> list[Plan]:
        """Plans of an entry: its answer, and what contests it."""
        around, plans = self.around, list[Plan]()
        if e.answer.kind == AnswerKind.KEEP and len(e.variants) > 1:
            kept = plan_of_kept(e, around.sites, around.policy, around.stock)
            plans += [kept] if kept is not None else []
        if e.answer.has_rule and e.by != AnsweredBy.TEMPLATE:
            plans.append(
                make_plan(
                    parse_address(e.old or e.legacy_url),
                    e.site,
                    around.policy,
                    e.answer.status,
                    e.answer.destination,
                    variants=e.variants,
                    host_given=e.host_given,
                    meant=e.by == AnsweredBy.PERSON,
                    where=e.where,
                    query=e.query,
                    imported=e.by == AnsweredBy.RULE,
                )
            )
        plans += [
            make_plan(
                parse_address(c.old or e.legacy_url),
                e.site,
                around.policy,
                c.status,
                c.destination,
                variants=e.variants,
                host_given=c.host_given,
                where=c.where,
            )
            for c in self.claims.get(e.id, ())
        ]
        return plans

    @cached_property
    def kept_as(self) -> dict[tuple[str, str], str]:
        """Site and path of other spellings of pages that are kept → the page."""
        kept = (p for p in self.plans if p.where == KEPT_AS)
        return {(p.site, path): p.destination for p in kept for path in p.paths}

    @cached_property
    def findings(self) -> list[Finding]:
        """Faults in answers, templates and imported rules, the gravest kinds first."""
        found = list(self._answer_findings)
        if self.given.all_templates:
            found += check_templates(self.given.all_templates, self.rules, self.around)
            found += check_variants(self._spelled_by_template(), self.rules)
        found += check_crowds(self.plans, self.around.homes)
        found += check_choices(self.plans)
        found += check_campaigns(self.plans, self.seen_queries(), self.around.policy)
        found += check_imported(self.imported, self.given.bases)
        found += check_sessions(self._unanswered_in_paths())
        found += findings_of(self._sound, found)
        return in_order(found)

    @property
    def proof(self) -> Proof:
        """What is proved of all that is built, and shown of what is held back for it."""
        return self._sound.whole_proof

    @cached_property
    def _answer_findings(self) -> list[Finding]:
        return check(self.plans, self.around, self._parted[1].pages)

    @cached_property
    def _compiled(self) -> tuple[RuleSet, list[ExcludedRule]]:
        return self._compile(self.plans, self._of_patterns[0])

    @cached_property
    def _of_patterns(self) -> tuple[list[TemplateRule], list[tuple[str, str]]]:
        """Templates that say what imported patterns do, and the patterns that none says, with the
        reason.
        """
        given, fold = self.given, self.around.policy.folds_case
        return templates_of(
            given.blocks, self.around.sites.old, given.bases, given.templates, fold=fold
        )

    @property
    def left_out(self) -> list[ExcludedRule]:
        """Imported patterns that are not built."""
        reason = "the entries it answers are built, the pattern itself is not: "
        return [
            ExcludedRule(where, Exclusion.PATTERN, reason + why)
            for where, why in self._of_patterns[1]
        ]

    def _compile(
        self, plans: list[Plan], more: Sequence[TemplateRule] = ()
    ) -> tuple[RuleSet, list[ExcludedRule]]:
        return compile_rules(
            plans,
            self._answer_findings,
            self.around.sites,
            self.around.policy,
            [*self.given.all_templates, *more],
            self.protected_urls() if self.given.templates or more else (),
            forms=self.around.forms,
            plain=self._parted[1].rules,
        )

    @cached_property
    def _sound(self) -> OneHop:
        """The rules, without templates that would make a chain."""
        return keep_to_one_hop(self._compiled[0])

    @property
    def rules(self) -> RuleSet:
        """What is built."""
        return self._sound.rules if self._compiled[0].templates else self._compiled[0]

    @cached_property
    def all_rules(self) -> RuleSet:
        """Our own rules, and after them those that were read from servers' files, as these mean
        them.
        """
        if not self.given.blocks:
            return self.rules
        own = keep_to_one_hop(self._compile([p for p in self.plans if not p.imported])[0]).rules
        return replace(own, blocks=self.given.blocks, bases=self.given.bases)

    @property
    def imported(self) -> Iterator[tuple[Block, ImportedRule]]:
        """Every rule that was read from a server's file."""
        return ((block, rule) for block in self.given.blocks for rule in block.rules)

    @property
    def held_back(self) -> list[ExcludedRule]:
        """Answers and templates that are not built."""
        chains = [
            ExcludedRule(
                s.address or s.template.legacy_url,
                FindingKind.LOOP if s.witness.loops else FindingKind.CHAIN,
                s.reason,
            )
            for s in self._sound.stopped
        ]
        return [*self._compiled[1], *chains]

    def _unanswered_in_paths(self) -> Iterator[tuple[str, str]]:
        """Spellings with the identifier of a visit, or a secret, in their path that no rule
        answers, and the address of the entry.
        """
        spelled = list(self.session_paths())
        by_id = {
            e.id: e
            for e in self.entries_of(sorted({number for number, _ in spelled}))
            if e.answer.has_rule or e.answer.kind == AnswerKind.KEEP
        }
        for number, spelling in spelled:
            entry, address = by_id.get(number), address_of(spelling)
            if entry is None:
                continue
            if has_masked_segment(address.path):
                unanswered = entry.by != AnsweredBy.TEMPLATE
            else:
                unanswered = self.rules.answer_of_rules(address.authority, address.target) is None
            if unanswered:
                yield spelling, entry.legacy_url

    def _spelled_by_template(self) -> Iterator[tuple[str, str, str, str]]:
        """Host, target, template and destination of every spelling of the entries that a template
        answers.
        """
        for entry in self.entries:
            if entry.by == AnsweredBy.TEMPLATE and entry.answer.has_rule:
                template = entry.where.partition("://")[2].partition("/")[2]
                for host, target in entry.requests:
                    yield host, target, template, entry.answer.destination
