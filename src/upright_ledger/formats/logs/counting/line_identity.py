"""Which lines of a log count already, as they stood in one that was read before."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import numpy.typing as npt

from upright_ledger.formats.logs.counting.numbering import Codes, digests_of
from upright_ledger.formats.logs.log_line import UNDATED
from upright_ledger.formats.records import LogLines

Digests = npt.NDArray[np.uint64]


class LineIdentity:
    """Tells fresh lines from those that earlier logs hold, and notes the fresh ones by their day.
    undated: lines that tell no day.
    """

    def __init__(self, lines: LogLines) -> None:
        self.lines = lines
        self.undated = 0
        self._known = {
            day: np.sort(np.concatenate([digests_of(d) for d in parts]))
            for day, parts in lines.known.items()
        }
        self._let_go = {day for day, parts in lines.known.items() if not all(parts)}
        self._found: dict[str, list[Digests]] = {}

    def fresh(self, names: Sequence[str], days: Codes, digests: Digests) -> npt.NDArray[np.bool_]:
        """Which lines no earlier log holds. names: of the days."""
        fresh = np.ones(len(days), np.bool_)
        for code in np.unique(days).tolist():
            day, here = names[code][:10], np.flatnonzero(days == code)
            if day == UNDATED:  # the same line may well come again another day
                self.undated += len(here)
                continue
            mine = digests[here]
            if day in self._let_go:
                fresh[here] = False
                self.lines.repeated += len(here)
                self.lines.let_go[day] += len(here)
                continue
            if day in self._known:
                known = self._known[day]
                at = np.minimum(np.searchsorted(known, mine), len(known) - 1)
                repeated = known[at] == mine
                fresh[here[repeated]] = False
                self.lines.repeated += int(repeated.sum())
                mine = mine[~repeated]
            if len(mine):
                self._found.setdefault(day, []).append(mine)
        return fresh

    def close(self) -> None:
        """Fill in `LogLines.found`."""
        self.lines.found = {
            d: np.concatenate(parts).astype("<u8").tobytes() for d, parts in self._found.items()
        }

    @property
    def days(self) -> dict[str, int]:
        """Day → lines that were new."""
        return {day: sum(map(len, parts)) for day, parts in sorted(self._found.items())}
