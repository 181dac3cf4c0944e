"""Texts by numbers, and counts of numbered keys, against dictionaries."""

from __future__ import annotations

from collections import Counter

import numpy as np
import pyarrow as pa
import pytest
from hypothesis import given
from hypothesis import strategies as st

from upright_ledger.formats.logs.counting import numbering
from upright_ledger.formats.logs.counting.numbering import Counts, NumberedTexts, digests_of

KEYS = st.lists(st.lists(st.integers(0, 6), max_size=5), max_size=6)


@given(KEYS, st.integers(1, 8))
def test_keys_are_counted_as_by_a_dictionary(parts: list[list[int]], compact_at: int) -> None:
    counts, wanted = Counts(), Counter[int]()
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(numbering, "_COMPACT_AT", compact_at)
        for part in parts:
            counts.add(np.array(part, np.int64))
            wanted.update(part)
            keys, times = counts.total()
            assert dict(zip(keys.tolist(), times.tolist(), strict=True)) == wanted
            assert keys.tolist() == sorted(wanted)
            assert times.dtype == keys.dtype == np.int64
    assert len(counts) >= len(wanted)


def test_equal_keys_are_put_together_when_more_wait_than_fit() -> None:
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(numbering, "_COMPACT_AT", 4)
        counts, lengths = Counts(), []
        for _ in range(6):
            counts.put(np.array([1, 2]), np.array([1, 10]))
            lengths.append(len(counts))
    assert lengths == [2, 4, 2, 4, 6, 2]
    assert [found.tolist() for found in counts.total()] == [[1, 2], [6, 60]]
    assert [found.tolist() for found in Counts().total()] == [[], []]


@given(st.lists(st.lists(st.sampled_from(["a", "b", "", None, "c?x"]), min_size=1), max_size=4))
def test_texts_are_numbered_as_they_come(columns: list[list[str | None]]) -> None:
    texts, seen = NumberedTexts(), list[str | None]()
    for column in columns:
        before = len(seen)
        found = texts.encode(
            pa.array(column, pa.string()).dictionary_encode(), lambda t: t.partition("?")[0]
        )
        read = [t if t is None else t.partition("?")[0] for t in column]
        assert [list(texts.numbers)[n] for n in found.tolist()] == read
        seen = list(texts.numbers)
        assert texts.since(before) == seen[before:]
        assert texts.since(len(seen)) == []
    assert list(texts.numbers.values()) == list(range(len(seen)))


def test_digests_are_kept_as_eight_bytes_each_the_low_one_first() -> None:
    found = digests_of(bytes([1, 0, 0, 0, 0, 0, 0, 0, 0, 1, 0, 0, 0, 0, 0, 0]))
    assert (found.tolist(), found.dtype) == ([1, 256], np.uint64)
