"""Pieces of texts in scripts that write no blanks between words."""

from __future__ import annotations

import unicodedata

import pytest
from hypothesis import given
from hypothesis import strategies as st

from upright_ledger.core.url.tokens import as_written, tokens
from upright_ledger.core.url.unspaced import holds_unspaced, is_han, runs, spaced, syllables

LETTERS = st.text(
    st.one_of(
        st.characters(min_codepoint=0xE01, max_codepoint=0xEC4),
        st.characters(min_codepoint=0x1000, max_codepoint=0x109F),
        st.characters(min_codepoint=0x1780, max_codepoint=0x17D3),
        st.characters(min_codepoint=0x3005, max_codepoint=0x30FF),
        st.characters(min_codepoint=0x4E00, max_codepoint=0x4FFF),
        st.characters(min_codepoint=0xFF66, max_codepoint=0xFF9F),
        st.sampled_from("aZ9 -|(é「"),
    ),
    max_size=12,
)


@pytest.mark.parametrize(
    ("text", "pieces"),
    [
        ("不锈钢球阀", "不锈 锈钢 钢球 球阀"),
        ("球阀", "球阀"),
        ("阀", "阀"),
        ("上海DN50型", "上海 DN50 型"),
        ("ガラスのコップ", "ガラス コップ"),
        ("ｶﾞﾗｽ", "ガラス"),
        ("お問い合わせ", "問 合 わせ"),
        ("々", "々"),
        ("の", "の"),
        ("コーヒー豆", "コーヒー 豆"),
        ("แกงไก่", "แกง งไก่"),
        ("ຕຳຫມາກ", "ຕໍາຫ ຫມາ ມາກ"),
        ("오래된 시계", "오래된 시계"),
        ("old clocks", "old clocks"),
    ],
)
def test_pieces(text: str, pieces: str) -> None:
    assert spaced(text).split() == pieces.split()


@pytest.mark.parametrize("text", ["แกงเขียวหวาน", "ໂຮງຮຽນ", "ខ្មែរ", "မြန္မာ"])
def test_no_syllable_ends_before_its_consonant_or_begins_with_a_sign(text: str) -> None:
    for syllable in syllables(text):
        assert unicodedata.category(syllable[0]) == "Lo"
        assert syllable[-1] not in "เแโใไເແໂໃໄ\u17d2\u1039"


def test_the_same_in_another_order_shares_most_of_it() -> None:
    one, other = (set(tokens(t)) for t in ("耐腐蚀不锈钢离心泵", "不锈钢离心泵（耐腐蚀）"))
    assert len(one & other) >= 6
    assert not one & set(tokens("公司召开总结大会"))


@given(LETTERS)
def test_no_letter_is_made_up_and_none_of_another_script_goes(text: str) -> None:
    whole = unicodedata.normalize("NFKC", text)
    assert set(unicodedata.normalize("NFKC", spaced(text))) <= {*whole, " "}
    others = [c for c in text if not holds_unspaced(c) and not c.isspace()]
    assert [c for c in spaced(text) if not holds_unspaced(c) and not c.isspace()] == others
    assert set(tokens(text)) <= set(as_written(text))


@given(LETTERS)
def test_runs_and_syllables_are_all_of_a_text(text: str) -> None:
    letters = "".join(c for c in text if holds_unspaced(c))
    assert "".join(runs(letters)) == letters
    for run in runs(letters):
        assert "".join(syllables(run)) == run
        assert len({is_han(c) for c in run}) == 1


def test_words_are_told_in_the_letters_of_the_page() -> None:
    assert as_written("Öffnungszeiten „Turmuhr“")["turmuhr"] == "turmuhr"
    assert "öffnungszeiten" in as_written("Öffnungszeiten").values()
    assert {"花瓶", "ガラス"} <= set(as_written("花瓶のガラス").values())
    assert "старые" in as_written("Старые часы").values()
