"""Titles of pages that are none, and of such as only speak of that."""

from __future__ import annotations

import pytest

from upright_ledger.core.tracing.missing_titles import says_it_is_none, says_not_found

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
