"""Columns of exports: what a header means, and what a cell says."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence

from upright_ledger.core.inventory.units import IN_TABLES, LINKING_PAGES, UNITS
from upright_ledger.formats.tables.cells import host_of, looks_like_address, status_code
from upright_ledger.formats.tables.column_names import (
    AGENT,
    ANCHOR,
    HOST,
    ITEM,
    NAMES,
    QUERY,
    REFERRER,
    STATUS,
    TITLE,
    URL,
    bare,
    without_remarks,
)
from upright_ledger.formats.tables.columns_by_content import (
    cells_at,
    find_by_content,
    in_words,
    share,
)
from upright_ledger.formats.tables.header_words import side_of
from upright_ledger.formats.tables.meanings.address_cells import names_address
from upright_ledger.formats.tables.meanings.figures import number

# Words that, inside a longer header, still name a figure: "Total clicks (28 days)". Not so where
# they name a rate.
_INSIDE = {
    name: unit.within
    for name, unit in sorted(UNITS.items(), key=lambda item: item[1].told_first)
    if unit.within
}
_RATES = re.compile(
    r"\b(?:rate|ctr|avg|average|per|share|change|%|position|duration|time|unique domains of)\b|%",
    re.IGNORECASE,
)


_SOME = re.compile(
    r"\b(?:uni(?:que|ca?|co|qu)s?|[úu]nic[oa]s?|eindeutig\w*|unika|unieke?|unikalne?|bots?)\b",
    re.IGNORECASE,
)
"""A heading with it counts a part of what another one counts whole."""


def map_columns(
    header: Sequence[str],
    rows: Sequence[Sequence[str]],
    given: Mapping[str, str],
    hosts: frozenset[str],
) -> dict[str, int]:
    """Meaning → column number: the user's word first, then the headers' names, then what the cells
    hold.

    rows: some rows below the header. hosts: the hosts whose addresses are old URLs. The result has
    no URL where no column holds addresses. Raises KeyError with a header a user gave that is not
    there.
    """
    written = [*map(bare, header)]
    header = without_remarks(header)
    words = [*map(bare, header)]
    found: dict[str, int] = {}
    off = frozenset(meaning for meaning, text in given.items() if not text)
    for meaning, text in given.items():
        if not text:
            continue
        asked = (bare(text), bare(text.rpartition(".")[2]))
        at = next((told.index(n) for n in asked for told in (written, words) if n in told), None)
        if at is None:
            raise KeyError(text)
        found[meaning] = at
    if URL not in found:
        at = _sources_of_redirects(words, rows)
        at = _url_column(header, rows, hosts) if at is None else at
        if at is not None:
            found[URL] = at
    for meaning, names in NAMES.items():
        if meaning in found or meaning == URL or meaning in off:
            continue
        free = (
            at
            for name in names
            for at, word in enumerate(words)
            if word == name and at not in found.values()
        )
        at = next((at for at in free if _suits(meaning, cells_at(rows, at))), None)
        if at is not None:
            found[meaning] = at
    if URL not in found or share(cells_at(rows, found[URL]), lambda c: c[:1] == "/") < 0.5:
        for meaning in {HOST, QUERY} - given.keys():
            found.pop(meaning, None)
    if REFERRER not in found and REFERRER not in off:
        at = _linking_column(header, rows, found)
        if at is not None:
            found[REFERRER] = at
    is_links = _is_list_of_links(header, found)
    for meaning in (LINKING_PAGES, TITLE) if is_links else ():
        # In a list of links these may speak of the page that links: how many links it has, what it
        # is called.
        if (
            meaning in found
            and meaning not in given
            and not _speaks_of_target(header[found[meaning]], meaning)
        ):
            del found[meaning]
    for meaning, inside in _INSIDE.items():
        if (
            meaning not in found
            and meaning not in off
            and not (is_links and meaning == LINKING_PAGES)
        ):
            told = [
                at for at, h in enumerate(header) if at not in found.values() and _holds(h, inside)
            ]
            told.sort(key=lambda at: bool(_SOME.search(in_words(header[at]))))
            if told and _suits(meaning, cells_at(rows, told[0])):
                found[meaning] = told[0]
    find_by_content(found, rows, header, hosts, off, is_links=is_links)
    return found


def doubtful_columns(
    header: Sequence[str], columns: Mapping[str, int], given: Mapping[str, str]
) -> dict[str, str]:
    """Meaning → header, where a list of links does not say of which page it speaks: not taken,
    unless the user settled it (`given`).
    """
    if not _is_list_of_links(header, columns):
        return {}
    free = [h for at, h in enumerate(header) if at not in columns.values()]
    named = {
        m: next((h for h in free if bare(h) in NAMES[m]), "")
        for m in (LINKING_PAGES, TITLE)
        if m not in {*columns, *given}
    }
    return {m: h.strip() for m, h in named.items() if h and not _LINKING.search(in_words(h))}


_LINKING = re.compile(
    r"\b(?:source|referring|linking|from|quell\w*|verweis\w*|verlink\w*|referent\w*|origine)\b",
    re.IGNORECASE,
)
_TARGET = re.compile(
    r"\b(?:target|destination|to|backlinks?|inbound|incoming|linking pages|referring "
    r"pages|ziel\w*|cible|destino)\b",
    re.IGNORECASE,
)


def _is_list_of_links(header: Sequence[str], columns: Mapping[str, int]) -> bool:
    return REFERRER in columns or any(_names_linking_page(h) for h in header)


def _names_linking_page(header: str) -> bool:
    text = in_words(header)
    return bool(
        _LINKING.search(text)
        and re.search(r"\b(?:url|page|seite|adresse|link)\b", text, re.IGNORECASE)
    )


def _speaks_of_target(header: str, meaning: str) -> bool:
    text = in_words(header)
    return bool(_TARGET.search(text)) and not (meaning == TITLE and _LINKING.search(text))


def _holds(header: str, words: tuple[str, ...]) -> bool:
    text = in_words(header.lower())
    return any(re.search(rf"\b{word}\b", text) for word in words) and not _RATES.search(text)


_ITEM = re.compile(r"(?=.*\d)[\w./-]{1,40}\Z")  # one word with a digit in it


def _suits(meaning: str, cells: list[str]) -> bool:
    """Whether cells can mean what their header says; an empty column suits."""
    if not cells:
        return True
    if meaning in IN_TABLES:
        return share(cells, lambda c: number(c) is not None) >= 0.5
    if meaning == STATUS:
        return share(cells, status_code) >= 0.5
    if meaning == ITEM:
        return share(cells, _ITEM.match) >= 0.5
    if meaning == AGENT:
        return share(cells, lambda c: "/" in c and not looks_like_address(c)) >= 0.5
    if meaning == HOST:
        return share(cells, _is_host) >= 0.5
    if meaning == QUERY:
        return share(cells, lambda c: "=" in c and not looks_like_address(c)) >= 0.5
    return True


def _is_host(cell: str) -> bool:
    return "/" not in cell and host_of(cell) != ""


def _url_column(
    header: Sequence[str], rows: Sequence[Sequence[str]], hosts: frozenset[str]
) -> int | None:
    """The column of old URLs: it holds addresses, of the old hosts rather than others, under a
    fitting name.

    A column under a fitting name is taken even where its cells are no full addresses.
    """
    words = [bare(h) for h in header]
    directed = _ends_of_links(header, words, rows)
    best, most = None, 0.0
    width = max([len(words), *(len(r) for r in rows)], default=0)
    for at in range(width):
        cells = cells_at(rows, at)
        word = words[at] if at < len(words) else ""
        side = side_of(header[at]) if at < len(header) else ""
        rank = (
            1.5
            if side == "old" and word not in NAMES[REFERRER]
            else 1 - NAMES[URL].index(word) / 100
            if word in NAMES[URL]
            else 0.0
        )
        if side == "new" and word not in NAMES[URL]:
            rank = -0.5
        if word == "location" and _are_redirects(words, rows):
            rank = -0.5
        rank = directed.get(at, rank)
        if word in NAMES[HOST] and share(cells, _is_host) == 1:
            continue
        addresses = share(cells, looks_like_address)
        amid_words = 0.0 if addresses else share(cells, names_address)
        others = (
            share(cells, lambda c: host_of(c) not in hosts and host_of(c) != "") if hosts else 0.0
        )
        named = rank > 0 and (addresses > 0 or share(cells, lambda c: number(c) is None) > 0.5)
        if addresses + amid_words < 0.6 and not named:
            continue
        addresses += amid_words * _AMID_WORDS
        figure = 4 * addresses * (1 - others) + rank + 0.5 * addresses
        if figure > most:
            best, most = at, figure
    return best


_AMID_WORDS = 0.1
"""What addresses count for where each has words around it."""
_FROM = frozenset(["from", "von", "depuis", "desde", "da", "van", "fra", "fran", "od", "z"])


def _ends_of_links(
    header: Sequence[str], words: Sequence[str], rows: Sequence[Sequence[str]]
) -> dict[int, float]:
    """Ranks of the columns of links "from" pages: by texts of links, or beside other addresses."""
    start = next((at for at, word in enumerate(words) if word in _FROM), None)
    end = next((at for at, h in enumerate(header) if side_of(h) == "new"), None)
    if start is None:
        return {}
    if end is not None:
        return {start: -0.5, end: 1.5} if set(words) & set(NAMES[ANCHOR]) else {}
    of_pages = share(cells_at(rows, start), host_of) == 1 and not _are_redirects(words, rows, "3")
    return {start: 0.0} if of_pages and any(word in NAMES[URL][:10] for word in words) else {}


def _sources_of_redirects(words: Sequence[str], rows: Sequence[Sequence[str]]) -> int | None:
    """The column of old paths in a list of redirects that calls them sources, as lists of links
    call the pages that link: those are whole addresses.
    """
    if not {"source", "sourceurl"} & set(words) or not {"target", "targeturl", "destination"} & set(
        words
    ):
        return None
    at = next(n for n, word in enumerate(words) if word in {"source", "sourceurl"})
    if not _are_redirects(words, rows):
        return None
    return at if share(cells_at(rows, at), lambda c: c[:1] == "/") > 0.5 else None


def _are_redirects(words: Sequence[str], rows: Sequence[Sequence[str]], of: str = "34") -> bool:
    """Whether all rows tell a status of redirects, or of what is gone. of: its first digits."""
    codes = next((n for n, word in enumerate(words) if word in NAMES[STATUS]), None)
    return codes is not None and share(cells_at(rows, codes), lambda c: c[:1] in of) == 1


def _linking_column(
    header: Sequence[str], rows: Sequence[Sequence[str]], found: Mapping[str, int]
) -> int | None:
    """The column of pages that link, where another one is called the source, and the one of the
    addresses the target. In a list of redirects the addresses are those of the source.
    """
    titles = dict(enumerate(header))
    if side_of(titles.get(found.get(URL, -1), "")) != "new":
        return None
    return next(
        (
            at
            for at, text in titles.items()
            if at not in found.values()
            and side_of(text) == "old"
            and (cells := cells_at(rows, at))
            and share(cells, host_of) >= 0.8
        ),
        None,
    )
