"""Pages as a matcher reads them: words of the address, of its place and of the title."""

from __future__ import annotations

import re
from collections import Counter, defaultdict
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from functools import lru_cache
from itertools import pairwise
from typing import NamedTuple

from upright_ledger.core.contents.sketches import Sketch
from upright_ledger.core.matching.pages.item_numbers import Numbering
from upright_ledger.core.matching.pages.opposites import opposable
from upright_ledger.core.matching.pages.word_reader import USUAL_WORDS, WordReader
from upright_ledger.core.url.tokens import (
    is_year,
    path_parts,
    spelled_words,
    tokens,
)
from upright_ledger.core.url.unspaced import LETTER

_SHORTEST_ID = 3  # digits
LETTERS = re.compile(r"[^\W\d_]{2}")
_BEGINNING = 3  # letters
_SHORTEST_JOINED = 6  # letters
_NONE: frozenset[str] = frozenset()


@dataclass(frozen=True, slots=True)
class MatchPage:
    """A page to match. `name` comes back in the result; path as in the address; params: values in
    its query.

    words: what else is known to describe it (headings, texts of links to it). language: as a code,
    or empty when unknown. section: the name of what it belongs to. items: its numbers in a shop or
    a catalogue, where they are told beside it. text: a sketch of what it says, where that was seen.
    """

    name: str
    path: str
    title: str = ""
    params: tuple[str, ...] = ()
    words: tuple[str, ...] = ()
    language: str = ""
    section: str = ""
    items: tuple[str, ...] = ()
    text: Sketch = ""


@dataclass(slots=True)
class PageWords:
    """One page as words. slug: its last segment, or its parameters; place: where it lies, as a text
    its neighbours share.

    numbers: those in the slug that may name one thing; years: those that may be one, and that of a
    date in its folders. yearlike: years at either end of the slug, which are numbers like others
    where the other side says so. ends: numbers at either end of the slug, and item numbers. items:
    its item numbers as they are told beside it, whole. name: the last segment, or the parameters,
    as written; spelled: its words as written, in small letters; heading: its title without what
    many pages of its site have in theirs; said: the words of that, and of each further text of it,
    in one order, whatever theirs is. id_words: those of its slug by which a database may know it,
    and people do not: no title of it has them. opposable: the words of its name that have an
    opposite.
    """

    slug: Sequence[str]
    context: Sequence[str]
    title: Sequence[str]
    extra: Sequence[str]
    place: str
    name: str
    spelled: tuple[str, ...]
    heading: str
    numbers: frozenset[str] = _NONE
    years: frozenset[str] = _NONE
    yearlike: frozenset[str] = _NONE
    ends: frozenset[str] = _NONE
    items: frozenset[str] = _NONE
    id_words: frozenset[str] = _NONE
    said: tuple[str, ...] = ()
    opposable: frozenset[str] = _NONE

    @property
    def codes(self) -> frozenset[str]:
        """Its item numbers, or what may be one in its address."""
        return self.items or (self.numbers & self.ends)

    def number_as(self, numbering: Numbering) -> None:
        """Put what both sites share of an item number in its place."""
        cores = {code: core for code in self.items if (core := numbering.core(code))}
        if cores:
            self.items = frozenset(cores.get(code, code) for code in self.items)
            gone, come = frozenset(cores), frozenset(cores.values())
            self.numbers, self.ends = (self.numbers - gone) | come, (self.ends - gone) | come

    def take_number(self, code: str) -> None:
        """Take what stands in its address for its item number."""
        self.items = frozenset([code])
        self.numbers, self.ends = self.numbers | self.items, self.ends | self.items

    def same_numbers(self, other: PageWords) -> frozenset[str]:
        """The numbers that two pages share."""
        return (self.numbers & (other.numbers | other.yearlike)) | (self.yearlike & other.numbers)

    def same_item(self, other: PageWords) -> bool:
        """Whether the item number of one is told by the other, or names it in its address."""
        return not (self.items | other.items).isdisjoint(
            self.numbers & self.ends & other.numbers & other.ends
        )


@lru_cache(maxsize=1 << 17)
def _spelled(name: str) -> tuple[str, ...]:
    return tuple(spelled_words(name))


def texts_of(page: MatchPage) -> Iterator[str]:
    """All that is written on a page and in its address."""
    yield page.title
    yield page.section
    yield from page.words
    yield from page.params
    if "%" in page.path or not page.path.isascii():
        yield from path_parts(page.path)


def read_page(page: MatchPage, words: WordReader = USUAL_WORDS) -> PageWords:
    """Take a page apart."""
    parts = path_parts(page.path)
    if len(parts) > 1 and parts[-1].lower() in _FOLDER_PAGES and not page.path.endswith("/"):
        parts.pop()
    above, last = _read_folders(tuple(parts[:-1]), words), words.read(parts[-1]) if parts else []
    context, title = above.words, words.read(page.title)
    values = [t for v in page.params for t in words.read(v)]
    if values:
        context, slug, place = context + last, values, f"{page.path}?"
    else:
        slug, place = last, above.place
    if page.section:
        context = context + words.read(page.section)
    extra = [t for text in page.words for t in words.read(text)] if page.words else ()
    name = " ".join(page.params) if values else parts[-1] if parts else ""
    found = PageWords(slug, context, title, extra, place, name, _spelled(name), " ".join(title))
    found.opposable = opposable(found.spelled)
    # A number of a folder may name the page as well: /item/4711/tall-case-clock
    own = [t for t in slug if t.isdigit()]
    if own:
        found.ends = frozenset(t for t in (slug[0], slug[-1]) if t.isdigit())
    numbers = own + above.numbers
    found.numbers = frozenset(
        n for n in numbers if len(n) >= _SHORTEST_ID and (values or not is_year(n))
    )
    told_years = own + [t for t in title if t.isdigit()] + above.years
    found.years = frozenset(t for t in told_years if is_year(t)) - found.numbers
    # Sets are large: most pages have one number, and share the set of it.
    if found.ends == found.numbers:
        found.ends = found.numbers
    if page.items:
        _take_items(found, page.items)
    if found.years:
        found.yearlike = found.ends & found.years
    coded = {t for t in found.ends if t.isdigit() and len(t) >= _SHORTEST_ID}
    if values:
        coded.update(t for v in page.params if _CODE.fullmatch(v) for t in words.read(v))
    coded.difference_update(title)
    if coded:
        found.id_words = found.numbers if coded == found.numbers else frozenset(coded)
    return found


def _take_items(page: PageWords, items: Iterable[str]) -> None:
    """Take the item numbers that are told of a page. An address may carry "QH-4711" whole, or its
    digits alone.
    """
    told = [tokens(item) for item in items]
    page.items = frozenset("".join(runs) for runs in told) - {""}
    digits = {t for runs in told for t in runs if t.isdigit() and len(t) >= _SHORTEST_ID}
    page.numbers |= page.items | digits
    page.ends |= page.items


class _Folders(NamedTuple):
    """What the folders of a page say. place: as in PageWords; numbers: those of the last one."""

    words: list[str]
    place: str
    numbers: list[str]
    years: list[str]


@lru_cache(maxsize=1 << 14)
def _read_folders(above: tuple[str, ...], words: WordReader) -> _Folders:
    return _Folders(
        [t for p in above for t in words.read(p)],
        "/".join("#" if p.isdigit() else p.lower() for p in above),
        [t for p in above[-1:] if p.isdigit() for t in words.read(p) if t.isdigit()],
        _year_of_date(above),
    )


def _year_of_date(folders: Sequence[str]) -> list[str]:
    """The year of the day, or month, by which a page is filed, as in /2019/05/harvest."""
    return [
        year
        for year, month in pairwise(folders)
        if year.isdecimal() and is_year(year) and month.isdecimal() and 1 <= int(month) <= _MONTHS
    ]


_MONTHS = 12
_CODE = re.compile(r"[A-Za-z]{0,4}[-_]?\d+")
"""A value by which a database knows a page, as 4711 and PO567."""
_FOLDER_PAGES = frozenset(["index", "default"])


_PARTS_OF_A_TITLE = re.compile(
    r"\s+[|–—:·»«>/-]+\s+|\s*[|｜»«【】]\s*|:\s+"
    rf"|(?<={LETTER})\s*[_＿–—:：／·・－-]\s*(?={LETTER})"  # blanks are no more usual here
)
_MANY = 5  # pages; their titles have the name of their site or section in common
SAID = 3
"""Texts of a page that are compared as wholes: its title, and what else is known to describe it."""


def read_site(pages: Sequence[MatchPage], words: WordReader = USUAL_WORDS) -> list[PageWords]:
    """Take the pages of a site apart."""
    read, titles, further = [], {}, []
    # Page by page: the reader does not remember the texts of a whole large site.
    for n, page in enumerate(pages):
        read.append(read_page(page, words))
        if _PARTS_OF_A_TITLE.search(page.title):
            parts = _PARTS_OF_A_TITLE.split(page.title)
            titles[n] = [" ".join(words.read(part)) for part in parts]
        further.append([_in_order(words.read(text)) for text in page.words])
    common = Counter(part for parts in titles.values() for part in set(parts))
    for n, parts in titles.items():
        own = [part for part in parts if part and common[part] < _MANY]
        read[n].heading = " ".join(own) or read[n].heading
    for reading, texts in zip(read, further, strict=True):
        keys = (_in_order(reading.heading.split()), *texts)
        reading.said = tuple(dict.fromkeys(key for key in keys if key))[:SAID]
    return read


def _in_order(words: Iterable[str]) -> str:
    """Words, each once, in one order."""
    return " ".join(sorted(set(words)))


def without_ids(pages: Sequence[PageWords], others: Sequence[PageWords]) -> None:
    """Take from slugs the numbers by which one site alone knows the pages of a place: that the
    other has none of them says nothing of any page.
    """
    known = {w for page in others for w in (*page.slug, *page.title, *page.extra)}
    places: dict[str, list[PageWords]] = defaultdict(list)
    for page in pages:
        if page.id_words:
            places[page.place].append(page)
    for members in places.values():
        unknown = [page for page in members if known.isdisjoint(page.id_words)]
        if len(unknown) >= max(_MANY, _MOSTLY * len(members)):
            for page in unknown:
                page.slug = [w for w in page.slug if w not in page.id_words]
                page.numbers -= page.id_words - page.items


_MOSTLY = 0.8


def split_joined(pages: list[PageWords], others: list[PageWords]) -> None:
    """Join neighbouring words that the other side writes as one, as in "opening hours" and
    "openinghours".
    """
    whole = {
        w
        for page in others
        for words in (page.slug, page.title)
        for w in words
        if len(w) >= _SHORTEST_JOINED and not w.isdigit()
    }
    own = {w for page in pages for words in (page.slug, page.title) for w in words}
    whole -= own
    begins = own & {w[:length] for w in whole for length in range(1, len(w))}
    for page in pages if begins else ():
        if not begins.isdisjoint(page.slug):
            page.slug = _joined(page.slug, whole, begins)
        if not begins.isdisjoint(page.title):
            page.title = _joined(page.title, whole, begins)


def _joined(words: Sequence[str], whole: set[str], begins: set[str]) -> list[str]:
    out: list[str] = []
    at = 0
    while at < len(words):
        for length in (4, 3, 2) if words[at] in begins else ():
            text = "".join(words[at : at + length])
            if text in whole and at + length <= len(words):
                out.append(text)
                at += length
                break
        else:
            out.append(words[at])
            at += 1
    return out


def document_counts(pages: Iterable[PageWords]) -> Counter[str]:
    """Word → how many pages have it."""
    counts: Counter[str] = Counter()
    for page in pages:
        counts.update({*page.slug, *page.context, *page.title, *page.extra})
    return counts
