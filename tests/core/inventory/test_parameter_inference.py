"""Which parameters choose the page, and why."""

from __future__ import annotations

import pytest

from upright_ledger.core.inventory import parameter_inference
from upright_ledger.core.inventory.normalisation import FoldingPolicy
from upright_ledger.core.inventory.parameter_inference import (
    ENOUGH,
    Doubt,
    Reason,
    SeenQuery,
    Suggestion,
    named_like_sessions,
    suggest,
)

FOLD = FoldingPolicy()


def seen(path: str, query: str, title: str = "", status: int = 0) -> SeenQuery:
    return SeenQuery(path, dict(p.partition("=")[::2] for p in query.split("&")), title, status)


def test_a_view_is_left_out_and_an_item_stays() -> None:
    rows = [seen("/p", f"item={n}&sort={s}") for n in range(4) for s in ("up", "down")]
    assert suggest(rows, FOLD) == [
        Suggestion(
            "/p",
            ("item",),
            (
                Reason("item", True, "its name chooses a page; 4 values in 8 addresses"),
                Reason(
                    "sort", False, "its name asks for a view or an order; 2 values in 8 addresses"
                ),
            ),
            8,
            8,
            4,
        )
    ]


def test_too_few_addresses_say_nothing_and_folders_are_taken_together() -> None:
    rows = [seen("/a/p", f"item={n}&sort=up") for n in range(ENOUGH - 1)]
    assert suggest(rows, FOLD) == []
    more = [*rows, seen("/a/q", "item=1&sort=down"), seen("/a/q", "item=1&sort=up")]
    (found,) = suggest(more, FOLD)
    assert (found.path, found.significant, found.spellings) == ("/a/*", ("item",), 9)
    assert (found.pages_before, found.pages_after) == (9, 8)
    assert suggest([*rows, seen("/b/q", "item=1&sort=down")], FOLD) == []


def test_what_is_settled_or_leaves_nothing_out_is_not_suggested() -> None:
    rows = [seen("/p", f"item={n}&sort={s}") for n in range(4) for s in ("up", "down")]
    assert suggest(rows, FoldingPolicy(significant={"/p": ("item",)})) == []
    assert suggest([seen("/p", f"item={n}") for n in range(20)], FOLD) == []
    assert suggest([seen("/p", f"item={n}&sort=up") for n in range(20)], FOLD) == []


def test_the_most_folded_come_first() -> None:
    small = [seen("/b", f"item={n}&sort={s}") for n in range(4) for s in "ud"]
    large = [seen("/c", f"item={n}&sort={s}") for n in range(9) for s in "ud"]
    same = [seen("/a", f"item={n}&sort={s}") for n in range(4) for s in "ud"]
    assert [s.path for s in suggest([*small, *large, *same], FOLD)] == ["/c", "/a", "/b"]


@pytest.mark.parametrize(
    ("rows", "parameter", "reason"),
    [
        # another title with another value
        (
            [seen("/p", f"x={n}&y=1", f"Page {n}") for n in range(9)],
            "x",
            Reason("x", True, "another value shows another page in 8 of 8 comparisons"),
        ),
        # the same title whatever the value
        (
            [seen("/p", f"x={n}&y=1", "Page") for n in range(9)],
            "x",
            Reason("x", False, "the page stays the same in 8 of 8 comparisons"),
        ),
        # as often the same as another: not the page's choice
        (
            [seen("/p", f"x={n}&y=1", f"Page {(n + 1) // 2}") for n in range(9)],
            "x",
            Reason("x", False, "the page stays the same in 4 of 8 comparisons"),
        ),
        # found with one value, missing with another
        (
            [seen("/p", f"x={n}&y=1", "", 200 if n % 2 else 404) for n in range(9)],
            "x",
            Reason("x", True, "another value shows another page in 8 of 8 comparisons"),
        ),
        # found all alike says nothing
        (
            [seen("/p", f"x={n}&y=1", "", 200) for n in range(9)],
            "x",
            Reason("x", True, "always there, 9 values in 9 addresses"),
        ),
        # one comparison that is clear settles it; two that differ do not
        (
            [seen("/p", "x=1&y=1", "A"), seen("/p", "x=2&y=1", "B")]
            + [seen("/p", f"x={n}&z=1") for n in range(9)],
            "x",
            Reason("x", True, "another value shows another page in 1 of 1 comparisons"),
        ),
        (
            [seen("/p", "x=1&y=1", "A"), seen("/p", "x=2&y=1", "B"), seen("/p", "x=3&y=1", "B")]
            + [seen("/p", f"x={n}&z=1") for n in range(9)],
            "x",
            Reason("x", True, "always there, 9 values in 12 addresses"),
        ),
        # pages that differ in another parameter as well are not compared
        (
            [seen("/p", f"x={n}&y={n}", f"Page {n}") for n in range(9)],
            "x",
            Reason("x", True, "always there, 9 values in 9 addresses"),
        ),
        (
            [seen("/p", f"x=1&y={n}") for n in range(9)],
            "x",
            Reason("x", False, "it never changes: 1 value in 9 addresses"),
        ),
        (
            [seen("/p", f"y={n}&x={n % 3}") for n in range(9)],
            "x",
            Reason("x", False, "few values come back again and again: 3 values in 9 addresses"),
        ),
        (
            [seen("/p", f"y={n}&x={n % 3}") for n in range(8)],
            "x",
            Reason("x", True, "always there, 3 values in 8 addresses"),
        ),
        (
            [seen("/p", f"y={n}&x={n % 13}") for n in range(60)],
            "x",
            Reason("x", True, "always there, 13 values in 60 addresses"),
        ),
        (
            [seen("/p", f"x={n}") for n in range(9)] + [seen("/p", f"y={n}") for n in range(9)],
            "x",
            Reason("x", True, "9 values in 9 addresses"),
        ),
        (
            [seen("/p", f"ITEM={n % 2}&y={n}") for n in range(9)],
            "ITEM",
            Reason("ITEM", True, "its name chooses a page; 2 values in 9 addresses"),
        ),
    ],
)
def test_why_a_parameter_chooses_or_does_not(
    rows: list[SeenQuery], parameter: str, reason: Reason
) -> None:
    assert parameter_inference._judge(parameter, rows) == reason


def test_a_page_is_not_that_of_its_folder() -> None:
    """A parameter that never changes, as the shop has one page of a kind there, beside the page
    that is shown without it.
    """
    asked = [seen("/", f"route=contact&y={n}", "Contact") for n in range(9)]
    (kept,) = suggest([*asked, SeenQuery("/", {}, "Our shop")], FOLD)
    assert kept.significant == ("route",)
    assert kept.reasons[0].why == "the path alone shows another page in 9 of 9 comparisons"
    for title in ("Contact", ""):
        (dropped,) = suggest([*asked, SeenQuery("/", {}, title)], FOLD)
        assert dropped.significant == ()
    # What another parameter shows is not this one's doing.
    others = [
        seen("/", f"id={n}&route=contact&y={y}", f"Page {n}") for n in range(5) for y in (1, 2)
    ]
    (told,) = suggest([*others, SeenQuery("/", {}, "Our shop")], FOLD)
    assert told.significant == ("id",)
    printed = [seen("/", f"print=1&y={n}", "For print") for n in range(9)]
    (view,) = suggest([*printed, SeenQuery("/", {}, "Our shop")], FOLD)
    assert view.significant == ()


def test_one_path_of_a_folder_where_the_page_changes_is_enough() -> None:
    rows = [
        *(seen("/a/p", f"sid={n}&y=1", "Same") for n in range(6)),
        *(seen("/a/q", f"sid={n}&y=1", f"Page {n}") for n in range(4)),
    ]
    (found,) = list(
        suggest([*rows, *(seen("/a/r", f"sid=1&y=1&sort={n}") for n in range(3))], FOLD)
    )
    assert found.path == "/a/*"
    assert "sid" in found.significant
    (sid,) = (r for r in found.reasons if r.parameter == "sid")
    assert sid.why == "another value shows another page in 3 of 3 comparisons at /a/q"


def test_parameters_named_like_sessions_that_are_kept_are_told() -> None:
    rows = [seen("/p", f"SID={n}") for n in range(3)] + [seen("/o", "session_id=1&a=2")]
    assert named_like_sessions(rows, FOLD) == [
        Doubt("/o", Reason("session_id", False, "it never changes: 1 value in 1 addresses")),
        Doubt("/p", Reason("SID", True, "always there, 3 values in 3 addresses")),
    ]
    settled = FoldingPolicy(significant={"/p": ("SID",)})
    assert [d.path for d in named_like_sessions(rows, settled)] == ["/o"]


@pytest.mark.parametrize("titled", [True, False])
def test_where_bare_words_are_pages_none_of_them_is_left_out(titled: bool) -> None:
    """As article12 in ?article12: each is named once or twice, and the next one by nobody yet."""

    def title(n: int) -> str:
        return f"Article {n}" if titled else ""

    rows = [seen("/site.php", f"article{n}", title(n)) for n in range(40)]
    printed = [seen("/site.php", f"id_article={n}&page=print", title(n)) for n in range(20)]
    assert suggest([*rows, *printed], FOLD) == []
    twice = [seen("/site.php", f"article{n}&sort=up", title(n)) for n in range(9)]
    assert suggest([*rows, *twice], FOLD) == []


@pytest.mark.parametrize("titled", [True, False])
def test_bare_words_that_ask_for_a_view_are_left_out(titled: bool) -> None:
    rows = [
        seen("/p", f"item={n}{word}", f"Item {n}" if titled else "")
        for n in range(9)
        for word in ("", "&print", "&amp", "&large")
    ]
    (found,) = suggest(rows, FOLD)
    assert (found.significant, found.pages_after) == (("item",), 9)
