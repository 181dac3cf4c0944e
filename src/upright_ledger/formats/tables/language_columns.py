"""Sheets of sites in several languages: a row a page, and in it a column of addresses for each
language.
"""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence

from upright_ledger.formats.tables.cells import host_of, looks_like_address
from upright_ledger.formats.tables.column_names import NAMES, URL, bare
from upright_ledger.formats.tables.columns_by_content import cells_at, share

_CODE = re.compile(
    r"(?:ar|bg|ca|cs|cy|da|de|el|en|es|et|eu|fa|fi|fr|ga|gl|he|hi|hr|hu|id|is|it|ja|ko|lb|lt|lv|mk|"
    r"mt|nb|nl|nn|no|pl|pt|ro|ru|sk|sl|sq|sr|sv|th|tr|uk|vi|zh)(?:[-_][a-z]{2,4})?\Z"
)
_NAMED = {
    "english": "en", "englisch": "en", "anglais": "en", "german": "de", "deutsch": "de",
    "allemand": "de", "french": "fr", "français": "fr", "französisch": "fr", "spanish": "es",
    "español": "es", "spanisch": "es", "italian": "it", "italiano": "it", "italienisch": "it",
    "dutch": "nl", "nederlands": "nl", "portuguese": "pt", "português": "pt", "polish": "pl",
    "polski": "pl", "swedish": "sv", "svenska": "sv", "danish": "da", "dansk": "da",
    "norwegian": "no", "norsk": "no", "finnish": "fi", "suomi": "fi", "czech": "cs",
    "čeština": "cs", "hungarian": "hu", "magyar": "hu", "turkish": "tr", "türkçe": "tr",
    "russian": "ru", "русский": "ru", "greek": "el", "ελληνικά": "el", "japanese": "ja",
    "日本語": "ja", "chinese": "zh", "中文": "zh", "welsh": "cy", "cymraeg": "cy",
}  # fmt: skip
_DEFAULT = "x-default"
_MOST = 0.6  # of the cells that must be addresses


def language_columns(
    header: Sequence[str], at: int, rows: Sequence[Sequence[str]], hosts: frozenset[str]
) -> Mapping[int, str]:
    """Column → language, where several columns hold the addresses of a page in several languages,
    that of the addresses (`at`) among them; nothing otherwise. hosts: of the old sites.
    """
    found = {n: language for n, text in enumerate(header) if (language := _language_of(text))}
    if at not in found:
        return {}
    return several if len(several := _with_addresses(found, rows, hosts)) > 1 else {}


def _with_addresses(
    found: Mapping[int, str], rows: Sequence[Sequence[str]], hosts: frozenset[str]
) -> dict[int, str]:
    return {
        n: language
        for n, language in found.items()
        if share(cells := cells_at(rows, n), looks_like_address) >= _MOST
        and (not hosts or share(cells, lambda c: host_of(c) not in hosts | {""}) < 1 - _MOST)
    }


def _language_of(header: str) -> str:
    """The language that a heading names, perhaps beside a word for addresses: "de", "URL (de-AT)",
    "English page".
    """
    words = [w for w in re.split(r"[\s()\[\]:/]+|_(?=[^_]{3})|(?<=[^_]{3})_", header) if w]
    named = [w for w in words if bare(w) not in NAMES[URL]]
    if len(named) != 1:
        return ""
    word = named[0].lower()
    if word == _DEFAULT:
        return word
    return word if _CODE.match(word) else _NAMED.get(word, "")
