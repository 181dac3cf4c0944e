"""Many requests of a rehearsal judged, as columns; see `rehearsal`."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Generic, TypeVar

import numpy as np
from numpy.typing import NDArray

from upright_ledger.core.tracing.answer_columns import Answers
from upright_ledger.core.tracing.redirect_ends import NO_END
from upright_ledger.core.tracing.rehearsal import Rehearsal, Rehearsed
from upright_ledger.core.tracing.results import Outcome
from upright_ledger.core.tracing.trace import REDIRECTS

T = TypeVar("T")


class RequestColumns(Generic[T]):
    """Judges many requests of a rehearsal at a time. What is not plain is looked at one by one."""

    def __init__(self, rehearsal: Rehearsal[T]) -> None:
        self._one = rehearsal

    def judge(self, urls: Sequence[str], owners: Sequence[T | None], answers: Answers) -> Rehearsed:
        """As `Rehearsal.ask`, where the rules were asked."""
        statuses, locations, new, ends = answers
        owned = np.fromiter((owner is not None for owner in owners), np.bool_, len(urls))
        found = np.empty(len(urls), dtype=object)
        moved = np.isin(statuses, [*REDIRECTS])
        stays = ~moved & ~new
        ended = ends != NO_END
        self._put_alike(
            found, stays & ~owned, statuses, lambda n, s: self._one.stays(urls[n], s, None)
        )
        self._put_alike(
            found,
            ended & ~owned,
            statuses * 1000 + ends,
            lambda _, code: self._one.ending(*divmod(code, 1000), "", 0.0),
        )
        for n in np.flatnonzero(stays & owned).tolist():
            found[n] = self._one.stays(urls[n], int(statuses[n]), owners[n])
        for n in np.flatnonzero(ended & owned).tolist():
            one = self._one.moves(urls[n], int(statuses[n]), locations[n], int(ends[n]), owners[n])
            found[n], ended[n] = one, one is not None
        for n in np.flatnonzero(~stays & ~ended).tolist():
            locations[n], found[n] = self._one.whole(urls[n], owners[n])
        return Rehearsed(locations.tolist(), found.tolist())

    @staticmethod
    def _put_alike(
        found: NDArray[np.object_],
        which: NDArray[np.bool_],
        codes: NDArray[np.int32],
        make: Callable[[int, int], Outcome],
    ) -> None:
        """Give one outcome to all of these requests that have one code. make: from one of them and
        its code.
        """
        rows = np.flatnonzero(which)
        for code, first in zip(*np.unique(codes[rows], return_index=True), strict=True):
            found[rows[codes[rows] == code]] = make(int(rows[first]), int(code))
