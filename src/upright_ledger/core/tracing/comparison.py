"""Reconciling: two runs side by side, and whether a page that took another's place is about the
same.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Sequence
from dataclasses import dataclass

from upright_ledger.core.tracing.verdicts import ORDER, Verdict
from upright_ledger.core.url.tokens import tokens
from upright_ledger.core.word import Word


class Compared(Word):
    """What became of a URL from one run to the next. ELSEWHERE: as well as before, and it ends
    at another address. CONTENT: the page where a URL lands now says nothing of what the old
    page was about.
    """

    BETTER = "better"
    WORSE = "worse"
    SAME = "same"
    ELSEWHERE = "elsewhere"
    ADDED = "added"
    MISSING = "missing"
    CONTENT = "content-changed"


UNLIKE = 0.2
"""Titles, and texts, that share fewer of their words are about something else."""

_ALIKE_TITLES = 0.5  # and more: the same page, whatever its text has become
_LEAST_TEXT = 8  # words; fewer say too little

_COMMON = 0.3  # of all titles; words of so many are the site's name
_MANY = 8  # titles; of fewer ones, words that all of them hold are taken for common

_RANK = {verdict: n for n, verdict in enumerate(ORDER)}


@dataclass(frozen=True, slots=True)
class Ended:
    """How a URL ended in one run."""

    verdict: Verdict
    final_url: str


def compared(before: Ended | None, after: Ended | None) -> Compared:
    """What became of a URL."""
    if before is None:
        return Compared.ADDED
    if after is None:
        return Compared.MISSING
    if before.verdict != after.verdict:
        return Compared.BETTER if _RANK[after.verdict] > _RANK[before.verdict] else Compared.WORSE
    return Compared.SAME if before.final_url == after.final_url else Compared.ELSEWHERE


def common_words(titles: Iterable[str]) -> frozenset[str]:
    """Words that so many titles hold that they tell pages apart no more: the name of the site,
    say.
    """
    told = [title for title in titles if title]
    different = set(told)
    if len(told) > len(different) == 1:
        return frozenset(tokens(told[0]))  # what every page says tells none of them apart
    counts = Counter(word for title in different for word in set(tokens(title)))
    least = _COMMON * len(different) if len(different) >= _MANY else len(different) - 0.5
    return (
        frozenset(w for w, n in counts.items() if n > least) if len(different) > 1 else frozenset()
    )


def likeness(
    old: Sequence[str], new: Sequence[str], old_common: frozenset[str], new_common: frozenset[str]
) -> float | None:
    """The share of words that the shorter of two pages has in common with the other; None where one
    of them says nothing.

    old, new: what is known of each, as titles and headings; the pair that is most alike counts.
    """
    first = [set(tokens(text)) - old_common for text in old]
    second = [set(tokens(text)) - new_common for text in new]
    return max(
        (len(a & b) / min(len(a), len(b)) for a in first if a for b in second if b), default=None
    )


def text_likeness(
    old: str, new: str, old_common: frozenset[str], new_common: frozenset[str]
) -> float | None:
    """As `likeness`, for samples of two pages' texts; None where one of them says too little."""
    first, second = set(old.split()) - old_common, set(new.split()) - new_common
    if min(len(first), len(second)) < _LEAST_TEXT:
        return None
    return len(first & second) / min(len(first), len(second))


def about_something_else(titles: float | None, texts: float | None) -> bool:
    """Whether two pages are about different things, given how alike their titles and their texts
    are (None: not known).
    """
    if texts is None:
        return titles is not None and titles < UNLIKE
    return texts < UNLIKE and (titles is None or titles < _ALIKE_TITLES)
