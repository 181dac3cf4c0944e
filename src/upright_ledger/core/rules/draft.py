"""Plans: answers as they were given, before they become rules.

A plan keeps what a rule set cannot hold: two answers for one address, rules onto themselves,
destinations on another site. `checks` looks for faults in plans; `compiling` turns the
sound ones into a rule set and names the others.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

from upright_ledger.core.inventory.answer import AnswerKind
from upright_ledger.core.inventory.declared_paths import declared_paths
from upright_ledger.core.inventory.normalisation import Folded, FoldingPolicy, fold
from upright_ledger.core.url.address import Address, parse_address
from upright_ledger.core.url.destination import page_key
from upright_ledger.core.url.escapes import canonical_value
from upright_ledger.core.url.query import QueryPolicy


@dataclass(frozen=True, slots=True)
class Plan:
    """One answer that asks for a rule.

    old: the legacy address; host_given: whether its host was written by somebody or only assumed.
    destination: empty for 410. imported: it stands for a rule of a server's file. goal, page: the
    destination as read, and its page key, or "gone". meant: a person chose this status for this one
    entry. where: the file and row it came from, or empty.
    """

    old: Address
    site: str
    folded: Folded
    paths: tuple[str, ...]
    status: int
    destination: str
    host_given: bool = True
    meant: bool = False
    where: str = ""
    query: QueryPolicy = QueryPolicy.CARRY_TRACKING
    label: str = ""
    imported: bool = False
    goal: Address | None = None
    page: str = AnswerKind.GONE.value

    @property
    def key(self) -> tuple[str, str]:
        return self.site, self.folded.key

    @property
    def legacy_url(self) -> str:
        """How the address is named towards people: as it was written, where that is known."""
        return self.label or self.old.without_fragment


def make_plan(
    old: Address,
    site: str,
    policy: FoldingPolicy,
    status: int,
    destination: str,
    *,
    variants: Iterable[str] = (),
    host_given: bool = True,
    meant: bool = False,
    where: str = "",
    label: str = "",
    query: QueryPolicy = QueryPolicy.CARRY_TRACKING,
    imported: bool = False,
) -> Plan:
    """A plan for one legacy address, with all the spellings its rule will answer."""
    folded = fold(old, policy)
    paths = declared_paths(folded.path, frozenset((*variants, folded.variant)), policy)
    goal = parse_address(destination) if destination else None
    page = page_key(goal) if goal else AnswerKind.GONE.value
    given = (host_given, meant, where, query, label, imported)
    return Plan(old, site, folded, paths, status, destination, *given, goal, page)


def asks_for_itself(plan: Plan, goal: Address, policy: FoldingPolicy) -> bool:
    """Whether a destination with parameters is one that the plan's own rule would answer again."""
    if not is_same_path(plan, goal, policy):
        return False
    values: dict[str, str] = {}
    for part in goal.query.split("&"):
        name, _, value = part.partition("=")
        values.setdefault(name, canonical_value(value))
    return all(values.get(name) == value for name, value in plan.folded.params)


def is_same_path(plan: Plan, goal: Address, policy: FoldingPolicy) -> bool:
    """Whether a destination lies at the plan's own path."""
    return policy.fold_path(goal.path)[0] == plan.folded.path
