"""Families: entries that differ in one part only."""

from __future__ import annotations

import pytest

from upright_ledger.core.inventory.sections import Sections
from upright_ledger.core.inventory.url_patterns import templates


@pytest.mark.parametrize(
    ("keys", "template"),
    [
        (["/j/2019/a", "/j/2020/a", "/j/2021/a"], "/j/{year}/a"),
        (["/j/1899/a", "/j/1898/a", "/j/1897/a"], "/j/{number}/a"),
        (["/j/2019/1", "/j/2020/02", "/j/2021/12"], "/j/{year}/{month}"),
        (["/j/2019/1/1", "/j/2020/02/31", "/j/2021/12/09"], "/j/{year}/{month}/{day}"),
        (["/p1.html", "/p22.html", "/p333.html"], "/p{number}.html"),
        (["/qh17a", "/qh18b", "/qh19c"], "/qh{number}{letter}"),
        (["/qh17a", "/qh18a", "/qh19a"], "/qh{number}a"),
        ([f"/makers/{n}" for n in ("ada", "bo", "cy", "di", "eve", "flo")], "/makers/{slug}"),
        ([f"/{n}.html" for n in ("ada", "bo", "cy", "di", "eve", "flo")], "/{slug}.html"),
        ([f"/x/{n}/y" for n in ("ada", "bo", "cy", "di", "eve", "flo")], "/x/{slug}/y"),
        (["/p?id=1", "/p?id=2", "/p?id=3"], "/p?id={id}"),
        (["/2019?id=1&b=2", "/2020?id=2&b=3", "/2021?id=2&b=3"], "/{year}?id={id}&b={b}"),
    ],
)
def test_entries_alike_are_a_family(keys: list[str], template: str) -> None:
    found = templates(keys)
    assert found == dict.fromkeys(keys, template)


@pytest.mark.parametrize(
    "keys",
    [
        ["/j/2019/a", "/j/2020/a"], ["/a", "/b", "/c"], ["/p1", "/p2"],
        ["/j/2019/a", "/j/2020/b/c", "/j/2021"], ["/a/x", "/b/y", "/c/z", "/d/x", "/e/y"],
        ["/v1.2.3", "/v1.2.4", "/v1.3.0"], [],
    ],
)  # fmt: skip
def test_few_or_unlike_entries_are_none(keys: list[str]) -> None:
    assert templates(keys) == {}


def test_a_part_that_holds_much_is_no_changing_part() -> None:
    small = [f"/{n}/x" for n in ("ada", "bo", "cy", "di", "eve", "flo")]
    big = [f"/shop/{n}" for n in ("a", "b", "c", "d", "e", "f")]
    found = templates(small + big)
    assert {found[k] for k in small} == {"/{slug}/x"}
    assert {found[k] for k in big} == {"/shop/{slug}"}


def test_endings_keep_families_apart() -> None:
    pages = [f"/{n}.html" for n in ("ada", "bo", "cy", "di", "eve", "flo")]
    found = templates([*pages, "/plan.pdf", "/x"])
    assert found == dict.fromkeys(pages, "/{slug}.html")


def test_an_ordinary_number_among_months_stays_one() -> None:
    keys = ["/j/2019/13", "/j/2019/14", "/j/2019/15", "/j/2019/1", "/j/2019/2", "/j/2020/3"]
    found = templates(keys)
    assert found["/j/2019/13"] == "/j/{year}/{number}"
    assert found["/j/2020/3"] == "/j/{year}/{month}"
    days = templates(["/2019/1/32", "/2019/1/33", "/2019/1/34", "/2019/1/3", "/2019/2/4",
        "/2019/3/5"])  # fmt: skip
    assert days["/2019/1/32"] == "/{year}/{month}/{number}"
    assert days["/2019/2/4"] == "/{year}/{month}/{day}"


@pytest.mark.parametrize(
    ("site", "key", "section"),
    [
        ("a.example", "/news", "news"), ("a.example", "/news/x/y", "news"),
        ("a.example", "/newsletter", ""), ("a.example", "/makers/ada/works", "works"),
        ("a.example", "/makers/ada/b/works", ""), ("a.example", "/shop/1", "a shop"),
        ("b.example", "/shop/1", ""), ("a.example", "/a.b", "dotted"), ("a.example", "/axb", ""),
        ("a.example", "/news.html?a=1", ""),
    ],
)  # fmt: skip
def test_a_section_is_the_first_whose_pattern_fits(site: str, key: str, section: str) -> None:
    sections = Sections(
        [
            ("news", ["/News", "/news/*"]),
            ("works", ["/makers/{name}/works"]),
            ("a shop", ["a.example/shop/*"]),
            ("dotted", ["/a.b"]),
            ("late", ["/news/x/*"]),
        ]
    )
    assert sections.of(site, key) == section
    assert sections
    assert not Sections([])
