"""Findings: faults in answers and rules, how grave they are, and what explains many of them at
once.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable
from dataclasses import dataclass

ERROR = "error"
WARNING = "warning"
NOTE = "note"

SEVERITIES = {
    "loop": ERROR,
    "self": ERROR,
    "conflict": ERROR,
    "off-site": ERROR,
    "dead-destination": ERROR,
    "source-live": ERROR,
    "chain": WARNING,
    "slash-mismatch": WARNING,
    "redirecting-destination": WARNING,
    "unknown-destination": WARNING,
    "planned": WARNING,
    "home-fallback": WARNING,
    "uncovered-variant": WARNING,
    "shadowed": WARNING,
    "temporary": WARNING,
    "query-lost": WARNING,
    "mass-move": NOTE,
}
"""Kinds of findings in the order in which they are shown, with their severity."""


def in_order(findings: Iterable[Finding]) -> list[Finding]:
    """Findings, the gravest kinds first."""
    order = {kind: n for n, kind in enumerate(SEVERITIES)}
    return sorted(findings, key=lambda f: (order[f.kind], f.legacy_url, f.destination))


@dataclass(frozen=True, slots=True)
class Finding:
    """One fault: what, where, how bad, and what to do. `cause` groups findings with one remedy."""

    kind: str
    severity: str
    legacy_url: str
    destination: str
    detail: str
    cause: str = ""


@dataclass(frozen=True, slots=True)
class Cause:
    """One reason that explains several findings."""

    kind: str
    text: str
    count: int


def causes(findings: Iterable[Finding]) -> list[Cause]:
    """What explains the findings, the reason for most of them first; lone ones of a kind are taken
    together.
    """
    counts: dict[tuple[str, str], int] = defaultdict(int)
    for f in findings:
        counts[f.kind, f.cause] += 1
    lone: dict[str, int] = defaultdict(int)
    for (kind, _), n in counts.items():
        lone[kind] += n == 1
    merged: dict[tuple[str, str], int] = defaultdict(int)
    for (kind, text), n in counts.items():
        merged[kind, "each for a reason of its own" if n == 1 and lone[kind] > 1 else text] += n
    order = {kind: n for n, kind in enumerate(SEVERITIES)}
    found = [Cause(kind, text, n) for (kind, text), n in merged.items()]
    return sorted(found, key=lambda c: (-c.count, order[c.kind], c.text))
