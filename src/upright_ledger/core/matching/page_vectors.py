"""Pages as a matcher reads them: words of the address, of its place and of the title, as sparse
columns.
"""

from __future__ import annotations

import math
import re
from collections import Counter
from collections.abc import Collection, Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property, lru_cache

import numpy as np
import numpy.typing as npt
from scipy import sparse

from upright_ledger.core.contents.sketches import Sketch
from upright_ledger.core.contents.texts import Texts
from upright_ledger.core.matching.fuzzy_words import near_spellings
from upright_ledger.core.matching.item_numbers import Numbering, renumber
from upright_ledger.core.matching.opposites import opposable
from upright_ledger.core.matching.sparse import Matrix
from upright_ledger.core.url.tokens import (
    is_year,
    path_parts,
    spelled_words,
    tokens,
    without_ending,
)

Floats = npt.NDArray[np.float64]
_SHORTEST_ID = 3  # digits
_LETTERS = re.compile(r"[^\W\d_]{2}")
_BEGINNING = 3  # letters
_SHORTEST_JOINED = 6  # letters


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


@dataclass
class PageWords:
    """One page as words. slug: its last segment, or its parameters; place: where it lies, as a text
    its neighbours share.

    numbers: those in the slug that may name one thing; years: those that may be one. yearlike:
    years at either end of the slug, which are numbers like others where the other side says so.
    ends: the first and last word of the slug. items: its item numbers as they are told beside it,
    whole. name: the last segment, or the parameters, as written; spelled: its words as written, in
    small letters; heading: its title without what many pages of its site end in.
    """

    slug: list[str]
    context: list[str]
    title: list[str]
    extra: list[str]
    place: str
    numbers: frozenset[str]
    years: frozenset[str]
    yearlike: frozenset[str]
    ends: frozenset[str]
    items: frozenset[str]
    name: str = ""
    spelled: tuple[str, ...] = ()
    heading: str = ""

    @cached_property
    def opposable(self) -> frozenset[str]:
        """The words of its name that have an opposite."""
        return opposable(self.spelled)

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


def read_page(page: MatchPage) -> PageWords:
    """Take a page apart."""
    parts = path_parts(page.path)
    if len(parts) > 1 and parts[-1].lower() in _FOLDER_PAGES and not page.path.endswith("/"):
        parts.pop()
    above, last = parts[:-1], tokens(parts[-1]) if parts else []
    context = [t for p in above for t in _folder_tokens(p)]
    values = [t for v in page.params for t in tokens(v)]
    if values:
        context, slug = context + last, values
        place = f"{page.path}?"
    else:
        slug = last
        place = "/".join("#" if p.isdigit() else p.lower() for p in above)
    context += _folder_tokens(page.section)
    title = tokens(page.title)
    numbers = [t for t in slug if t.isdigit()]
    # A number of a folder may name the page as well: /item/4711/tall-case-clock
    numbers += [t for p in above[-1:] if p.isdigit() for t in tokens(p)]
    ids = frozenset(n for n in numbers if len(n) >= _SHORTEST_ID and (values or not is_year(n)))
    years = frozenset(t for t in (*slug, *title) if t.isdigit() and is_year(t) and t not in ids)
    extra = [t for text in page.words for t in tokens(text)]
    ends = frozenset((*slug[:1], *slug[-1:]))
    told = [tokens(item) for item in page.items]
    items = frozenset("".join(runs) for runs in told) - {""}
    # An address may carry "QH-4711" whole, or its digits alone.
    ids |= items | {t for runs in told for t in runs if t.isdigit() and len(t) >= _SHORTEST_ID}
    ends |= items
    name = " ".join(page.params) if values else parts[-1] if parts else ""
    return PageWords(
        slug, context, title, extra, place, ids, years, ends & years, ends, items, name,
        tuple(spelled_words(name)), " ".join(title),
    )  # fmt: skip


_FOLDER_PAGES = frozenset(["index", "default"])


_folder_tokens = lru_cache(maxsize=1 << 14)(tokens)  # folders hold many pages each


@dataclass(slots=True)
class Side:
    """The pages of one site as columns; all matrices share their words (columns), and hold 1, or
    less for a near spelling.

    words: slug, title and extra together. everything: these and the context. names: as written;
    low_names: in small letters, empty without any; spelled: their words; opposable: whether one of
    them has an opposite. speaking: whether a slug holds more than numbers; title_alone, slug_alone:
    whether no other page of its site has its title, or slug.
    known_context: the words of its place that the other site has. numbered, dated: which
    pages have a number, or a year. texts: what its pages say. endings: of its paths; twinned: whether
    another page has its path but for the ending.
    """

    readings: list[PageWords]
    slug: Matrix
    title: Matrix
    context: Matrix
    words: Matrix
    everything: Matrix
    slug_texts: npt.NDArray[np.object_]
    title_texts: npt.NDArray[np.object_]
    names: npt.NDArray[np.object_]
    low_names: npt.NDArray[np.object_]
    spelled: npt.NDArray[np.object_]
    opposable: npt.NDArray[np.bool_]
    speaking: npt.NDArray[np.bool_]
    title_alone: npt.NDArray[np.bool_]
    slug_alone: npt.NDArray[np.bool_]
    known_context: Matrix
    numbered: npt.NDArray[np.bool_]
    dated: npt.NDArray[np.bool_]
    texts: Texts
    endings: npt.NDArray[np.object_]
    twinned: npt.NDArray[np.bool_]
    totals: dict[str, Floats] = field(default_factory=dict)

    def __len__(self) -> int:
        return len(self.readings)


@dataclass(slots=True)
class Sides:
    """Both sites. weights: of each word, in nats: how much it says that two pages share it.
    vocabulary: word → column. renumbering: how item numbers changed, in words, or empty.
    """

    old: Side
    new: Side
    weights: Floats
    vocabulary: dict[str, int]
    renumbering: str = ""


def read_sides(
    old: Sequence[MatchPage], new: Sequence[MatchPage], taught: Mapping[int, int] | None = None
) -> Sides:
    """Read the pages of both sites into common columns. taught: old page → the new page it is known
    to have moved to.
    """
    left, right = _read_site(old), _read_site(new)
    renumbering = renumber(left, right, taught or {})
    _split_joined(left, right)
    _split_joined(right, left)
    left_words, right_words = _document_counts(left), _document_counts(right)
    # Of equal word counts the order must not depend on that of the pages.
    names = sorted({*left_words, *right_words})
    vocabulary = {w: n for n, w in enumerate(names)}
    total = len(left) + len(right)
    weights = np.array(
        [math.log((1 + total) / (1 + left_words[w] + right_words[w])) for w in names]
    )
    weights = np.maximum(weights, 0.02)
    only_left = [w for w in names if w not in right_words]
    only_right = [w for w in names if w not in left_words]
    mend_left = near_spellings(only_left, list(right_words))
    taken = {goal for goal, _ in mend_left.values()}
    free = [w for w in left_words if w not in mend_left]
    mend_right = near_spellings([w for w in only_right if w not in taken], free)
    roots = np.sqrt(weights)
    return Sides(
        _columns(left, vocabulary, mend_left, roots, right_words, old),
        _columns(right, vocabulary, mend_right, roots, left_words, new),
        weights,
        vocabulary,
        renumbering,
    )


_PARTS_OF_A_TITLE = re.compile(r"\s+[|–—:·»«>/-]+\s+|\s*[|»«]\s*|:\s+")
_MANY = 5  # pages; their titles end, or begin, in the name of their site or section


def _read_site(pages: Sequence[MatchPage]) -> list[PageWords]:
    """Take the pages of a site apart."""
    read = [read_page(p) for p in pages]
    titles = {
        n: [" ".join(tokens(part)) for part in _PARTS_OF_A_TITLE.split(p.title)]
        for n, p in enumerate(pages)
        if _PARTS_OF_A_TITLE.search(p.title)
    }
    common = Counter(part for parts in titles.values() for part in {parts[0], parts[-1]})
    for n, parts in titles.items():
        own = [part for part in parts if part and common[part] < _MANY]
        read[n].heading = " ".join(own) or read[n].heading
    return read


def _split_joined(pages: list[PageWords], others: list[PageWords]) -> None:
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
    if not whole:
        return
    begins = {w[:_BEGINNING] for w in whole}
    for page in pages:
        page.slug, page.title = (
            _joined(page.slug, whole, begins),
            _joined(page.title, whole, begins),
        )


def _joined(words: list[str], whole: set[str], begins: set[str]) -> list[str]:
    if len(words) < 2 or not any(len(w) < _BEGINNING or w[:_BEGINNING] in begins for w in words):
        return words
    out: list[str] = []
    at = 0
    while at < len(words):
        for length in (4, 3, 2):
            text = "".join(words[at : at + length])
            if text in whole and at + length <= len(words):
                out.append(text)
                at += length
                break
        else:
            out.append(words[at])
            at += 1
    return out


def _document_counts(pages: Iterable[PageWords]) -> Counter[str]:
    counts: Counter[str] = Counter()
    for page in pages:
        counts.update({*page.slug, *page.context, *page.title, *page.extra})
    return counts


def _columns(
    pages: list[PageWords],
    vocabulary: dict[str, int],
    mends: dict[str, tuple[str, float]],
    roots: Floats,
    others: Collection[str],
    given: Sequence[MatchPage],
) -> Side:
    """others: the words of the other site. given: the pages before they were read."""
    column_of = vocabulary | {word: vocabulary[meant] for word, (meant, _) in mends.items()}

    def matrix(texts: Iterable[Iterable[str]]) -> Matrix:
        indices: list[int] = []
        values: list[float] = []
        ends = [0]
        for words in texts:
            if mends.keys().isdisjoint(words):
                columns = sorted({column_of[w] for w in words})
                values += [1.0] * len(columns)
            else:
                found: dict[int, float] = {}
                for word in words:
                    column, likeness = column_of[word], mends[word][1] if word in mends else 1.0
                    found[column] = max(found.get(column, 0.0), likeness)
                columns = sorted(found)
                values += [found[c] for c in columns]
            indices += columns
            ends.append(len(indices))
        shape = (len(ends) - 1, len(vocabulary))
        made = sparse.csr_matrix(
            (np.array(values), np.array(indices, np.int32), np.array(ends)), shape=shape
        )
        made.data *= roots[made.indices]
        return made

    stems, endings = (
        zip(*(without_ending(p.path) for p in given), strict=True) if given else ((), ())
    )
    forms = Counter(zip(stems, (p.params for p in given), strict=True))
    titles = Counter(p.heading for p in pages)
    slugs = Counter("".join(p.slug) for p in pages)
    side = Side(
        pages,
        matrix(p.slug for p in pages),
        matrix(p.title for p in pages),
        matrix(p.context for p in pages),
        matrix((*p.slug, *p.title, *p.extra) for p in pages),
        matrix((*p.slug, *p.title, *p.extra, *p.context) for p in pages),
        np.array(["".join(p.slug) for p in pages], object),
        np.array([p.heading for p in pages], object),
        np.array([p.name for p in pages], object),
        np.array([p.name.lower() if _LETTERS.search(p.name) else "" for p in pages], object),
        np.array([" ".join(p.spelled) for p in pages], object),
        np.array([bool(p.opposable) for p in pages], bool),
        np.array([any(not w.isdigit() for w in p.slug) for p in pages], bool),
        np.array([titles[p.heading] == 1 for p in pages], bool),
        np.array([slugs["".join(p.slug)] == 1 for p in pages], bool),
        matrix([w for w in p.context if w in others] for p in pages),
        np.array([bool(p.numbers or p.yearlike) for p in pages], bool),
        np.array([bool(p.years) for p in pages], bool),
        Texts.of([p.text for p in given]),
        np.array(endings, object),
        np.array([forms[s, p.params] > 1 for s, p in zip(stems, given, strict=True)], bool),
    )
    for name in ("slug", "title", "context", "words", "everything", "known_context"):
        held = getattr(side, name)
        weights = roots[held.indices] ** 2
        side.totals[name] = np.add.reduceat(np.r_[weights, 0.0], held.indptr[:-1]) * (
            np.diff(held.indptr) > 0
        )
    return side
