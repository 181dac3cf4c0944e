"""The core in tables: addresses, guards, destinations, sites, rules and value."""

from __future__ import annotations

import pytest

from upright_ledger.core.inventory.answer import Decision, expected_outcome
from upright_ledger.core.inventory.declared_paths import declared_paths
from upright_ledger.core.inventory.evidence import Weights, per_30_days, value
from upright_ledger.core.inventory.normalisation import FoldingPolicy, fold
from upright_ledger.core.url.address import parse_address

OLD, NEW = "http://www.quillhaven.example", "https://www.quillhaven.example"


def test_every_declared_path_of_an_entry() -> None:
    policy = FoldingPolicy()
    assert declared_paths("/a", frozenset({"/A/Index.html"}), policy) == (
        "/a",
        "/a/",
        "/a/index.html",
    )
    assert declared_paths("/a.pdf", frozenset(), policy) == ("/a.pdf",)
    assert declared_paths("/", frozenset({"/index.php"}), policy) == ("/", "/index.php")
    assert declared_paths("/A", frozenset({"/A/"}), FoldingPolicy(case="exact")) == ("/A", "/A/")


def test_a_policy_survives_being_stored() -> None:
    policy = FoldingPolicy(case="exact", significant={"/p.php": ("item", "view")})
    again = FoldingPolicy.from_dict(policy.as_dict())
    assert again.as_dict() == policy.as_dict()
    assert (
        fold(parse_address(f"{OLD}/p.php?view=1&item=2&other=3"), again).key
        == "/p.php?item=2&view=1"
    )


@pytest.mark.parametrize(
    ("answer", "statuses", "final"),
    [
        (Decision("move", 301, f"{NEW}/x/"), {301, 308}, f"{NEW}/x/"),
        (Decision("temporary", 302, f"{NEW}/x/"), {302, 307}, f"{NEW}/x/"),
        (Decision("gone", 410), {410}, ""),
        (Decision("keep"), {200}, f"{OLD}/own"),
        (Decision("ignore"), set(), ""),
        (Decision("open"), set(), ""),
        (Decision("wanted"), set(), ""),
    ],
)
def test_the_expected_outcome_of_each_answer(
    answer: Decision, statuses: set[int], final: str
) -> None:
    expected = expected_outcome(answer, f"{OLD}/own")
    assert set(expected.statuses) == statuses
    assert expected.final == final
    assert answer.has_rule is (answer.kind in {"move", "temporary", "gone"})


@pytest.mark.parametrize(
    ("figures", "worth"),
    [
        ({}, 0),
        ({"hits": 10}, 10),
        ({"hits": 10, "visits": 30, "clicks": 20}, 30),
        ({"linking domains": 2, "linking pages": 50}, 10),
        ({"linking pages": 50}, 50),
        ({"impressions": 1000}, 10),
        ({"listed": 99}, 0),
        ({"visits": 5, "linking domains": 1, "impressions": 100}, 11),
    ],
)
def test_the_value_formula(figures: dict[str, float], worth: float) -> None:
    assert value(figures, Weights()) == worth


def test_amounts_are_compared_per_30_days() -> None:
    assert per_30_days(90, 90) == 30
    assert per_30_days(10, 15) == 20
    assert per_30_days(10, 0) == 10
