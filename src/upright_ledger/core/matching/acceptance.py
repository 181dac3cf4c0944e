"""Acceptance: from which confidence on proposals may be answers, for a wanted share of errors."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

PRUDENCE = 1.5
"""Confidence was fitted on made-up moves; until a sample was reviewed, errors are taken to be that many times as likely."""

LEAST = 0.9
"""No proposal with less confidence is ever accepted by itself, however many sure ones stand beside it."""

NOTHING = 1.01
"""A threshold that no confidence reaches."""


@dataclass(frozen=True, slots=True)
class Acceptance:
    """A threshold and what to expect of it. errors: how many of the accepted are probably wrong."""

    threshold: float
    accepted: int
    errors: float

    @property
    def share(self) -> float:
        return self.errors / self.accepted if self.accepted else 0.0


def accept_above(confidences: Iterable[float], threshold: float) -> Acceptance:
    """What to expect when proposals at this confidence and above are accepted."""
    doubts = [1.0 - c for c in confidences if c >= threshold]
    return Acceptance(threshold, len(doubts), PRUDENCE * sum(doubts))


def accept_within(confidences: Iterable[float], max_error: float) -> Acceptance:
    """The lowest threshold whose expected share of errors is `max_error` or less."""
    ranked = sorted((c for c in confidences if c >= LEAST), reverse=True)
    best, doubt = Acceptance(NOTHING, 0, 0.0), 0.0
    for count, confidence in enumerate(ranked, 1):
        doubt += PRUDENCE * (1.0 - confidence)
        last_of_equals = count == len(ranked) or ranked[count] < confidence
        if last_of_equals and doubt <= max_error * count:
            best = Acceptance(confidence, count, doubt)
    return best
