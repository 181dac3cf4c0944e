"""Spellings of one address: however an address is written, it is read and folded the same way."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from upright_ledger.core.inventory.noise import is_declared_bot, set_aside_class
from upright_ledger.core.inventory.normalisation import FoldingPolicy, fold
from upright_ledger.core.url.address import parse_address
from upright_ledger.core.url.redaction import Secrets
from upright_ledger.formats.tables.cells import number


@given(st.text(st.sampled_from("/aB.%2eE~;=&?-"), max_size=25))
def test_folding_does_not_depend_on_how_often_it_is_done(text: str) -> None:
    policy = FoldingPolicy()
    try:
        address = parse_address("http://h.example/" + text)
    except ValueError:
        return
    first = fold(address, policy)
    if "%25" not in first.key and "?" not in first.path:
        assert fold(parse_address("http://h.example" + first.key), policy).key == first.key


@pytest.mark.parametrize(
    ("cell", "value"),
    [
        ("1,234", 1234),
        ("1.234", 1234),
        ("1 234", 1234),
        ("1.234.567", 1234567),
        ("12.5", 12.5),
        ("12,5", 12.5),
        ("7", 7),
        ("", None),
        ("n/a", None),
        ("5 %", None),
        ("1 234,5", 1234.5),
        ("1.234,5", 1234.5),
        ("1,234.5", 1234.5),
        ("12,34,567", 1234567),
        ("1’234", 1234),
    ],
)
def test_figures_of_several_countries(cell: str, value: float | None) -> None:
    assert number(cell) == value


def test_traffic_classes() -> None:
    assert (
        set_aside_class("/wp-login.php")
        == set_aside_class("/a/../../etc/passwd")
        == set_aside_class("/site/.env")
        == "probe"
    )
    assert set_aside_class("/style.CSS?v=3") == "furniture"
    assert set_aside_class("/journal/old-style.html") == set_aside_class("/images/plan.png") == ""
    assert is_declared_bot("SlateBot/2.1 (+https://slate.example)")
    assert is_declared_bot("-")
    assert not is_declared_bot("Mozilla/5.0 (X11; Linux x86_64) ExampleBrowser/118.0")


def test_masking_leaves_other_parameters_alone() -> None:
    assert (
        Secrets().in_query("item=12&token=s3cret&q=a%40b.example")
        == "item=12&token=masked&q=masked"
    )
