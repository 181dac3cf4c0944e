"""Item numbers that changed, languages by their words, and names that contradict each other."""

from __future__ import annotations

import itertools
import random

import pytest
from hypothesis import given
from hypothesis import strategies as st

from conftest import NEW, OLD, Program
from properties import thorough
from upright_ledger.core.matching import MatchPage, propose
from upright_ledger.core.matching.learned_features import change_of
from upright_ledger.core.matching.pages.item_numbers import code_in, learn_renumbering
from upright_ledger.core.matching.pages.opposites import are_opposed, opposable
from upright_ledger.core.matching.pages.page_tongues import by_words
from upright_ledger.core.matching.pages.page_words import read_page

NUMBERS = [str(n) for n in range(11905, 12305, 13)]


@pytest.mark.parametrize(
    ("old", "new", "words"),
    [
        ("{}", "sw{}", "“SW” put before the number"),
        ("p{}", "{}", "“P” taken off before the number"),
        ("{}", "{}de", "“DE” put after the number"),
        (
            "a{}",
            "b{}x",
            "“B” put before the number and “A” taken off before the number and “X” put",
        ),
        ("{}", "{}{check}", "a sign put after the number"),
        (
            "x{}{check}",
            "{}",
            "“X” taken off before the number and a sign taken off after the number",
        ),
    ],
)
def test_how_numbers_changed(old: str, new: str, words: str) -> None:
    pairs = [
        ({old.format(n, check=int(n) % 7)}, {new.format(n, check=int(n) % 7)}) for n in NUMBERS
    ]
    found = learn_renumbering(pairs)
    assert found is not None
    assert found.words.startswith(words)
    assert all(found.old.core(*a) == found.new.core(*b) != "" for a, b in pairs)


@pytest.mark.parametrize(
    "pairs",
    [
        [],
        [({n}, {n}) for n in NUMBERS],
        [({n}, {f"sw{n}"}) for n in NUMBERS[:2]],
        [({n}, {str(int(n) * 7919)}) for n in NUMBERS],
        [({n}, {f"sw{n}" if k % 2 else n}) for k, n in enumerate(NUMBERS)],
        [(set(), {n}) for n in NUMBERS],
    ],
)
def test_what_stayed_or_is_not_borne_out_is_no_renumbering(
    pairs: list[tuple[set[str], set[str]]],
) -> None:
    assert learn_renumbering(pairs) is None


def pages(*told: tuple[str, str, str]) -> list[MatchPage]:
    return [MatchPage(path, path, title, language=code) for path, title, code in told]


def test_pages_without_a_mark_speak_the_language_of_their_words() -> None:
    kinds = [("Tomate", "Tomato"), ("Bohne", "Bean"), ("Salat", "Lettuce")]
    new = pages(
        *((f"/de/{a}-{n}/", f"{a} Nr {n}", "de") for a, _ in kinds for n in range(10)),
        *((f"/en/{b}-{n}/", f"{b} no {n}", "en") for _, b in kinds for n in range(10)),
    )
    old = pages(
        *((f"/artikel/{n}.html", f"{kinds[n % 3][0]} Nr {n}", "") for n in range(9)),
        *((f"/item/{n}.html", f"{kinds[n % 3][1]} no {n}", "-") for n in range(9)),
        ("/mixed/1.html", "Tomate", ""), ("/mixed/2.html", "Tomato", ""), ("/x/", "Tomate", "fr"),
    )  # fmt: skip
    assert by_words(old, new) == ["de"] * 9 + ["en"] * 9 + ["", "", "fr"]
    assert by_words(new, old) == [p.language for p in new]


@pytest.mark.parametrize(
    ("one", "other", "opposed"),
    [
        ("to csv", "from csv", True), ("is copy", "copy", False), ("add user", "remove user", True),
        ("to from", "from to", False), ("read", "write", True), ("start", "end", True),
        ("start", "stop", True), ("a", "b", False), ("to x", "to y", False),
    ],
)  # fmt: skip
def test_names_that_say_the_opposite(one: str, other: str, opposed: bool) -> None:
    left, right = opposable(tuple(one.split())), opposable(tuple(other.split()))
    assert are_opposed(left, right) is opposed is are_opposed(right, left)


@thorough
@given(st.lists(st.sampled_from("abcd"), max_size=6), st.lists(st.sampled_from("abcd"), max_size=6))
def test_a_change_of_words_leads_from_one_name_to_the_other(old: list[str], new: list[str]) -> None:
    change = change_of(tuple(old), tuple(new))
    if change is None:
        return
    gone, come = (list(words) for words in change)
    made = [
        old[:at] + come + old[at + len(gone) :]
        for at in range(len(old) + 1)
        if old[at : at + len(gone)] == gone
    ]
    assert new in made


def members(*names: str) -> list[MatchPage]:
    return [MatchPage(n, f"/api/kit.{n}.html") for n in names]


def test_a_name_that_is_equal_letter_by_letter_comes_first() -> None:
    names = (
        "Frame.to_csv", "Frame.from_csv", "Clock.names", "Clock.name", "Clock.is_unique",
        "Clock.unique", "Clock", "ClockIndex.days", "Clock.days", "Index.to_series", "Series.index",
    )  # fmt: skip
    others = [f"Frame.{word}" for word in ["oak", "elm", "ash", "yew", "fir", "box", "bay", "fig"]]
    new = members(*names, *others)
    old = [MatchPage(f"old {p.name}", f"/docs/generated/kit.{p.name}.html") for p in new]
    found = propose(old, new).found
    assert {n: found[n][0].name for n in found} == {
        p.name: p.name.removeprefix("old ") for p in old
    }


def test_words_that_come_in_between_everywhere_are_learned() -> None:
    words = ["oak", "elm", "ash", "yew", "fir", "box", "bay", "fig", "plum", "pear", "lime", "sloe"]
    new = members(
        *(f"io.style.Styler.{w}" for w in words), *(f"style.Styler.{w}s" for w in words[:3])
    )
    old = [MatchPage(w, f"/docs/kit.style.Styler.{w}.html") for w in words]
    found = propose(old, new).found
    assert {w: found[w][0].name for w in words} == {w: f"io.style.Styler.{w}" for w in words}


def _check(number: int) -> int:
    return sum(int(c) * n for n, c in enumerate(str(number), 1)) % 10


WAYS = {
    "a prefix": (lambda n: f"{n}", lambda n: f"SW-{n}", "“SW” put before"),
    "a suffix": (lambda n: f"{n}-de", lambda n: f"{n}", "“DE” taken off after"),
    "a check digit": (lambda n: f"{n}", lambda n: f"{n}{_check(n)}", "a sign put after"),
    "other groups": (
        lambda n: f"{n}",
        lambda n: f"{str(n)[:2]}-{str(n)[2:5]}-{str(n)[5:]}",
        "is grouped in another way",
    ),
    "leading zeros": (lambda n: f"{n:08}", lambda n: f"{n}", ""),
}


@pytest.mark.parametrize("way", WAYS)
def test_numbers_in_addresses_teach_how_they_changed(way: str, museum: Program) -> None:
    """Half of the old pages have a title; the others are known by their number alone."""
    old, new, said = WAYS[way]
    rng = random.Random(7)
    words = ("amber", "birch", "cedar", "delta", "ember", "fjord", "grove", "heron", "iris", "jade")
    numbers = rng.sample(range(100_000, 999_999), 48)
    titles = [f"{a} {b} clock" for a, b in itertools.islice(itertools.permutations(words, 2), 48)]
    truth = {f"{OLD}/item/{old(n)}.html": f"{NEW}/p/{new(n)}" for n in numbers}
    rows = zip(truth.items(), titles, strict=True)
    before, after = ["url,title"], ["url,title"]
    for at, ((source, goal), title) in enumerate(rows):
        before.append(f"{source},{title if at % 2 else ''}")
        after.append(f"{goal},{title}")
    museum.write("old.csv", "\n".join(before) + "\n")
    museum.write("new.csv", "\n".join(after) + "\n")
    museum("gather", "old.csv")
    museum("stock", "new.csv")
    told = " ".join(museum("match", "--max-error", "1%").out.split())
    assert said in told
    entries = museum.json("entries", "--limit", 0)["entries"]
    assert {e["legacy_url"]: e["destination"] for e in entries} == truth


@pytest.mark.parametrize(
    ("name", "code"),
    [("12-345-6", "123456"), ("sw-11905-tulip", "sw11905"), ("tulip-red-11905", "11905"),
        ("tulip-10", ""), ("part-of-the-story", ""), ("a4-printing-2019", "2019")],
)  # fmt: skip
def test_what_may_be_an_item_number_in_a_name(name: str, code: str) -> None:
    assert code_in(read_page(MatchPage(name, f"/x/{name}"))) == code
