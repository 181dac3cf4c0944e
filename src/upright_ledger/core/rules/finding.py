"""Findings: faults in answers and rules, how grave they are, and what explains many of them at
once.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable
from dataclasses import dataclass

from upright_ledger.core.severity import Severity
from upright_ledger.core.word import Word


class FindingKind(Word):
    """What is wrong with an answer or a rule, in the order in which findings are shown."""

    LOOP = "loop"
    SELF = "self"
    CONFLICT = "conflict"
    OFF_SITE = "off-site"
    DEAD_DESTINATION = "dead-destination"
    SOURCE_LIVE = "source-live"
    CHAIN = "chain"
    SLASH_MISMATCH = "slash-mismatch"
    REDIRECTING_DESTINATION = "redirecting-destination"
    UNKNOWN_DESTINATION = "unknown-destination"
    PLANNED = "planned"
    HOME_FALLBACK = "home-fallback"
    UNCOVERED_VARIANT = "uncovered-variant"
    SHADOWED = "shadowed"
    TEMPORARY = "temporary"
    QUERY_LOST = "query-lost"
    GONE_WITH_LINKS = "gone-with-links"
    REVIEW_DUE = "review-due"
    MASS_MOVE = "mass-move"


SEVERITIES = dict.fromkeys(FindingKind, Severity.WARNING) | {
    FindingKind.LOOP: Severity.ERROR,
    FindingKind.SELF: Severity.ERROR,
    FindingKind.CONFLICT: Severity.ERROR,
    FindingKind.OFF_SITE: Severity.ERROR,
    FindingKind.DEAD_DESTINATION: Severity.ERROR,
    FindingKind.SOURCE_LIVE: Severity.ERROR,
    FindingKind.MASS_MOVE: Severity.NOTE,
}
"""How grave each kind is: a warning where nothing else is said."""


def in_order(findings: Iterable[Finding]) -> list[Finding]:
    """Findings, the gravest kinds first."""
    order = {kind: n for n, kind in enumerate(FindingKind)}
    return sorted(findings, key=lambda f: (order[f.kind], f.legacy_url, f.destination))


@dataclass(frozen=True, slots=True)
class Finding:
    """One fault: what, where, how bad, and what to do. `cause` groups findings with one remedy."""

    kind: FindingKind
    severity: Severity
    legacy_url: str
    destination: str
    detail: str
    cause: str = ""


@dataclass(frozen=True, slots=True)
class Cause:
    """One reason that explains several findings."""

    kind: FindingKind
    text: str
    count: int


def causes(findings: Iterable[Finding]) -> list[Cause]:
    """What explains the findings, the reason for most of them first; lone ones of a kind are taken
    together.
    """
    counts: dict[tuple[FindingKind, str], int] = defaultdict(int)
    for f in findings:
        counts[f.kind, f.cause] += 1
    lone: dict[FindingKind, int] = defaultdict(int)
    for (kind, _), n in counts.items():
        lone[kind] += n == 1
    merged: dict[tuple[FindingKind, str], int] = defaultdict(int)
    for (kind, text), n in counts.items():
        merged[kind, "each for a reason of its own" if n == 1 and lone[kind] > 1 else text] += n
    order = {kind: n for n, kind in enumerate(FindingKind)}
    found = [Cause(kind, text, n) for (kind, text), n in merged.items()]
    return sorted(found, key=lambda c: (-c.count, order[c.kind], c.text))
