"""Relaunches: pages known by numbers before and by names after, whose titles say the same in
another order.
"""

from __future__ import annotations

from itertools import product

from upright_ledger.core.matching import MatchPage, propose

PEOPLE = [
    (first, last)
    for n, (first, last) in enumerate(
        product(
            ["Ada", "Bela", "Greta", "Hugo", "Ines", "Jonas"],
            ["Abara", "Castell", "Dunmore", "Holloway", "Kowal", "Moreau"],
        )
    )
    if n % 3
]


def test_names_in_another_order_are_the_same_names() -> None:
    old = [
        MatchPage(f"{a} {b}", "/staff/profile.aspx", f"{b}, {a} | Marlowe College", (f"{310 + n}",))
        for n, (a, b) in enumerate(PEOPLE)
    ]
    new = [
        MatchPage(f"{a} {b}", f"/people/{a}-{b}".lower(), f"{a} {b} - Marlowe University")
        for a, b in PEOPLE
    ]
    found = propose(old, new).found
    assert [found[p.name][0].name for p in old] == [p.name for p in old]
    assert min(found[p.name][0].confidence for p in old) > 0.98
    assert "has the same words in its title or heading" in found[old[0].name][0].reasons


SHEARS = [
    (maker, kind, model)
    for maker, kind, model in product(
        ["Brandtner", "Korbach", "Wiesinger"],
        ["rose shears", "hedge shears", "lopper"],
        ["Classic", "Comfort", "Junior 350"],
    )
]


def _goods() -> list[MatchPage]:
    return [
        MatchPage(
            f"{maker} {kind} {model}",
            f"/tools/{kind}/{kind}-{model}-{maker}/".lower().replace(" ", "-"),
            f"{kind} {model} by {maker} – Gartenhof",
        )
        for maker, kind, model in SHEARS
    ]


def test_variants_of_one_page_go_there_together() -> None:
    old, goals = [], {}
    for n, thing in enumerate(SHEARS):
        for m, variant in enumerate(["red", "green", "black"] if n % 4 == 0 else [""]):
            name = f"{' '.join(thing)} {variant}".strip()
            number = (str(410 + 3 * n + m),)
            old.append(MatchPage(name, "/index.php", f"{name} | Gartenhof Shop", number))
            goals[name] = " ".join(thing)
    found = propose(old, _goods()).found
    assert {name: found[name][0].name for name in goals} == goals
    assert min(found[name][0].confidence for name in goals) > 0.6


def test_a_number_in_the_address_is_none_in_the_name() -> None:
    old = [
        MatchPage(" ".join(thing), "/index.php", f"{' '.join(thing)} | Gartenhof", (str(410 + n),))
        for n, thing in enumerate(SHEARS)
    ]
    for choices in propose(old, _goods()).found.values():
        assert "carries another number" not in choices[0].reasons


def test_news_of_another_year_is_other_news() -> None:
    subjects = ["choir tour", "rowing club", "open day", "chess league", "summer school", "bees"]
    old = [
        MatchPage(
            f"{s} {y}", f"/news/{y}/0{m}/college-{v}-{s}.aspx".replace(" ", "-"), f"College {v} {s}"
        )
        for m, s in enumerate(subjects, 1)
        for y, v in ((2011, "hosts"), (2014, "launches"))
    ]
    new = [
        MatchPage(
            f"{s} 2014",
            f"/news/college-launches-{s}-2014".replace(" ", "-"),
            f"College launches {s}",
        )
        for s in subjects
    ]
    found = propose(old, new).found
    for subject in subjects:
        assert found[f"{subject} 2014"][0].name == f"{subject} 2014"
        assert found[f"{subject} 2014"][0].confidence > 0.9
        assert all(p.confidence < 0.5 for p in found.get(f"{subject} 2011", []))


def test_words_that_all_pages_have_and_numbers_of_one_database_say_nothing() -> None:
    houses = [
        (f"{a} {b}", place)
        for place in ("Norvik", "Sandholm", "Estrada", "Larkfield")
        for a, b in product(["Bella", "Grand", "Villa"], ["Vista", "Mar", "Palace"])
    ]
    old = [
        MatchPage(
            name, "/hotel.php", f"{name}, {place} - Sunways Brandt", (f"{place[:2]}{n + 104}",)
        )
        for n, (house, place) in enumerate(houses)
        if (name := f"{house} {place}")
    ]
    new = [
        MatchPage(
            f"{house} {place}",
            f"/stay/{place}/{house}/".lower().replace(" ", "-"),
            f"Hotel {house} in {place} (4 stars) | Brandt Holidays",
        )
        for house, place in houses
    ] + [
        MatchPage(place, f"/places/{place}/".lower(), f"{place} | Brandt Holidays")
        for place in ("Norvik", "Sandholm", "Estrada", "Larkfield")
    ]
    found = propose(old, new).found
    assert [found[p.name][0].name for p in old] == [p.name for p in old]
    assert min(found[p.name][0].confidence for p in old) > 0.9
