"""Checking: the answers of a ledger, or a sheet of pairs without any ledger."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any

from upright_ledger.app.decide.standing_answers import with_standing
from upright_ledger.app.known_faults import KnownFaults, settings_digest
from upright_ledger.app.move_state import MoveState
from upright_ledger.app.prove.fix import Mend
from upright_ledger.core.rules.finding import Cause, Finding, FindingKind, causes
from upright_ledger.core.rules.proofs.proof import Proof
from upright_ledger.core.severity import Severity
from upright_ledger.ledger.lines.kept import keep

_NO_HOST = "http://no-host-given.invalid"


@dataclass
class Checked:
    """What a check found.

    rules: answers looked at. origins: those that need not be shown. assumed: what was taken for
    granted, in words. proof: what holds for every URL there is; mends: what --fix changed; both for
    a ledger. mapping, unused: the columns of a sheet, and those that say nothing here. rejected:
    (row, old address, reason) of rows that could not be checked.
    """

    rules: int
    findings: list[Finding]
    origins: tuple[str, ...] = ()
    assumed: list[str] = field(default_factory=list)
    rejected: list[tuple[int, str, str]] = field(default_factory=list)
    proof: Proof | None = None
    mends: list[Mend] = field(default_factory=list)
    mapping: dict[str, str] = field(default_factory=dict)
    unused: list[str] = field(default_factory=list)

    @property
    def causes(self) -> list[Cause]:
        return causes(self.findings)

    @property
    def faults(self) -> int:
        """Findings that are more than notes."""
        return sum(1 for f in self.findings if f.severity != Severity.NOTE)

    def as_dict(self) -> dict[str, Any]:
        return {
            "findings": [
                {
                    "kind": f.kind,
                    "severity": f.severity,
                    "legacy_url": f.legacy_url,
                    "destination": f.destination,
                    "detail": f.detail,
                }
                for f in self.findings
            ],
            "counts": dict(Counter(f.kind for f in self.findings)),
            "causes": [{"kind": c.kind, "text": c.text, "count": c.count} for c in self.causes],
            "rules": self.rules,
            "assumed": self.assumed,
            **({"columns": self.mapping, "unused_columns": self.unused} if self.mapping else {}),
            "rejected": [
                {"row": line, "old": old, "reason": why} for line, old, why in self.rejected
            ],
            "mended": [
                {
                    "legacy_url": m.entry.legacy_url,
                    "before": m.before.destination,
                    "after": m.after.destination,
                    "answer": m.after.kind,
                    "kinds": list(m.kinds),
                }
                for m in self.mends
            ],
            "proof": self.proof
            and {
                "state": self.proof.state,
                "rules": self.proof.rules,
                "witnesses": [
                    {"url": w.url, "way": list(w.way), "loops": w.loops}
                    for w in self.proof.witnesses
                ],
                "undecided": self.proof.undecided,
                "held_back": self.rules - self.proof.rules,
            },
        }


def what_is_known(move: MoveState) -> KnownFaults:
    """What the rules of a move amount to."""
    return _known(move, _findings(move))


def _known(move: MoveState, findings: Sequence[Finding]) -> KnownFaults:
    # Days come without a step of the journal: those are counted when it is asked.
    faults = sum(
        1 for f in findings if f.severity != Severity.NOTE and f.kind != FindingKind.REVIEW_DUE
    )
    settings = settings_digest(move.ledger.settings)
    return KnownFaults(move.step, faults, move.compiled.rules.digest, settings)


def _findings(move: MoveState) -> list[Finding]:
    with move.ledger.reading() as connection:
        return with_standing(connection, move.compiled.findings)


def check_ledger(move: MoveState, mends: Sequence[Mend] = ()) -> Checked:
    """Check all answers of a ledger. mends: what was mended just now."""
    findings = _findings(move)
    known = _known(move, findings)
    move.ledger.note(lambda connection: keep(connection, *known.as_kept()))
    shown = (move.sites.old[0].origins[0], move.sites.new[0])
    return Checked(
        len(move.compiled),
        findings,
        shown,
        proof=move.compiled.proof,
        mends=list(mends),
    )
