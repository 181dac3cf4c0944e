"""Who asked, as numbers: which requests of a day are one visitor's, and whether that one is a
scanner. Addresses become numbers at once; neither leaves the reading of a log.
"""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

import numpy as np
import numpy.typing as npt

Visitors = npt.NDArray[np.uint64]
"""A number a line; UNKNOWN where a log does not say who asked."""
UNKNOWN = np.uint64(0)
_BLANK, _WIDTH = 32, 48  # bytes; no address is longer
_WEIGHTS = np.random.default_rng(1).integers(1, 1 << 62, _WIDTH // 8, dtype=np.uint64) * np.uint64(
    2
) + np.uint64(1)
_HALF = np.uint64(32)
SURE = 3
"""Probes by which a visitor is known for a scanner."""
_OF_ALL = 10  # one in so many requests of a scanner is a sure probe; a proxy stands for many people
_FAILING, _DISTINCT = 0.95, 0.8  # or nearly all fail, and hardly any comes twice


def visitors_at(data: npt.NDArray[np.uint8], starts: npt.NDArray[np.int64]) -> Visitors:
    """The visitors whose addresses begin at these places, and end at a blank."""
    at = starts[:, None] + np.arange(_WIDTH)
    words = data.take(at, mode="clip")
    words[np.logical_or.accumulate(words == _BLANK, axis=1)] = 0
    return _numbered(words)


def visitors_named(texts: Iterable[str]) -> Visitors:
    """The visitors of these addresses; of an empty one UNKNOWN."""
    raw = [text.encode("utf-8", "surrogateescape")[:_WIDTH] for text in texts]
    words = np.zeros((len(raw), _WIDTH), np.uint8)
    for row, text in enumerate(raw):
        words[row, : len(text)] = np.frombuffer(text, np.uint8)
    return _numbered(words)


def visitors_between(
    data: npt.NDArray[np.uint8], starts: npt.NDArray[np.int64], ends: npt.NDArray[np.int64]
) -> Visitors:
    """The visitors whose addresses stand between these places."""
    words = data.take(starts[:, None] + np.arange(_WIDTH), mode="clip")
    words[np.arange(_WIDTH) >= (ends - starts)[:, None]] = 0
    return _numbered(words)


def _numbered(words: npt.NDArray[np.uint8]) -> Visitors:
    parts = np.ascontiguousarray(words).view("<u8").astype(np.uint64)
    mixed = (parts ^ (parts >> np.uint64(29))) * _WEIGHTS
    found: Visitors = mixed.sum(axis=1, dtype=np.uint64)
    found ^= found >> _HALF
    nobody = (words[:, 0] == 0) | ((words[:, 0] == ord("-")) & (words[:, 1] == 0))
    found[nobody] = UNKNOWN
    return found


def scanners(
    visitors: Visitors,
    targets: npt.NDArray[np.int64],
    probes: npt.NDArray[np.bool_],
    failing: npt.NDArray[np.bool_],
) -> npt.NDArray[np.bool_]:
    """Which requests are those of scanners. visitors: of a day each. probes: requests that nobody
    but a scanner makes. An address of which many make use, as a proxy's, is none.
    """
    none = np.zeros(len(visitors), np.bool_)
    suspects, times = np.unique(visitors[probes & (visitors != UNKNOWN)], return_counts=True)
    suspects = suspects[times >= SURE]
    if not len(suspects):
        return none
    at = np.minimum(np.searchsorted(suspects, visitors), len(suspects) - 1)
    of_them = suspects[at] == visitors
    who = at[of_them]

    def count(which: Any = None) -> npt.NDArray[np.float64]:
        return np.bincount(who if which is None else who[which], minlength=len(suspects)).astype(
            np.float64
        )

    every, sure = count(), count(probes[of_them])
    pairs = np.unique(np.stack([who, targets[of_them]]), axis=1)[0]
    distinct = np.bincount(pairs, minlength=len(suspects))
    guilty = sure * _OF_ALL >= every
    guilty |= (count(failing[of_them]) >= _FAILING * every) & (distinct >= _DISTINCT * every)
    none[of_them] = guilty[who]
    return none
