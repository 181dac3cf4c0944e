"""Texts and keys as columns say what they say one by one."""

import numpy as np
from hypothesis import given
from hypothesis import strategies as st
from scipy import sparse

from upright_ledger.core.matching.sparse import (
    as_codes,
    as_pieces,
    best_of_product,
    equal_pairs,
    normed,
)

TEXTS = st.lists(st.text("abcß漢", max_size=7), max_size=8)


@given(TEXTS, TEXTS)
def test_equal_texts_have_one_code_and_empty_ones_none(ours, theirs):
    left, right = (codes.tolist() for codes in as_codes(ours, theirs))
    told = dict(zip(ours + theirs, left + right, strict=True))
    assert [told[t] for t in ours + theirs] == left + right
    assert len(set(told.values())) == len(told)
    assert told.get("", 0) == 0
    assert all(code for text, code in told.items() if text)


@given(st.integers(1, 4), TEXTS, TEXTS)
def test_pieces_are_those_that_texts_share(length, ours, theirs):
    def pieces(text):
        return {text[k : k + length] for k in range(max(1, len(text) - length + 1)) if text}

    left, right = as_pieces(length, ours, theirs)
    shared = (left @ right.T).toarray()
    assert shared.tolist() == [[len(pieces(a) & pieces(b)) for b in theirs] for a in ours]
    assert np.diff(left.indptr).tolist() == [len(pieces(a)) for a in ours]


KEYS = st.lists(st.tuples(st.integers(0, 20), st.integers(0, 4)), max_size=12)


@given(KEYS, KEYS, st.integers(1, 3))
def test_rows_of_one_key_are_paired_unless_too_many_have_it(ours, theirs, most):
    def columns(pairs):
        return tuple(np.array(pairs, np.int64).reshape(-1, 2).T)

    rows, columns_found = equal_pairs(columns(ours), columns(theirs), most)
    expected = [
        (row, other)
        for row, key in ours
        if key and sum(key == k for _, k in theirs) <= most
        for other, k in theirs
        if k == key
    ]
    assert sorted(zip(rows.tolist(), columns_found.tolist(), strict=True)) == sorted(expected)


@given(st.integers(0, 2**32 - 1), st.integers(1, 4))
def test_the_best_of_a_product_are_the_largest_in_order_of_their_columns(seed, count):
    rng = np.random.default_rng(seed)
    left, right = (
        normed(sparse.csr_matrix(rng.integers(0, 3, (rows, 5)).astype(float))) for rows in (4, 6)
    )
    least = 0.4
    product = np.minimum(np.rint((left @ right.T).toarray() * 65_536), 65_536)
    expected = [
        (row, column)
        for row, figures in enumerate(product.tolist())
        for column in sorted(
            (n for n, figure in enumerate(figures) if figure >= least * 65_536),
            key=lambda n, figures=figures: (-figures[n], n),
        )[:count]
    ]
    rows, columns = best_of_product(left, right, count, least)
    assert list(zip(rows.tolist(), columns.tolist(), strict=True)) == expected
