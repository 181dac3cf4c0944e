"""Near spellings: words of one site that the other writes a little differently."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from rapidfuzz.distance import DamerauLevenshtein, JaroWinkler, Prefix

from upright_ledger.core.matching.sparse import as_pieces, best_of_product, normed

_SHORTEST, _LONGEST = 4, 40  # letters
_PIECE = 3  # letters; the ends of a word are marked
_TRIED = 4
_LEAST = 0.35  # of the pieces that two spellings share
_SHORTEST_STEM, _LONGEST_ENDING = 6, 5  # letters
_OF_ONE_STEM = 0.7
_MOST_COMMON = 3000  # words that hold one piece; commoner pieces find nothing


def near_spellings(words: Sequence[str], others: Sequence[str]) -> dict[str, tuple[str, float]]:
    """Word → the other word that is most likely meant by it, and how alike they are (0 to 1).
    Numbers have none.
    """
    ours = sorted(w for w in words if _SHORTEST <= len(w) <= _LONGEST and w.isalpha())
    theirs = sorted(w for w in others if _SHORTEST <= len(w) <= _LONGEST and w.isalpha())
    if not ours or not theirs:
        return {}
    marked = ([f"^{word}$" for word in words] for words in (ours, theirs))
    left, right = map(normed, as_pieces(_PIECE, *marked))
    common = np.bincount(right.indices, minlength=right.shape[1]) > _MOST_COMMON
    right.data[common[right.indices]] = 0.0
    rows, columns = best_of_product(left, right, _TRIED, _LEAST)
    best: dict[int, tuple[float, str]] = {}
    for row, column in zip(rows.tolist(), columns.tolist(), strict=True):
        figure = likeness(ours[row], theirs[column])
        if figure > 0:
            best[row] = max(best.get(row, (0.0, "")), (figure, theirs[column]))
    return {ours[row]: (other, figure) for row, (figure, other) in best.items()}


def likeness(word: str, other: str) -> float:
    """How alike two words are as spellings of one: 0 when they are taken for two."""
    if word == other:
        return 1.0
    short, long = sorted((word, other), key=lambda w: (len(w), w))
    if (
        long.startswith(short)
        and len(short) >= 4
        and len(long) - len(short) <= max(2, len(long) // 2)
    ):
        return 0.9 if len(long) - len(short) <= 2 else 0.75  # an ending, or an abbreviation
    allowed = 1 if len(long) < 8 else 2
    if DamerauLevenshtein.distance(word, other, score_cutoff=allowed) > allowed:
        return _OF_ONE_STEM if _have_one_stem(short, long) else 0.0
    if len(short) < 5 and word[0] != other[0]:
        return 0.0
    return float(JaroWinkler.similarity(word, other)) * 0.95


def _have_one_stem(short: str, long: str) -> bool:
    """Whether two words differ in their endings alone, as in "installing" and "installation"."""
    stem = Prefix.similarity(short, long)
    return stem >= _SHORTEST_STEM and len(long) - stem <= _LONGEST_ENDING
