"""Titles of pages that are none: what servers show, in many languages, where nothing is there."""

from __future__ import annotations

import re
from collections.abc import Sequence

_NOT_FOUND_TITLE = re.compile(
    r"(?:could|can) ?not be found|not[ -]found|pas été trouv\w*|"
    r"page (?:can(?:no|')t be found|does(?: not|n't) exist|missing)|"
    r"nicht (?:gefunden|vorhanden)|non trouv|introuvable|no encontrad|no se encontr|non trovat|"
    r"niet gevonden|nie (?:została )?(?:z|od)nalezion|hitta[rd]?e?s? inte|ikke fu(?:nd|nn)et|"
    r"ei löyt|ei löyd\w*|não encontrad|nenalezen|nem található|не найден\w*|bulunamad|見つかりません|"
    r"找不到|无法找到|未找到|찾을 수 없",
    re.IGNORECASE,
)


_PART = re.compile(r"\s+[-–—|·:»>]+\s*|[|·»:!?.]")
# What may stand beside it.
_AROUND = frozenset([
    "404", "http", "error", "errors", "code", "status", "oops", "sorry", "ups", "the",
    "this", "that", "requested", "web", "site", "website", "page", "url", "resource",
    "document", "file", "content", "we", "could", "can", "cannot", "was", "is", "were",
    "be", "been", "to", "has", "have", "you", "are", "looking", "for", "die", "der", "das",
    "diese", "dieser", "angeforderte", "seite", "seiten", "fehler", "fehlerseite", "leider",
    "wurde", "konnte", "kann", "werden", "inhalt", "datei", "dokument", "ist", "cette",
    "la", "le", "demandée", "est", "a", "été", "n'a", "pas", "erreur", "pu", "être",
    "página", "pagina", "solicitada", "esta", "se", "ha", "sido", "no", "lo", "sentimos",
    "questa", "richiesta", "è", "stata", "errore", "siamo", "spiacenti", "deze", "de",
    "fout", "werd", "sidan", "siden", "sivu", "sivua", "strona", "strony", "stránka", "fel",
    "feil", "fejl", "virhe", "chyba", "błąd", "hiba", "sayfa", "hata", "страница", "ошибка",
    "запрашиваемая", "не", "ble", "blev", "blitt", "ページが", "ページは", "页面", "网页", "頁面", "網頁",
    "您访问的页面", "페이지를",
])  # fmt: skip


def says_not_found(title: str) -> bool:
    """Whether a page's title says that nothing was found, or speaks of that."""
    return _NOT_FOUND_TITLE.search(title) is not None or says_it_is_none(title)


def may_say_so(titles: Sequence[str]) -> Sequence[bool]:
    """Which of many titles may say that no page is there: a quick look that says so too often."""
    import pyarrow as pa
    import pyarrow.compute as pc

    try:
        told = pa.array(titles, pa.string())
    except UnicodeEncodeError:  # half a letter
        return [True] * len(titles)
    found = pc.match_substring_regex(told, f"(?i){_NOT_FOUND_TITLE.pattern}|404")
    return found.to_pylist()  # type: ignore[no-any-return]


def says_it_is_none(title: str) -> bool:
    """Whether a page's title, or a part of it, says no more than that no page is there: a car may
    be called 404, and a text may be about devices that are not found.
    """
    for part in _PART.split(title):
        left, found = _NOT_FOUND_TITLE.subn(" ", part)
        if found or "404" in part:
            words = re.findall(r"[^\W_]+(?:'[^\W_]+)?", left.lower())
            if all(word in _AROUND for word in words):
                return True
    return False
