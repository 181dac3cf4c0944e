"""What rules answer where nobody decided: templates, and the rules of servers' files."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from functools import cached_property
from typing import NamedTuple

from upright_ledger.core.inventory.answer import STATUSES, AnsweredBy, Decision, answer_of
from upright_ledger.core.inventory.normalisation import FoldingPolicy
from upright_ledger.core.rules.compiler import template_fault
from upright_ledger.core.rules.exact_rule import GONE
from upright_ledger.core.rules.imported.blocks import Block
from upright_ledger.core.rules.imported.rule import ImportedRule, QueryEdit
from upright_ledger.core.rules.ruleset import RuleSet
from upright_ledger.core.rules.templates.template_index import TemplateRule
from upright_ledger.core.url.address import Address, NotAnAddressError, parse_address
from upright_ledger.core.url.destination import read_destination
from upright_ledger.core.url.origins import Sites
from upright_ledger.core.url.query import QueryPolicy


class Ruled(NamedTuple):
    """The answer of a rule: whose it is, and where that one stands."""

    answer: Decision
    by: AnsweredBy
    where: str
    query: QueryPolicy | None = None


class RuleAnswers:
    """Templates as they were decided, and blocks of imported rules, asked for single addresses."""

    def __init__(
        self,
        sites: Sites,
        policy: FoldingPolicy,
        templates: Sequence[TemplateRule],
        blocks: tuple[Block, ...],
    ) -> None:
        self.sites, self.policy, self.blocks = sites, policy, blocks
        self.all_templates = templates
        fold = policy.folds_case
        self.templates = [t for t in templates if not template_fault(t, sites, fold=fold)]

    def __bool__(self) -> bool:
        return bool(self.templates or self.blocks)

    @cached_property
    def bases(self) -> dict[str, str]:
        """Authority of an old site → the origin under which a destination without host lies."""
        new = {parse_address(o).authority: o for o in reversed(self.sites.new)}
        old = {
            parse_address(o).authority: o for site in self.sites.old for o in reversed(site.origins)
        }
        return {
            a: new.get(a) or old.get(a) or f"{parse_address(self.sites.base_of(s)).scheme}://{a}"
            for a, s in self.sites.site_of_authority.items()
        }

    @cached_property
    def rules(self) -> RuleSet:
        """The templates and imported rules alone."""
        sites, templates = dict(self.sites.site_of_authority), tuple(self.templates)
        rules = RuleSet((), sites, self.policy.folds_case, self.policy.tracking, {}, templates)
        return replace(rules, blocks=self.blocks, bases=self.bases)

    def of_block(self, block: Block) -> RuleSet:
        """The rules of another file alone, for the old sites."""
        return replace(self.rules, templates=(), blocks=(block,))

    def answer(self, address: Address) -> Ruled | None:
        """The answer of the template or the imported rule that fits an address."""
        found = self.rules.find(address.authority, address.target)
        if found is not None:
            rule, destination = found
            return Ruled(answer_of(rule.status, destination), AnsweredBy.TEMPLATE, rule.legacy_url)
        answer = self.rules.answer_of_rules(address.authority, address.target)
        if answer is None or not isinstance(answer.rule, ImportedRule):
            return None
        try:
            location = answer.location
            destination = read_destination(location, address.origin).text if location else ""
        except NotAnAddressError:
            return None  # nothing that could stand in a rule of ours
        if not (STATUSES.get(answer.status) and (destination or answer.status == GONE)):
            return None
        edit = answer.rule.query
        carries = edit == QueryEdit.APPEND or (edit == QueryEdit.KEEP and "?" not in destination)
        query = QueryPolicy.CARRY if carries else QueryPolicy.DROP
        decided = answer_of(answer.status, destination)
        return Ruled(decided, AnsweredBy.RULE, answer.rule.where, query)
