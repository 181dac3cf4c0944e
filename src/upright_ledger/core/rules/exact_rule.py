"""Rules for single addresses, and those of one path by their parameters."""

from __future__ import annotations

from dataclasses import dataclass, field
from itertools import product
from typing import NamedTuple

from upright_ledger.core.inventory.normalisation import entry_key
from upright_ledger.core.rules.canonical_form import CanonicalForm
from upright_ledger.core.rules.imported.rule import ImportedRule
from upright_ledger.core.rules.templates.template_index import PASS, TemplateRule
from upright_ledger.core.url.escapes import value_spellings
from upright_ledger.core.url.query import QueryPolicy

GONE = 410


class ExactRule(NamedTuple):
    """One path of one old site, with zero or more significant parameters, and its answer.

    paths: every canonical path it answers (slash, index file and other declared variants), case
    folded when the rule set folds case. destination: absolute and safe; empty for 410.
    legacy_url: how the entry is named towards people.
    """

    site: str
    path: str
    params: tuple[tuple[str, str], ...]
    paths: tuple[str, ...]
    status: int
    destination: str
    legacy_url: str
    query: QueryPolicy = QueryPolicy.CARRY_TRACKING

    @property
    def key(self) -> str:
        return entry_key(self.path, self.params)

    @property
    def passing(self) -> ExactRule:
        """What only keeps others from its address."""
        return self._replace(status=PASS, destination="", query=QueryPolicy.DROP)


Rule = ExactRule | TemplateRule


@dataclass(frozen=True, slots=True)
class Answer:
    """What a request gets: a status, a Location (empty for 410) and the rule that gave it."""

    status: int
    location: str
    rule: Rule | ImportedRule | CanonicalForm


@dataclass(slots=True)
class PathRules:
    """All rules of one path.

    names: the parameters that matter there. by_shape: parameter names of some rules, most names
    first → values in every answered spelling → rule. plain: the rule without parameters.
    """

    names: frozenset[str] = frozenset()
    by_shape: dict[tuple[str, ...], dict[tuple[str, ...], ExactRule]] = field(default_factory=dict)
    plain: ExactRule | None = None

    def add(self, rule: ExactRule) -> None:
        if not rule.params:
            self.plain = self.plain or rule
            return
        shape = tuple(name for name, _ in rule.params)
        self.names |= set(shape)
        table = self.by_shape.setdefault(shape, {})
        for values in product(*(value_spellings(v) for _, v in rule.params)):
            table.setdefault(values, rule)

    def settle(self) -> None:
        """Put shapes in the order of asking: the most parameters first, then by name."""
        self.by_shape = dict(
            sorted(self.by_shape.items(), key=lambda item: (-len(item[0]), item[0]))
        )

    def find(self, values: dict[str, str]) -> ExactRule | None:
        """The rule for a request's significant parameters, none of them given twice."""
        if not values:
            return self.plain
        for shape, table in self.by_shape.items():
            if (
                values.keys() >= set(shape)
                and (rule := table.get(tuple(values[n] for n in shape))) is not None
            ):
                return rule
        return None
