"""Who asked, as numbers: which requests of a day are one visitor's, and whether that one is a
scanner. Addresses become numbers at once; neither leaves the reading of a log.

A log may be read in pieces: what a visitor did in each is added up before anybody judges.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import Any, NamedTuple

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


class Conduct(NamedTuple):
    """What suspects did in a piece of a log. every, sure, failing: of each suspect, its requests,
    the probes among them, and those that failed. asked: (suspect, target), each pair once.
    """

    every: npt.NDArray[np.int64]
    sure: npt.NDArray[np.int64]
    failing: npt.NDArray[np.int64]
    asked: npt.NDArray[np.uint64]


def probing(visitors: Visitors, probes: npt.NDArray[np.bool_]) -> tuple[Visitors, Any]:
    """Those who probed in a piece of a log, and how often. visitors: of a day each. probes:
    requests that nobody but a scanner makes.
    """
    return np.unique(visitors[probes & (visitors != UNKNOWN)], return_counts=True)


def suspects_of(parts: Sequence[tuple[Visitors, Any]]) -> Visitors:
    """Those who probed often enough in all pieces together, in order."""
    named = np.concatenate([visitors for visitors, _ in parts])
    names, places = np.unique(named, return_inverse=True)
    times = np.bincount(places, np.concatenate([n for _, n in parts]), minlength=len(names))
    found: Visitors = names[times >= SURE]
    return found


def is_among(visitors: Visitors, known: Visitors) -> npt.NDArray[np.bool_]:
    """Which visitors are among those known, which are in order."""
    if not len(known):
        return np.zeros(len(visitors), np.bool_)
    at = np.minimum(np.searchsorted(known, visitors), len(known) - 1)
    found: npt.NDArray[np.bool_] = known[at] == visitors
    return found


def each_once(rows: npt.NDArray[np.uint64]) -> npt.NDArray[np.uint64]:
    """The distinct columns of a table, in order."""
    rows = rows[:, np.lexsort(rows[::-1])]
    changes = (rows[:, 1:] != rows[:, :-1]).any(axis=0)
    found: npt.NDArray[np.uint64] = rows[:, np.r_[True, changes]] if rows.shape[1] else rows
    return found


def conduct_of(
    suspects: Visitors,
    visitors: Visitors,
    targets: npt.NDArray[Any],
    probes: npt.NDArray[np.bool_],
    failing: npt.NDArray[np.bool_],
) -> Conduct:
    """What suspects did, of requests that are all theirs."""
    who = np.searchsorted(suspects, visitors)

    def count(which: Any) -> npt.NDArray[np.int64]:
        return np.bincount(which, minlength=len(suspects))

    asked = each_once(np.stack([who.astype(np.uint64), targets.astype(np.uint64)]))
    return Conduct(count(who), count(who[probes]), count(who[failing]), asked)


def guilty(suspects: Visitors, parts: Sequence[Conduct]) -> Visitors:
    """The suspects that are scanners, in order. An address of which many make use, as a proxy's, is
    none.
    """
    every = np.sum([part.every for part in parts], axis=0)
    asked = each_once(np.concatenate([part.asked for part in parts], axis=1))[0]
    distinct = np.bincount(asked.astype(np.int64), minlength=len(suspects))
    found = np.sum([part.sure for part in parts], axis=0) * _OF_ALL >= every
    found |= (np.sum([part.failing for part in parts], axis=0) >= _FAILING * every) & (
        distinct >= _DISTINCT * every
    )
    return np.extract(found, suspects)


def scanners(
    visitors: Visitors,
    targets: npt.NDArray[np.int64],
    probes: npt.NDArray[np.bool_],
    failing: npt.NDArray[np.bool_],
) -> npt.NDArray[np.bool_]:
    """Which requests of a whole log are those of scanners. visitors: of a day each. probes:
    requests that nobody but a scanner makes.
    """
    suspects = suspects_of([probing(visitors, probes)])
    of_them = is_among(visitors, suspects)
    if not len(suspects):
        return of_them
    told = (visitors[of_them], targets[of_them], probes[of_them], failing[of_them])
    return is_among(visitors, guilty(suspects, [conduct_of(suspects, *told)]))
