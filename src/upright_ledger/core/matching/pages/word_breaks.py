"""Where words end in scripts that write no blanks, found by what two sites' own titles repeat.

A word is what comes back in several titles beside other things. Those words are kept that spell
all titles the shortest, their own list included (a minimum description length, as in C. de Marcken,
"Unsupervised Language Acquisition", 1996), and each title is cut into the likeliest of them.
"""

from __future__ import annotations

import math
import re
from collections import Counter
from collections.abc import Callable, Iterable, Mapping
from itertools import chain

from upright_ledger.core.url.unspaced import UNSPACED, is_han, runs, syllables

_LONGEST = 8
"""Syllables of a word."""
_FEWEST = 3
"""How often a word is seen at least."""
_ROUNDS = 4
_ENOUGH = 300_000
"""Syllables, about, of different runs of letters from which words are learned."""
_UNKNOWN = 12.0
"""What a syllable costs that no word explains, in nats."""


def break_words(texts: Iterable[str]) -> Callable[[str], str]:
    """What puts blanks between the words of a text, by what is repeated in these."""
    told = {run for text in texts if not text.isascii() for run in _runs(text)}
    step = 1 + sum(map(len, told)) // _ENOUGH
    learned = [tuple(syllables(run)) for run in sorted(told)[::step]]
    words = _learn(learned)

    def broken(found: re.Match[str]) -> str:
        told = (_whole(_cut(tuple(syllables(run)), words)) for run in runs(found[0]))
        return " ".join(chain.from_iterable(told))

    return lambda text: text if text.isascii() else UNSPACED.sub(broken, text)


def _runs(text: str) -> Iterable[str]:
    for found in UNSPACED.finditer(text):
        yield from runs(found[0])


_Word = tuple[str, ...]


def _learn(told: list[_Word]) -> dict[_Word, float]:
    """Words → their costs in nats."""
    syllable = math.log(len({part for run in told for part in run}) or 1)
    costs = _costs(_repeated(told))
    for _ in range(_ROUNDS):
        counts = _frequent(Counter(word for run in told for word in _cut(run, costs)))
        costs = _costs(counts)
        for word in sorted(counts, key=len, reverse=True):
            if len(word) > 1:
                cost = costs.pop(word)
                # Worth a place only where it shortens what is told by more than it takes to say.
                if (_cost(_cut(word, costs), costs) - cost) * counts[word] > syllable * len(word):
                    costs[word] = cost
    return costs


def _repeated(told: list[_Word]) -> Counter[_Word]:
    """What is repeated, with how often; longer parts of a run only where both shorter ones are."""
    found: Counter[_Word] = Counter()
    for length in range(1, _LONGEST + 1):
        found |= _frequent(
            Counter(
                run[at : at + length]
                for run in told
                for at in range(len(run) - length + 1)
                if length == 1
                or (run[at : at + length - 1] in found and run[at + 1 : at + length] in found)
            )
        )
    return found


def _frequent(counts: Counter[_Word]) -> Counter[_Word]:
    return Counter({word: n for word, n in counts.items() if n >= _FEWEST})


def _costs(counts: Mapping[_Word, int]) -> dict[_Word, float]:
    whole = math.log(sum(counts.values()) or 1)
    return {word: whole - math.log(n) for word, n in counts.items()}


def _cost(words: Iterable[_Word], costs: Mapping[_Word, float]) -> float:
    return sum(costs.get(word, _UNKNOWN * len(word)) for word in words)


def _cut(run: _Word, costs: Mapping[_Word, float]) -> list[_Word]:
    """The cheapest words that spell a run."""
    best, back = [0.0], [0]
    for end in range(1, len(run) + 1):
        # What no word explains is told syllable by syllable.
        least, begin = best[end - 1] + costs.get(run[end - 1 : end], _UNKNOWN), end - 1
        for at in range(end - 2, max(0, end - _LONGEST) - 1, -1):
            cost = costs.get(run[at:end])
            if cost is not None and best[at] + cost <= least:
                least, begin = best[at] + cost, at
        best.append(least)
        back.append(begin)
    words: list[_Word] = []
    end = len(run)
    while end:
        words.append(run[back[end] : end])
        end = back[end]
    return words[::-1]


def _whole(cut: Iterable[_Word]) -> list[str]:
    """Words with what no word explains in one: syllables that stand alone."""
    words: list[list[str]] = []
    alone = False
    for word in cut:
        if len(word) == 1 and (alone or (words and not is_han(word[0]))):
            words[-1] += word
        else:
            words.append([*word])
            alone = len(word) == 1
    return ["".join(word) for word in words]
