"""Proofs: whether a rule set is free of chains and loops for every URL there is, not only for those
that are known.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field

from upright_ledger.core.word import Word


class ProofState(Word):
    """How far a rule is proved."""

    PROVED = "proved"
    WITNESS = "witness"
    UNDECIDED = "undecided"


@dataclass(frozen=True, slots=True)
class Witness:
    """An address that does not arrive in one hop. way: every address on the way; loops: whether it
    never ends.
    """

    url: str
    way: tuple[str, ...]
    loops: bool


@dataclass
class Proof:
    """What is known of all URLs. undecided: what could not be settled, in words; else every URL is
    covered by the witnesses.

    rules: those that are looked at. held_back: templates and addresses that were taken out of these
    rules for what witnesses show.
    """

    rules: int
    witnesses: list[Witness] = field(default_factory=list)
    undecided: list[str] = field(default_factory=list)
    held_back: int = 0

    @property
    def state(self) -> str:
        """PROVED, WITNESS or UNDECIDED."""
        return (
            ProofState.WITNESS
            if self.witnesses
            else ProofState.UNDECIDED
            if self.undecided
            else ProofState.PROVED
        )


def in_their_order(witnesses: Iterable[Witness]) -> list[Witness]:
    """Loops first, then the shortest addresses."""
    return sorted(witnesses, key=lambda w: (not w.loops, len(w.url), w.url))
