"""How far a template may go beyond what is known: by a bound that another hand works out."""

from __future__ import annotations

from statistics import NormalDist

import pytest
from test_rule_set_parts import FAR, exact, template

from upright_ledger.core.rules.generality import CAUTIOUS, Bound, Reach, made_up

NAMES = tuple(f"{a}{b}x" for a in "abcde" for b in "fghij")


@pytest.mark.parametrize("wrong", [0, 1, 2, 5])
def test_the_bound_is_the_score_of_a_share_that_cannot_be_told_from_the_known(wrong: int) -> None:
    """Wilson's bound solves (p - share)^2 = z^2 p (1 - p) / n for p: what it says is put in."""
    z = NormalDist().inv_cdf(0.95)
    for of in range(wrong + 1, 200):
        share, p = wrong / of, CAUTIOUS.most_wrong
        told_apart = share < p and (p - share) ** 2 >= z * z * p * (1 - p) / of - 1e-3 * p / of
        assert CAUTIOUS.holds(wrong, of) == told_apart, of
    assert not CAUTIOUS.holds(0, 0)


def test_sixteen_bear_it_out_or_twenty_eight_but_for_one() -> None:
    assert next(n for n in range(40) if CAUTIOUS.holds(0, n)) == 16
    assert next(n for n in range(1, 40) if CAUTIOUS.holds(1, n)) == 28


def test_what_goes_elsewhere_speaks_against_a_template() -> None:
    form = template("/j/{x}", f"{FAR}/s/{{x}}")
    members = [exact(f"/j/{n}", f"{FAR}/s/{n}") for n in NAMES]
    others = [exact(f"/j/odd{n}", f"{FAR}/else/") for n in range(9)]
    beside = [exact(f"/k/{n}", f"{FAR}/else/") for n in NAMES]
    assert Reach([*members, *beside], CAUTIOUS, fold=True).allows(form, members)
    assert not Reach([*members, *others], CAUTIOUS, fold=True).allows(form, members)
    assert Reach([*members, *others], None, fold=True).allows(form, members)
    assert not Reach(members[:15], CAUTIOUS, fold=True).allows(form, members[:15])


def test_captures_take_what_they_took_where_that_is_of_few_kinds() -> None:
    form = template("/{l}/{y|digits}/{n}{?i|digits}", f"{FAR}/{{l}}/{{n}}/{{i}}")
    members = [
        exact(f"/{tongue}/{2000 + y}/{n}?i={i}", f"{FAR}/{tongue}/{n}/{i}")
        for tongue in ("de", "en")
        for y, n in enumerate(NAMES)
        for i in (7, 8)
    ]
    reach = Reach(members, CAUTIOUS, fold=True)
    assert reach.narrowed(form, members) == "/{l|de,en}/{y|digits}/{n}{?i|7,8}"
    assert Reach(members, None, fold=True).narrowed(form, members) == form.source.text
    assert Reach(members, Bound(0.15, 2), fold=True).narrowed(form, members) == form.source.text


def test_a_list_of_what_is_known_goes_nowhere_else() -> None:
    known = template("/m/{n|ada,bo}", f"{FAR}/one/")
    two = [exact(f"/m/{n}", f"{FAR}/one/") for n in ("ada", "bo")]
    assert Reach(two, CAUTIOUS, fold=True).allows(known, two)
    assert made_up(known, two, fold=True) is None
    more = template("/{l|de,en}/{n|ada,bo}", f"{FAR}/one/")
    some = [exact(p, f"{FAR}/one/") for p in ("/de/ada", "/en/bo", "/de/bo")]
    assert not Reach(some, CAUTIOUS, fold=True).allows(more, some)
    assert made_up(more, some, fold=True) == ("/en/ada", f"{FAR}/one/")


@pytest.mark.parametrize(
    ("source", "goal", "address", "led"),
    [
        ("/j/{x}", "/s/{x}", "/j/example", "/s/example"),
        ("/j/{x|word}-{y|digits}", "/s/{y}", "/j/example-8", "/s/8"),
        ("/j/{+rest}", "/s/{rest}", "/j/example/page", "/s/example/page"),
        ("/p{?i|digits}", "/n/{i}", "/p?i=8", "/n/8"),
    ],
)
def test_an_address_is_made_up_that_nobody_knows(
    source: str, goal: str, address: str, led: str
) -> None:
    paths = {"/j/{x}": "/j/a", "/j/{x|word}-{y|digits}": "/j/a-7", "/p{?i|digits}": "/p?i=7"}
    known = [exact(paths.get(source, "/j/a/b"), f"{FAR}/x")]
    assert made_up(template(source, FAR + goal), known, fold=True) == (address, FAR + led)
    taken = [exact("/j/example", f"{FAR}/x")]
    assert made_up(template("/j/{x}", f"{FAR}/s/{{x}}"), taken, fold=True) == (
        "/j/another-example",
        f"{FAR}/s/another-example",
    )
