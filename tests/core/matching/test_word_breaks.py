"""Words found in titles that write no blanks between them."""

from __future__ import annotations

import random
from itertools import accumulate, product

import pytest
from hypothesis import given
from hypothesis import strategies as st

from upright_ledger.core.matching.pages.word_breaks import break_words

ALPHABETS = {
    "Han": [chr(0x4E00 + 7 * n) for n in range(400)],
    "katakana": [chr(0x30A1 + n) for n in range(80)],
    "Thai": [a + b for a, b in product("กขคงจชซดตถทนบปผพฟมยรลวสหอ", ["", "ิ", "า", "ู", "้"])],
}


def _ends(words: list[str]) -> set[int]:
    return set(accumulate(map(len, words)))


@pytest.mark.parametrize("script", ALPHABETS)
def test_words_of_a_made_up_tongue_are_found(script: str) -> None:
    r = random.Random(script)
    words = ["".join(r.choices(ALPHABETS[script], k=r.choice([2, 2, 3, 4]))) for _ in range(60)]
    told = [r.sample(words, r.randint(2, 5)) for _ in range(400)]
    broken = break_words("".join(title) for title in told)
    right = wanted = given = 0
    for title in told[:100]:
        cut = broken("".join(title)).split()
        assert "".join(cut) == "".join(title)
        right += len(_ends(cut) & _ends(title))
        wanted, given = wanted + len(title), given + len(cut)
    assert right / wanted > 0.95
    assert right / given > 0.95


def test_a_word_that_is_in_two_titles_alone_is_no_word() -> None:
    broken = break_words(["不锈钢球阀", "不锈钢球阀"])
    assert broken("不锈钢球阀") == "不锈钢球阀"
    assert break_words([])("不锈钢球阀 DN50") == "不锈钢球阀 DN50"


@given(st.lists(st.text("不锈钢球阀のガラスไก่ง a-|9é", max_size=14), max_size=8))
def test_nothing_but_blanks_comes_in(titles: list[str]) -> None:
    broken = break_words(titles * 3)
    for title in titles:
        assert broken(title).replace(" ", "") == title.replace(" ", "")
        if title.isascii():
            assert broken(title) == title
