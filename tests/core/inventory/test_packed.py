"""Values packed in one text come out as they went in."""

from __future__ import annotations

from hypothesis import given
from hypothesis import strategies as st

from conftest import OLD, Program
from upright_ledger.core.inventory.packed import (
    PackedDays,
    add_days,
    first_and_last,
    join_days,
    pack_days,
    pack_referrers,
    unpack_days,
    unpack_referrers,
)

DAYS = st.dates().map(str) | st.just("2026-05-03B2026-05-03T10:00:00Z")
AMOUNTS = st.integers(1, 10**9).map(float)
REFERRERS = st.text(
    st.characters(exclude_characters="\n", exclude_categories=["Cs"]), max_size=12
) | st.sampled_from(["", "a b", "\x85", "http://b.example/\u2028x", "\x1c 12"])


@given(st.dictionaries(DAYS, AMOUNTS))
def test_days_come_out_in_their_order(amounts: dict[str, float]) -> None:
    packed = pack_days(amounts)
    assert unpack_days(packed) == sorted(amounts.items())
    days = sorted(day[:10] for day in amounts)
    assert first_and_last(packed) == ((days[0], days[-1]) if days else ("", ""))


@given(st.lists(st.dictionaries(DAYS, AMOUNTS, max_size=4), max_size=4))
def test_days_of_several_texts_add_up(several: list[dict[str, float]]) -> None:
    packed = [pack_days(amounts) for amounts in several]
    wanted: dict[str, float] = {}
    for amounts in several:
        for day, amount in amounts.items():
            wanted[day] = wanted.get(day, 0.0) + amount
    assert dict(unpack_days(add_days(packed))) == wanted
    assert sorted(unpack_days(join_days(packed))) == sorted(
        pair for amounts in several for pair in amounts.items()
    )
    assert add_days([PackedDays("")]) == ""


@given(st.lists(st.tuples(REFERRERS, AMOUNTS)))
def test_referrers_come_out_whatever_signs_they_hold(pairs: list[tuple[str, float]]) -> None:
    assert unpack_referrers(pack_referrers(pairs)) == pairs


def test_a_referrer_with_the_breaks_of_other_systems_is_one_referrer(museum: Program) -> None:
    for sign in ("\u2028", "\u2029", "\x85", "\x0b"):
        line = '192.0.2.1 - - [03/May/2026:10:00:00 +0000] "GET /a HTTP/1.1" 404 1 '
        museum.write("a.log", f'{line}"http://b.example/x{sign}3 y" "Mozilla/5.0"\n')
        museum("gather", "a.log")
    entry = museum.json("entries", f"{OLD}/a")
    assert entry["hits"] == 4
    museum("triage", code=1)
