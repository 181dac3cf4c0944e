"""Texts by numbers, and counts of numbered keys."""

from __future__ import annotations

from collections.abc import Callable
from itertools import islice
from typing import Any

import numpy as np
import numpy.typing as npt

_COMPACT_AT = 2_000_000  # counted keys, 16 bytes each


Codes = npt.NDArray[np.int64]


class NumberedTexts:
    """Distinct texts as numbers, in the order in which they were first seen."""

    def __init__(self) -> None:
        self.numbers: dict[str | None, int] = {}

    def encode(self, column: Any, read: Callable[[str], str] = str) -> Codes:
        """The numbers of a dictionary column, each text as `read` makes it; null is numbered,
        too.
        """
        numbers = self.numbers
        places = column.indices
        texts: list[str | None] = [read(text) for text in column.dictionary.to_pylist()]
        if places.null_count:
            places = places.fill_null(len(texts))
            texts.append(None)
        table = np.fromiter(
            (numbers.setdefault(text, len(numbers)) for text in texts), np.int64, len(texts)
        )
        found: Codes = table[places.to_numpy()]
        return found

    def since(self, count: int) -> list[str | None]:
        """The texts that came after the first `count`."""
        return list(islice(self.numbers, count, None)) if len(self.numbers) > count else []


class Counts:
    """How often each key was counted; equal keys are put together from time to time."""

    def __init__(self) -> None:
        self._parts: list[tuple[Codes, Codes]] = []
        self._waiting = 0

    def add(self, keys: Codes) -> None:
        self.put(*np.unique(keys, return_counts=True))

    def put(self, keys: Codes, counts: Codes) -> None:
        self._parts.append((keys, counts))
        self._waiting += len(keys)
        if self._waiting > _COMPACT_AT:
            self._parts = [self.total()]
            self._waiting = 0

    def __len__(self) -> int:
        """Distinct keys, or a few more."""
        return sum(len(keys) for keys, _ in self._parts)

    def total(self) -> tuple[Codes, Codes]:
        """Distinct keys in order, and their counts."""
        if not self._parts:
            return np.empty(0, np.int64), np.empty(0, np.int64)
        keys = np.concatenate([k for k, _ in self._parts])
        if not len(keys):
            return keys, keys
        counts = np.concatenate([c for _, c in self._parts])
        order = np.argsort(keys, kind="stable")
        keys, counts = keys[order], counts[order]
        starts = np.flatnonzero(np.r_[True, keys[1:] != keys[:-1]])
        return keys[starts], np.add.reduceat(counts, starts)


def digests_of(data: bytes) -> npt.NDArray[np.uint64]:
    """Digests of lines as they are kept: 8 bytes each."""
    return np.frombuffer(data, "<u8").astype(np.uint64)
