"""Why a page is proposed for another, and why it comes behind the first, in plain words."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from urllib.parse import unquote

import numpy as np

from upright_ledger.core.matching import choice_model, learned_features, scoring
from upright_ledger.core.matching.pages.page_words import MatchPage, PageWords
from upright_ledger.core.matching.scoring import Weighed

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
_TOLD_AT = [scoring.FIRST.index(name) for name in _TOLD]
_LEARNED_AT = [learned_features.FEATURES.index(name) for name in _LEARNED]


def reasons(
    weighed: Weighed, pages: Sequence[MatchPage], k: int, best: Sequence[int]
) -> tuple[str, ...]:
    """What speaks for, and against, the new page of a pair; each is said of "it".

    pages: those of the new site; best: the pairs that are proposed for its old page, the best
    first.
    """
    figures = dict(zip(_TOLD, weighed.seen.figures[k, _TOLD_AT].tolist(), strict=True))
    learned = dict(zip(_LEARNED, weighed.learned[k, _LEARNED_AT].tolist(), strict=True))
    old = weighed.sides.old.readings[int(weighed.seen.old[k])]
    page, new = (
        pages[int(weighed.seen.new[k])],
        weighed.sides.new.readings[int(weighed.seen.new[k])],
    )
    said = []
    if figures["same text"] >= _SAME_TEXT:
        said.append("says the same")
    elif figures["text found"] >= _MUCH_TEXT:
        said.append(f"has {figures['text found']:.0%} of its text")
    if figures["same title"]:
        said.append("has the same title")
    elif figures["says the same"]:
        said.append("has the same words in its title or heading")
    elif figures["title words"] > 0.6:
        said.append("has a similar title")
    if figures["same slug"] and not figures["same number"]:
        said.append("has the same words in its address")
    elif figures["same item"]:
        said.append(f"is the same item {page.items[0] if page.items else max(old.items)}")
        if weighed.sides.renumbering:
            said.append(weighed.sides.renumbering)
    elif figures["same number"]:
        said.append(f"carries the same number {min(old.same_numbers(new))}")
    elif figures["slug letters"] > 0.85:
        said.append("is spelt nearly alike in its address")
    if not said and (numbers := sorted({w for w in old.slug if w.isdigit()} & set(new.slug))):
        said.append(f"shares the number {numbers[0]}")
    if (
        not figures["same slug"]
        and not figures["same title"]
        and not figures["says the same"]
        and (words := _common_words(weighed, old, new, page))
    ):
        said.append(f"shares {words}")
    if not said and figures["slug letters"] > 0.5:
        said.append("is spelt a little alike in its address")
    if figures["other text"] > 1 - _LITTLE_TEXT:
        said.append("its text is another")
    if figures["other number"]:
        said.append("carries another number")
    if figures["other year"]:
        said.append("names another year")
    if learned["place moved there"] > 0.5:
        there, known = weighed.moved[k].tolist()
        said.append(
            f"{there:,} of {known:,} pages beside the old one moved there"
            if there
            else "pages near the old one moved there"
        )
    elif figures["context"] > 0.5:
        said.append("lies in a section of the same name")
    if learned["taken by another"] > 0.5 and learned["taken where pages merge"] < 0.3:
        said.append("another old page fits it as well or better")
    if k == best[0] and len(best) > 1 and weighed.chances[best[1]] > 0.4 * weighed.chances[k]:
        said.append("another page fits nearly as well")
    if k != best[0]:
        said.append(_why_behind(weighed, pages, k, best[0], figures))
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


def _why_behind(
    weighed: Weighed,
    pages: Sequence[MatchPage],
    k: int,
    first: int,
    told: Mapping[str, float],
) -> str:
    """What makes the first proposal likelier than the pair k of the same old page: of all that the
    weights say for it, what weighs most. told: the figures of the pair of which it is said already.
    """
    figures = np.concatenate(
        [table[first].astype(float) - table[k] for table in (weighed.seen.figures, weighed.learned)]
    )
    better = _IN_KIND @ (figures * choice_model.SECOND.weights)
    most = int(better.argmax())
    kind, ahead = _NAMES[most], better[most]
    if ahead < _NEARLY:
        return "the first fits a little better"
    if told.get(f"other {kind}"):
        return "the first fits better"
    if kind == "words" and (lacks := _lacking(weighed, pages, k, first)):
        return f"the first fits better: this one lacks {lacks}"
    return f"the first fits better: {_BEHIND[kind]}"


_NAMES = tuple(_KINDS)
_IN_KIND = np.array(
    [[name in names for name in scoring.SECOND] for names in _KINDS.values()], float
)
"""One row a kind, one column a name in scoring.SECOND."""


def _lacking(weighed: Weighed, pages: Sequence[MatchPage], k: int, first: int) -> str:
    """The rarest words of the old page that the first new page has, and that of the pair k lacks,
    quoted.
    """
    old = weighed.sides.old.readings[int(weighed.seen.old[k])]
    one, other = (int(weighed.seen.new[n]) for n in (first, k))
    has = _words_of(weighed.sides.new.readings[one])
    lacks = {*old.slug, *old.title, *old.extra} & has
    lacks -= _words_of(weighed.sides.new.readings[other])
    return _quoted(weighed, lacks, pages[one])


def _words_of(page: PageWords) -> set[str]:
    return {*page.slug, *page.title, *page.extra, *page.context}


def _common_words(weighed: Weighed, old: PageWords, new: PageWords, page: MatchPage) -> str:
    """The rarest words that both pages have, quoted."""
    return _quoted(weighed, {*old.slug, *old.title, *old.extra} & _words_of(new), page)


def _quoted(weighed: Weighed, words: Iterable[str], page: MatchPage) -> str:
    """The rarest of the words, as the page writes them; empty where none tells anything."""
    weight_of = weighed.sides.weight_of
    telling = [w for w in words if not w.isdigit() and weight_of[w] >= _TELLING]
    if not telling:
        return ""
    ordered = sorted(telling, key=lambda w: (-weight_of[w], w))
    texts = " ".join((unquote(page.path), *page.params, *page.words, page.title))
    written = weighed.sides.words.written(texts)
    quoted = [f"“{written.get(w, w)}”" for w in ordered[:_MOST_WORDS]]
    return f"the word {quoted[0]}" if len(quoted) == 1 else f"the words {', '.join(quoted)}"
