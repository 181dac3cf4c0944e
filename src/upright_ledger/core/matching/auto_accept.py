"""Acceptance: from which confidence on proposals may be answers, for a wanted share of errors."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from itertools import pairwise

PRUDENCE = 2.0
"""Confidence was fitted on made-up moves; until a sample was reviewed, errors are taken to be that
many times as likely.
"""

_PRIOR_ERRORS = 2.0
"""Expected errors that a sample must hold to weigh as much as PRUDENCE."""

LEAST = 0.9
"""No proposal with less confidence is ever accepted by itself, however many sure ones stand beside
it.
"""

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


@dataclass(frozen=True, slots=True)
class Band:
    """The best proposals from one confidence up to another. right: how many of them are expected to
    be right.
    """

    least: float
    below: float
    proposals: int
    right: float


BANDS = (1.0, 0.99, 0.95, 0.9, 0.75, 0.5, 0.25, 0.02)


def bands(confidences: Sequence[float]) -> list[Band]:
    """How sure the best proposals are, the surest first; bands without any are left out."""
    found = []
    for below, least in pairwise(BANDS):
        here = [c for c in confidences if least <= c < below]
        if here:
            found.append(Band(least, below, len(here), sum(here)))
    return found


@dataclass(frozen=True, slots=True)
class Sample:
    """Proposals of which it is known whether they were right: accepted ones, drawn by chance, that
    a person looked at, or such of pages whose answer is known. (confidence, whether it was right)
    """

    reviewed: Sequence[tuple[float, bool]] = ()

    @property
    def wrong(self) -> int:
        return sum(1 for _, right in self.reviewed if not right)

    @property
    def prudence(self) -> float:
        """How many times as likely as the confidence says errors are on this site: as the sample
        shows, and PRUDENCE as long as it is small. (A gamma prior on a Poisson rate.)
        """
        expected = sum(1.0 - confidence for confidence, _ in self.reviewed)
        return (self.wrong + PRUDENCE * _PRIOR_ERRORS) / (expected + _PRIOR_ERRORS)

    @property
    def most_wrong(self) -> float:
        """The share of errors that the sample allows with 95 % certainty (Clopper and Pearson); 1
        without a sample.
        """
        from scipy.special import betaincinv

        count, wrong = len(self.reviewed), self.wrong
        return float(betaincinv(wrong + 1, count - wrong, 0.95)) if count > wrong else 1.0


def accept_above(
    confidences: Iterable[float], threshold: float, prudence: float = PRUDENCE
) -> Acceptance:
    """What to expect when proposals at this confidence and above are accepted."""
    doubts = [1.0 - c for c in confidences if c >= threshold]
    return Acceptance(threshold, len(doubts), prudence * sum(doubts))


def accept_within(
    confidences: Iterable[float], max_error: float, prudence: float = PRUDENCE
) -> Acceptance:
    """The lowest threshold whose expected share of errors is `max_error` or less."""
    ranked = sorted((c for c in confidences if c >= LEAST), reverse=True)
    best, doubt = Acceptance(NOTHING, 0, 0.0), 0.0
    for count, confidence in enumerate(ranked, 1):
        doubt += prudence * (1.0 - confidence)
        last_of_equals = count == len(ranked) or ranked[count] < confidence
        if last_of_equals and doubt <= max_error * count:
            best = Acceptance(confidence, count, doubt)
    return best
