"""Titles of pages that are none, and of such as only speak of that."""

from __future__ import annotations

import pytest

from conftest import NEW, Program
from upright_ledger.core.tracing.missing_titles import may_say_so, says_it_is_none, says_not_found

MISSING = (
    "404", "Museum - 404", "Fehler 404 – Seite nicht gefunden", "HTTP 404 error page", "Not found",
    "Oops! That page can't be found.", "The page you are looking for could not be found",
    "La page demandée n'a pas été trouvée", "ページが見つかりません", "找不到页面", "Sivua ei löydy",
    "Страница не найдена", "Strona nie została znaleziona", "Siden ble ikke funnet",
)  # fmt: skip
THERE = (
    "", "Peugeot 404 | Oldtimer", "Zimmer 404 – Hotel", "Device not found: how to fix it",
    "Lost and not found: a novel", "ModuleNotFoundError", "Not a page is missing here",
)  # fmt: skip


@pytest.mark.parametrize("title", MISSING)
def test_a_title_that_says_there_is_no_page(title: str) -> None:
    assert says_it_is_none(title)
    assert says_not_found(f"{title} | Quillhaven")


@pytest.mark.parametrize("title", THERE)
def test_a_title_of_a_page_that_is_there(title: str) -> None:
    assert not says_it_is_none(title)


def test_the_quick_look_at_many_titles_passes_none_over() -> None:
    titles = [told for t in MISSING for told in (t, t.upper(), t.lower(), f"{t} | Quillhaven")]
    doubts = may_say_so([*titles, *THERE, "Bell tower"])
    assert all(doubt for doubt, t in zip(doubts, titles, strict=False) if says_not_found(t))
    assert not doubts[-1]
    assert all(may_say_so(["\ud800", "Bell tower"])), "what no column holds is looked at by itself"


def test_pages_that_are_none_are_left_out_of_long_lists(museum: Program) -> None:
    rows = [f"{NEW}/bell-{n}/,Bell {n}" for n in range(600)]
    museum.write("new.csv", "\n".join(["url,title", *rows, f"{NEW}/gone/,404 - Not found"]) + "\n")
    told = museum.json("stock", "new.csv")["sources"][0]
    assert told["missing"] == [f"{NEW}/gone/"]
    assert told["accepted"] == 600
