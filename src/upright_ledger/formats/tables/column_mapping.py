"""Columns of exports: what a header means, and what a cell says."""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping, Sequence
from itertools import pairwise

from upright_ledger.core.inventory.units import HITS, IN_TABLES, LINKING_PAGES, UNITS
from upright_ledger.formats.tables.cells import (
    day_of,
    host_of,
    looks_like_address,
    number,
    status_code,
)
from upright_ledger.formats.tables.column_names import (
    AGENT,
    ANCHOR,
    HOST,
    ITEM,
    LAST_SEEN,
    NAMES,
    QUERY,
    REFERRER,
    STATUS,
    TITLE,
    URL,
    bare,
)
from upright_ledger.formats.tables.header_words import side_of

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


def _in_words(header: str) -> str:
    return re.sub(r"[\s_.\-]+", " ", header)


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
    words = [bare(h) for h in header]
    found: dict[str, int] = {}
    off = frozenset(meaning for meaning, text in given.items() if not text)
    for meaning, text in given.items():
        if not text:
            continue
        named = bare(text) if bare(text) in words else bare(text.rpartition(".")[2])
        if named not in words:
            raise KeyError(text)
        found[meaning] = words.index(named)
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
        at = next((at for at in free if _suits(meaning, _cells(rows, at))), None)
        if at is not None:
            found[meaning] = at
    if URL not in found or _share(_cells(rows, found[URL]), lambda c: c[:1] == "/") < 0.5:
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
            at = next(
                (
                    at
                    for at, h in enumerate(header)
                    if at not in found.values() and _holds(h, inside)
                ),
                None,
            )
            if at is not None and _suits(meaning, _cells(rows, at)):
                found[meaning] = at
    _by_content(found, rows, header, hosts, off, is_links=is_links)
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
    return {m: h.strip() for m, h in named.items() if h and not _LINKING.search(_in_words(h))}


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
    text = _in_words(header)
    return bool(
        _LINKING.search(text)
        and re.search(r"\b(?:url|page|seite|adresse|link)\b", text, re.IGNORECASE)
    )


def _speaks_of_target(header: str, meaning: str) -> bool:
    text = _in_words(header)
    return bool(_TARGET.search(text)) and not (meaning == TITLE and _LINKING.search(text))


def _holds(header: str, words: tuple[str, ...]) -> bool:
    text = _in_words(header.lower())
    return any(re.search(rf"\b{word}\b", text) for word in words) and not _RATES.search(text)


def _cells(rows: Sequence[Sequence[str]], at: int) -> list[str]:
    return [r[at].strip() for r in rows if at < len(r) and r[at].strip()]


def _share(cells: Sequence[str], test: Callable[[str], object]) -> float:
    return sum(1 for c in cells if test(c)) / len(cells) if cells else 0.0


def _suits(meaning: str, cells: list[str]) -> bool:
    """Whether cells can mean what their header says; an empty column suits."""
    if not cells:
        return True
    if meaning in IN_TABLES:
        return _share(cells, lambda c: number(c) is not None) >= 0.5
    if meaning == STATUS:
        return _share(cells, status_code) >= 0.5
    if meaning == ITEM:
        return _share(cells, _ITEM.match) >= 0.5
    if meaning == AGENT:
        return _share(cells, lambda c: "/" in c and not looks_like_address(c)) >= 0.5
    if meaning == HOST:
        return _share(cells, _is_host) >= 0.5
    if meaning == QUERY:
        return _share(cells, lambda c: "=" in c and not looks_like_address(c)) >= 0.5
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
        cells = _cells(rows, at)
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
        if word in NAMES[HOST] and _share(cells, _is_host) == 1:
            continue
        addresses = _share(cells, looks_like_address)
        others = (
            _share(cells, lambda c: host_of(c) not in hosts and host_of(c) != "") if hosts else 0.0
        )
        named = rank > 0 and (addresses > 0 or _share(cells, lambda c: number(c) is None) > 0.5)
        if addresses < 0.6 and not named:
            continue
        figure = 4 * addresses * (1 - others) + rank + 0.5 * addresses
        if figure > most:
            best, most = at, figure
    return best


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
    of_pages = _share(_cells(rows, start), host_of) == 1 and not _are_redirects(words, rows, "3")
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
    return at if _share(_cells(rows, at), lambda c: c[:1] == "/") > 0.5 else None


def _are_redirects(words: Sequence[str], rows: Sequence[Sequence[str]], of: str = "34") -> bool:
    """Whether all rows tell a status of redirects, or of what is gone. of: its first digits."""
    codes = next((n for n, word in enumerate(words) if word in NAMES[STATUS]), None)
    return codes is not None and _share(_cells(rows, codes), lambda c: c[:1] in of) == 1


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
            and (cells := _cells(rows, at))
            and _share(cells, host_of) >= 0.8
        ),
        None,
    )


# A day that is not the last one on which something was seen.
_OTHER_DAY = re.compile(
    r"first|erst|premi|prim|created|added|published|discovered|start|begin|since|seit|entdeckt|"
    r"angelegt|lost|verloren",
    re.IGNORECASE,
)


def _by_content(
    found: dict[str, int],
    rows: Sequence[Sequence[str]],
    header: Sequence[str],
    hosts: frozenset[str],
    off: frozenset[str],
    *,
    is_links: bool,
) -> None:
    """Find what the headers do not tell: statuses, days, pages that link, and titles give
    themselves away.
    """
    open_ones = (
        {STATUS, LAST_SEEN, REFERRER, TITLE} - found.keys() - off - ({TITLE} if is_links else set())
    )
    width = len(header) or max(map(len, rows), default=0)
    titles = [*header, *[""] * (width - len(header))]
    for at in range(width):
        cells = _cells(rows, at)
        if at in found.values() or len(cells) < 3:
            continue
        if (
            STATUS in open_ones - found.keys()
            and _share(cells, status_code) == 1
            and len(set(cells)) < len(cells)
        ):
            found[STATUS] = at
        elif (
            LAST_SEEN in open_ones - found.keys()
            and not _OTHER_DAY.search(titles[at])
            and _share(cells, day_of) == 1
        ):
            found[LAST_SEEN] = at
        elif (
            REFERRER in open_ones - found.keys()
            and side_of(titles[at]) != "new"
            and _share(cells, lambda c: host_of(c) and host_of(c) not in hosts) == 1
        ):
            found[REFERRER] = at
        elif (
            TITLE in open_ones - found.keys()
            and not _REMARKS.search(_in_words(titles[at]))
            and _share(cells, _is_phrase) > 0.7
            and len(set(cells)) * 2 > len(cells)
        ):
            found[TITLE] = at
    if not header and URL in found and HITS not in off:
        left = [at for at in range(width) if at not in found.values()]
        # What stands first may be a count beside more than an address, as `uniq -c` has it.
        if len(left) == 1 and (width == 2 or left == [0]) and _are_counts(_cells(rows, left[0])):
            found[HITS] = left[0]


def _are_counts(cells: Sequence[str]) -> bool:
    """Whether cells beside addresses count them: figures, but no statuses and no row numbers."""
    if not cells or not all(c.isascii() and c.isdigit() for c in cells):
        return False
    figures = [*map(int, cells[:_MANY_ROWS])]
    steps = {b - a for a, b in pairwise(figures)}
    return not all(map(status_code, cells)) and steps != {1}


_MANY_ROWS = 400
# Sentences that speak of a page are not what it is called.
_REMARKS = re.compile(
    r"\b(?:why|because|reasons?|comes? from|came from|notes?|comments?|remarks?|details?|what|"
    r"action|remed(?:y|ies)|mend|answer|status|state|expected|verdicts?|owner|kommentar|bemerkung|"
    r"notiz|hinweis|grund|remarque|commentaire|note|motif|nota|comentario|motivo|commento|"
    r"opmerking|reden|uwag[ai]|powód|kommentarer)\b",
    re.IGNORECASE,
)
_ITEM = re.compile(r"(?=.*\d)[\w./-]{1,40}\Z")  # one word with a digit in it


def _is_phrase(cell: str) -> bool:
    return (
        " " in cell
        and any(c.isalpha() for c in cell)
        and not looks_like_address(cell)
        and not day_of(cell)
    )
