"""What planned rules are checked against."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from upright_ledger.core.inventory.normalisation import FoldingPolicy
from upright_ledger.core.rules.canonical_form import CanonicalForm, form_of
from upright_ledger.core.rules.draft import Plan
from upright_ledger.core.rules.finding import SEVERITIES, Finding, FindingKind
from upright_ledger.core.rules.target_pages import StockPage
from upright_ledger.core.severity import Severity
from upright_ledger.core.url.address import (
    Address,
)
from upright_ledger.core.url.origins import Sites


@dataclass(frozen=True, slots=True)
class CheckContext:
    """What plans are checked against.

    stock: page key → page, empty when no stock was taken. slash: "always", "never" or "as-stock".
    forms: what sites settle for all their addresses.
    """

    sites: Sites
    policy: FoldingPolicy
    stock: Mapping[str, StockPage]
    homes: frozenset[str]
    slash: str = "as-stock"
    forms: tuple[CanonicalForm, ...] = ()

    def canonicalised(self, goal: Address) -> str:
        """Where the form of an old site would move a destination, or an empty string."""
        form = form_of(self.forms, self.sites.site_of(goal)) if self.forms else None
        return form.canonicalised(goal.authority, goal.target, goal.scheme) if form else ""


def finding_of(
    kind: FindingKind, plan: Plan, detail: str, cause: str, severity: Severity | None = None
) -> Finding:
    """A finding about a plan, with the file and row that it came from."""
    where = f" ({plan.where})" if plan.where else ""
    return Finding(
        kind, severity or SEVERITIES[kind], plan.legacy_url, plan.destination, detail + where, cause
    )
