"""Parameters of a query, and which values a rule may carry on."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

import slow_addresses
import ugly
from properties import thorough
from upright_ledger.core.url.query import QueryPolicy, tracked_pattern
from upright_ledger.core.url.query import given as given_in


@pytest.mark.parametrize(
    ("query", "names", "values"),
    [
        ("a=1&b=2", {"a"}, {"a": "1"}), ("a=1&b=2", {"a", "b", "c"}, {"a": "1", "b": "2"}),
        ("a=1=2&b", {"a", "b"}, {"a": "1=2", "b": ""}), ("a=1&a=1", {"a"}, None),
        ("a&a=", {"a"}, None), ("a=1&b=2&b=3", {"a"}, {"a": "1"}), ("A=1", {"a"}, {}),
        ("", {""}, {}), ("", {"a"}, {}), ("a=1", set(), {}), ("=1", {""}, {"": "1"}),
    ],
)  # fmt: skip
def test_parameters_are_told_by_name_and_twice_is_never_one(
    query: str, names: set[str], values: dict[str, str] | None
) -> None:
    assert given_in(query, frozenset(names)) == values


@thorough
@given(ugly.queries, st.frozensets(ugly.names, max_size=4))
def test_what_is_given_is_what_stands_there(query: str, names: frozenset[str]) -> None:
    pairs = [p for p in slow_addresses.parameters(query) if p[0] in names] if query else []
    twice = len({name for name, _ in pairs}) < len(pairs)
    assert given_in(query, names) == (None if twice else dict(pairs))


@thorough
@given(ugly.queries, st.sampled_from(["utm_source", "gclid", "a", "item[]", "a.b", "$f"]))
def test_the_first_well_formed_value_is_carried(query: str, name: str) -> None:
    well = [
        value
        for part in query.split("&")
        if part.startswith(f"{name}=")
        and slow_addresses.well_formed(value := part[len(name) + 1 :])
    ]
    found = tracked_pattern(name).search(query)
    assert (found[1] if found else None) == (well[0] if well else None)


def test_the_words_of_policies_are_those_of_sheets() -> None:
    assert [str(p) for p in QueryPolicy] == ["carry-tracking", "drop", "carry"]
