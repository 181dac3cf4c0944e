"""Matching: for each old page the new page that took its place, with a confidence and reasons.

Candidates come from one sparse product of weighted words (rare ones weigh more) over both lists.
Only these few are then looked at closely, by features that a person would look at too.
"""

from __future__ import annotations

import math
from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from rapidfuzz import process
from rapidfuzz.distance import JaroWinkler
from scipy import sparse

from upright_ledger.core.words import identifiers, path_parts, tokens

CANDIDATES = 10
BLOCK = 2000
FLOOR = 0.35
COMMON_SHARE = 0.2  # words in more than a fifth of all pages find nothing
MAX_SAME = 3
LEAST_AGREEING = 5


@dataclass(frozen=True, slots=True)
class MatchPage:
    """A page to match: `name` comes back in the result; path as in the address; params: values in its query."""

    name: str
    path: str
    title: str = ""
    params: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class Proposal:
    """A possible destination. confidence: 0 to 1. reasons: short plain sentences."""

    name: str
    confidence: float
    reasons: tuple[str, ...]


@dataclass(slots=True)
class _Reading:
    """A page as words: its last path segment (slug), the segments before it, its title, its numbers.

    place: where the page lies, as a text that its neighbours share. ids: numbers that name one thing.
    given: those that a parameter of the address gives. ends: numbers at either end of the slug. yearlike:
    those of them that may be a year as well, and count only where a parameter on the other side gives them.
    """

    place: str

    slug: list[str]
    context: list[str]
    title: list[str]
    ids: frozenset[str]
    given: frozenset[str]
    yearlike: frozenset[str]
    ends: frozenset[str]

    def same_numbers(self, other: _Reading) -> frozenset[str]:
        return (self.ids & (other.ids | other.yearlike)) | (other.given & self.yearlike)


def _read(page: MatchPage) -> _Reading:
    parts = path_parts(page.path)
    slug = tokens(parts[-1]) if parts else []
    context = [t for p in parts[:-1] for t in tokens(p)]
    values = [t for v in page.params for t in tokens(v)]
    if values:
        context, slug = context + slug, values
    title = tokens(page.title)
    given = frozenset(w for w in values if w.isdigit() and len(w) >= 3)
    numbers = identifiers(slug + context)
    ends = frozenset(w for w in (slug[:1] + slug[-1:]) if w.isdigit())
    yearlike = frozenset(w for w in ends if len(w) == 4) - numbers
    place = f"{page.path}?" if page.params else page.path.rstrip("/").rpartition("/")[0]
    return _Reading(place, slug, context, title, numbers | given, given, yearlike, ends)


def propose(old: Sequence[MatchPage], new: Sequence[MatchPage]) -> dict[str, list[Proposal]]:
    """Up to three proposals for each old page, the best first; pages without a plausible one are left out.

    The caller leaves home pages out of `new`: they are no answer for an inner page.
    """
    if not old or not new:
        return {}
    old_read, new_read = [_read(p) for p in old], [_read(p) for p in new]
    weights = _weights([*old_read, *new_read])
    candidates = _candidates(old_read, new_read, weights)
    carried = _carried_numbers(old_read, new_read, candidates, weights)
    found: dict[str, list[Proposal]] = {}
    for i, few in enumerate(candidates):
        scored = [(_score(old_read[i], new_read[j], weights, carried), j) for j in few]
        scored.sort(key=lambda s: (-s[0][0], new[s[1]].name))
        proposals = _confident(scored, new)
        if proposals:
            found[old[i].name] = proposals
    return found


@dataclass(frozen=True, slots=True)
class _CarriedNumbers:
    """Which numbers name one page alone, and between which places numbers are known to be carried over."""

    carriers: Counter[str]
    places: frozenset[tuple[str, str]]

    def is_sure(self, number: str, old: _Reading, new: _Reading) -> bool:
        return (
            number in new.ends
            and len(number) >= 3
            and self.carriers[number] == 1
            and (old.place, new.place) in self.places
        )


def _carried_numbers(
    old: list[_Reading], new: list[_Reading], candidates: list[list[int]], weights: dict[str, float]
) -> _CarriedNumbers:
    """Learn from pages that share a number and words or a title, and from those that share the number alone.

    Item 2300 of a catalogue may live on as page 2300 of a collection; ticket 2300 does not. Only a pair of
    places where numbers and words agree in most cases is trusted.
    """
    carriers = Counter(number for page in new for number in page.ids | page.yearlike)
    agree: Counter[tuple[str, str]] = Counter()
    differ: Counter[tuple[str, str]] = Counter()
    for page, few in zip(old, candidates, strict=True):
        for j in few:
            other = new[j]
            if page.same_numbers(other) and (page.title or page.slug):
                likeness = max(
                    _alike(page.title, other.title, weights),
                    _alike(page.slug, other.slug, weights),
                    _alike(page.title, other.slug, weights),
                )
                if likeness >= 0.5:
                    agree[page.place, other.place] += 1
                elif likeness < 0.25 and page.title:
                    differ[page.place, other.place] += 1
    return _CarriedNumbers(
        carriers, frozenset(p for p, n in agree.items() if n >= LEAST_AGREEING and n > 4 * differ[p])
    )


def _confident(scored: list[tuple[tuple[float, list[str]], int]], new: Sequence[MatchPage]) -> list[Proposal]:
    """Turn scores into confidences: a close second takes away from the first."""
    out = []
    for n, ((score, reasons), j) in enumerate(scored[:MAX_SAME]):
        rival = scored[1][0][0] if n == 0 and len(scored) > 1 else (scored[0][0][0] if n else 0.0)
        doubt = max(0.0, 1.0 - (score - rival) / 0.12) if n == 0 and rival else (1.0 if n else 0.0)
        confidence = score * (1.0 - 0.45 * min(1.0, doubt))
        if confidence < FLOOR:
            continue
        shown = [*reasons, "another page fits nearly as well"] if n == 0 and doubt > 0.5 else reasons
        out.append(Proposal(new[j].name, round(confidence, 3), tuple(shown)))
    return out


def _weights(pages: list[_Reading]) -> dict[str, float]:
    """Inverse document frequency of every word, over both lists; words nearly everywhere weigh next to nothing."""
    counts: Counter[str] = Counter()
    for page in pages:
        counts.update({*page.slug, *page.context, *page.title})
    total = len(pages)
    return {w: math.log((1 + total) / (1 + n)) for w, n in counts.items()}


def _candidates(old: list[_Reading], new: list[_Reading], weights: dict[str, float]) -> list[list[int]]:
    """For each old page the numbers of the most alike new pages, by weighted words and word beginnings."""
    cap = math.log(1 / COMMON_SHARE)
    vocabulary: dict[str, int] = {}

    def matrix(pages: list[_Reading]) -> Any:
        rows, columns, values = [], [], []
        for i, page in enumerate(pages):
            bag: dict[str, float] = {}
            for words, factor in ((page.slug, 1.0), (page.title, 0.8), (page.context, 0.3)):
                for w in words:
                    weight = weights[w] * factor
                    if weights[w] >= cap or len(pages) < 50 or w in page.ids:
                        bag[w] = max(bag.get(w, 0.0), weight)
                        if len(w) > 5 and not w.isdigit():
                            bag[f"{w[:4]}~"] = max(bag.get(f"{w[:4]}~", 0.0), weight * 0.4)
            for number in page.ids:
                bag[number] = max(bag.get(number, 0.0), weights.get(number, 1.0) * 1.2)
            norm = math.sqrt(sum(v * v for v in bag.values())) or 1.0
            for w, v in bag.items():
                rows.append(i)
                columns.append(vocabulary.setdefault(w, len(vocabulary)))
                values.append(v / norm)
        return rows, columns, values

    left, right = matrix(old), matrix(new)
    size = len(vocabulary)
    a = sparse.csr_matrix((left[2], (left[0], left[1])), shape=(len(old), size), dtype=np.float32)
    b = sparse.csr_matrix((right[2], (right[0], right[1])), shape=(len(new), size), dtype=np.float32).T.tocsr()
    found: list[list[int]] = []
    for at in range(0, len(old), BLOCK):
        product = (a[at : at + BLOCK] @ b).tocsr()
        for i in range(product.shape[0]):
            row = slice(product.indptr[i], product.indptr[i + 1])
            values, columns = product.data[row], product.indices[row]
            # Equal scores are cut by column, so that the result is the same on every machine.
            order = np.lexsort((columns, -values))[:CANDIDATES]
            found.append([int(columns[k]) for k in order])
    return found


def _score(
    old: _Reading, new: _Reading, weights: dict[str, float], carried: _CarriedNumbers
) -> tuple[float, list[str]]:
    """How well two pages fit, 0 to 1, and why."""
    reasons: list[str] = []
    slug = _alike(old.slug, new.slug, weights)
    title = _alike(old.title, new.title, weights)
    # A title may carry what the address lacks (item numbers), and the other way about.
    crossed = max(_alike(old.title, new.slug, weights), _alike(old.slug, new.title, weights))
    same_ids = old.same_numbers(new)
    other_id = bool(old.ids and new.ids and not same_ids)
    words = max(slug, 0.92 * crossed)
    both_titled = bool(old.title and new.title)
    best = max(0.62 * title + 0.38 * words, 0.93 * title, 0.88 * words) if both_titled else 0.95 * words
    context = _alike(old.context, new.context, weights)
    if same_ids:
        number = min(same_ids, key=lambda n: (carried.carriers[n], -len(n), n))
        contradicted = both_titled and max(title, words) < 0.25
        # Where numbers are carried over, one that a single page has is as good as a name. Elsewhere it only helps.
        least = 0.92 if carried.is_sure(number, old, new) and not contradicted else 0.5
        best = max(best, least) + 0.3 * (1 - max(best, least)) * max(title, words)
        reasons.append(f"carries the same number {number}")
    elif other_id:
        best *= 0.6
        reasons.append("carries another number")
    best = min(1.0, best + 0.05 * context * (1 - best))
    if title > 0.95:
        reasons.insert(0, "has the same title")
    elif title > 0.6:
        reasons.append("has a similar title")
    if slug > 0.95 and old.slug:
        reasons.append("has the same words in its address")
    elif words > 0.6:
        reasons.append("has similar words in its address or title")
    if context > 0.5:
        reasons.append("lies in a section of the same name")
    return best, reasons or ["shares a few words"]


def _alike(left: list[str], right: list[str], weights: dict[str, float]) -> float:
    """Weighted share of common words, near spellings counting in part (0 to 1)."""
    if not left or not right:
        return 0.0
    if left == right:
        return 1.0
    one, other = set(left), set(right)
    common = one & other
    shared = sum(weights.get(w, 1.0) for w in common)
    rest = sorted(w for w in other - common if not w.isdigit())
    lonely = 0.0
    for w in sorted(one - common):
        weight = weights.get(w, 1.0)
        near = _nearest(w, rest) if rest and len(w) > 3 and not w.isdigit() else None
        if near:
            shared += weight * near[1] * 0.95
            rest.remove(near[0])
        else:
            lonely += weight
    lonely += 0.8 * sum(weights.get(r, 1.0) for r in (*rest, *(w for w in other - common if w.isdigit())))
    total = shared + lonely
    return shared / total if total else 0.0


def _nearest(word: str, others: list[str]) -> tuple[str, float] | None:
    """The most alike of some words, as a misspelling of `word`, with its likeness (0 to 1)."""
    found = process.extractOne(word, others, scorer=JaroWinkler.similarity, score_cutoff=0.88)
    return (str(found[0]), float(found[1])) if found else None
