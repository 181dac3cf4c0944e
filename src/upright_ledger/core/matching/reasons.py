"""Why a page is proposed for another, and why it comes behind the first, in plain words."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from functools import lru_cache
from itertools import islice
from urllib.parse import unquote

import numpy as np

from upright_ledger.core.matching import choice_model, learned_features, scoring
from upright_ledger.core.matching.pages.page_words import MatchPage, PageWords
from upright_ledger.core.matching.scoring import Weighed
from upright_ledger.core.matching.sparse import Indices

_MOST_WORDS = 3
_SAME_TEXT, _MUCH_TEXT, _LITTLE_TEXT = 0.9, 0.2, 0.02
_TELLING = 1.0  # nats: words on more than a third of all pages tell nothing
_NEARLY = 0.3  # of the logarithm of the odds between two pages

_TOLD = (
    "same text", "text found", "other text", "same title", "says the same", "title words",
    "same slug", "same item", "same number", "slug letters", "other number", "other year",
    "context",
)  # fmt: skip
_LEARNED = ("place moved there", "taken by another", "taken where pages merge")
_TOLD_AT = np.array([scoring.FIRST.index(name) for name in _TOLD])
_LEARNED_AT = np.array([learned_features.FEATURES.index(name) for name in _LEARNED])
_PAGES = 10_000  # old ones whose pairs are looked at together
_REMEMBERED = 1 << 14  # pages


def reasons(
    weighed: Weighed, pages: Sequence[MatchPage], proposed: Iterable[Sequence[int]]
) -> Iterator[list[tuple[str, ...]]]:
    """What speaks for, and against, the new page of each pair; each is said of "it".

    pages: those of the new site; proposed: for each old page the pairs that are proposed for it,
    the best first.
    """
    quotes = _Quotes(weighed, pages)
    waiting = iter(proposed)
    while some := list(islice(waiting, _PAGES)):
        pairs = np.array([k for best in some for k in best], np.int64)
        firsts = np.array([best[0] for best in some for _ in best], np.int64)
        told = zip(
            pairs.tolist(),
            weighed.seen.figures[np.ix_(pairs, _TOLD_AT)].tolist(),
            weighed.learned[np.ix_(pairs, _LEARNED_AT)].tolist(),
            *_ahead(weighed, pairs, firsts),
            strict=True,
        )
        for best in some:
            yield [_reasons_of(quotes, best, *next(told)) for _ in best]


def _reasons_of(
    quotes: _Quotes,
    best: Sequence[int],
    k: int,
    figures: Sequence[float],
    learned: Sequence[float],
    kind: int,
    ahead: float,
) -> tuple[str, ...]:
    """Of one pair. figures, learned: as _TOLD and _LEARNED name them; kind, ahead: see `_ahead`."""
    (
        same_text, text_found, other_text, same_title, says_the_same, title_words,
        same_slug, same_item, same_number, slug_letters, other_number, other_year, context,
    ) = figures  # fmt: skip
    moved_there, taken, merging = learned
    weighed = quotes.weighed
    old, new, page = quotes.of(k)
    said = []
    if same_text >= _SAME_TEXT:
        said.append("says the same")
    elif text_found >= _MUCH_TEXT:
        said.append(f"has {text_found:.0%} of its text")
    if same_title:
        said.append("has the same title")
    elif says_the_same:
        said.append("has the same words in its title or heading")
    elif title_words > 0.6:
        said.append("has a similar title")
    if same_slug and not same_number:
        said.append("has the same words in its address")
    elif same_item:
        said.append(f"is the same item {page.items[0] if page.items else max(old.items)}")
        if weighed.sides.renumbering:
            said.append(weighed.sides.renumbering)
    elif same_number:
        said.append(f"carries the same number {min(old.same_numbers(new))}")
    elif slug_letters > 0.85:
        said.append("is spelt nearly alike in its address")
    if not said and (numbers := sorted({w for w in old.slug if w.isdigit()} & set(new.slug))):
        said.append(f"shares the number {numbers[0]}")
    if not (same_slug or same_title or says_the_same) and (words := quotes.common(k)):
        said.append(f"shares {words}")
    if not said and slug_letters > 0.5:
        said.append("is spelt a little alike in its address")
    if other_text > 1 - _LITTLE_TEXT:
        said.append("its text is another")
    if other_number:
        said.append("carries another number")
    if other_year:
        said.append("names another year")
    if moved_there > 0.5:
        there, known = weighed.moved[k].tolist()
        said.append(
            f"{there:,} of {known:,} pages beside the old one moved there"
            if there
            else "pages near the old one moved there"
        )
    elif context > 0.5:
        said.append("lies in a section of the same name")
    if taken > 0.5 and merging < 0.3:
        said.append("another old page fits it as well or better")
    if k != best[0]:
        contrary = {"number": other_number, "year": other_year}.get(_NAMES[kind])
        said.append(_why_behind(quotes, k, best[0], kind, ahead, told=bool(contrary)))
    elif len(best) > 1 and weighed.chances[best[1]] > 0.4 * weighed.chances[k]:
        said.append("another page fits nearly as well")
    return tuple(said or ["little speaks for it"])


_KINDS = {
    "text": ("same text", "text found", "text shared", "other text", "text carried",
        "text not carried"),
    "title": ("same title", "title words", "title alone", "title of a number", "no title",
        "says the same", "says the same alone"),
    "words": ("old words found", "new words found", "shared information", "both found",
        "old words missing", "new words missing", "words replaced", "old words unmatched",
        "own words alike", "no own word missing", "no own word found",
        "words gone elsewhere"),
    "name": ("same slug", "slug words", "slug letters", "same name", "name letters", "same words",
        "name alone", "information alone", "slug carried", "slug not carried", "name carried",
        "name not carried", "rewritten as others"),
    "opposite": ("opposed",),
    "number": ("same number", "other number", "number carried", "number not carried",
        "number alone"),
    "year": ("same year", "other year"),
    "item": ("same item", "other item"),
    "place": ("place moved there", "place moved elsewhere"),
    "section": ("context", "place elsewhere", "new place elsewhere"),
    "ending": ("its twin ends alike",),
    "rival": ("taken by another", "taken by a variant"),
}  # fmt: skip
_BEHIND = {
    "text": "less of the text agrees",
    "title": "its title is less alike",
    "words": "fewer of the words agree",
    "name": "its name is less alike",
    "opposite": "its name says the opposite",
    "number": "its number is another",
    "year": "its year is another",
    "item": "it is another item",
    "place": "pages beside the old one moved elsewhere",
    "section": "its section is less alike",
    "ending": "its address ends otherwise",
    "rival": "another old page fits it",
}


def _ahead(weighed: Weighed, pairs: Indices, firsts: Indices) -> tuple[list[int], list[float]]:
    """What makes the first proposal of an old page likelier than another one of it: of all that the
    weights say for it the kind that weighs most, as its place in _KINDS, and how much.
    """
    figures = np.concatenate(
        [
            table[firsts].astype(float) - table[pairs]
            for table in (weighed.seen.figures, weighed.learned)
        ],
        axis=1,
    )
    better = (figures * choice_model.SECOND.weights) @ _IN_KIND.T
    return better.argmax(axis=1).tolist(), better.max(axis=1).tolist()


def _why_behind(quotes: _Quotes, k: int, first: int, kind: int, ahead: float, *, told: bool) -> str:
    """Why the pair k comes behind the first one of its old page. told: whether that was said
    already.
    """
    if ahead < _NEARLY:
        return "the first fits a little better"
    if told:
        return "the first fits better"
    if _NAMES[kind] == "words" and (lacks := quotes.lacking(k, first)):
        return f"the first fits better: this one lacks {lacks}"
    return f"the first fits better: {_BEHIND[_NAMES[kind]]}"


_NAMES = tuple(_KINDS)
_IN_KIND = np.array(
    [[name in names for name in scoring.SECOND] for names in _KINDS.values()], float
)
"""One row a kind, one column a name in scoring.SECOND."""


class _Quotes:
    """Words of pages, quoted as these write them. pages: those of the new site."""

    def __init__(self, weighed: Weighed, pages: Sequence[MatchPage]) -> None:
        self.weighed, self.pages = weighed, pages
        self._weight_of = weighed.sides.weight_of
        self._written = lru_cache(maxsize=_REMEMBERED)(self._written_on)

    def of(self, k: int) -> tuple[PageWords, PageWords, MatchPage]:
        """Both pages of a pair as words, and the new one."""
        seen, sides = self.weighed.seen, self.weighed.sides
        new = int(seen.new[k])
        return sides.old.readings[int(seen.old[k])], sides.new.readings[new], self.pages[new]

    def common(self, k: int) -> str:
        """The rarest words that both pages of a pair have."""
        old, new, _ = self.of(k)
        return self._quoted(_own_words_of(old) & _words_of(new), int(self.weighed.seen.new[k]))

    def lacking(self, k: int, first: int) -> str:
        """The rarest words of the old page that the new page of the first pair has, and that of
        another one lacks.
        """
        old, other, _ = self.of(k)
        _, one, _ = self.of(first)
        lacks = (_own_words_of(old) & _words_of(one)) - _words_of(other)
        return self._quoted(lacks, int(self.weighed.seen.new[first]))

    def _quoted(self, words: Iterable[str], new: int) -> str:
        """The rarest of the words, as a new page writes them; empty where none tells anything."""
        weight_of = self._weight_of
        telling = [w for w in words if weight_of[w] >= _TELLING and not w.isdigit()]
        if not telling:
            return ""
        telling.sort(key=lambda w: (-weight_of[w], w))
        written = self._written(new)
        quoted = [f"“{written.get(w, w)}”" for w in telling[:_MOST_WORDS]]
        return f"the word {quoted[0]}" if len(quoted) == 1 else f"the words {', '.join(quoted)}"

    def _written_on(self, new: int) -> dict[str, str]:
        page = self.pages[new]
        texts = " ".join((unquote(page.path), *page.params, *page.words, page.title))
        return self.weighed.sides.words.written(texts)


def _own_words_of(page: PageWords) -> set[str]:
    return {*page.slug, *page.title, *page.extra}


def _words_of(page: PageWords) -> set[str]:
    return {*page.slug, *page.title, *page.extra, *page.context}
