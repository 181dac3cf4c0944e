"""Scripts that write no blanks between words: pieces of their texts that can be compared as words.

Where a word ends only a dictionary knows. Two texts that say the same share most of their pieces
all the same, in whatever order they say it: of Chinese characters each two neighbours, of kana a
run of either kind, of South-East Asian syllables each two neighbours.
"""

from __future__ import annotations

import re
import unicodedata

_HAN = "\u3005\u3400-\u4dbf\u4e00-\u9fff\uf900-\ufaff\U00020000-\U0003ffff"
_HIRAGANA = "\u3041-\u309f"
_KATAKANA = "\u30a1-\u30fa\u30fc-\u30ff\u31f0-\u31ff\uff66-\uff9f"
_ALPHABETS = "\u0e01-\u0e4e\u0e81-\u0ece\u1000-\u103f\u1050-\u109f\u1780-\u17d3"
"""Thai, Lao, Burmese, Khmer, without their digits and marks between sentences."""

LETTER = f"[{_HAN}{_HIRAGANA}{_KATAKANA}{_ALPHABETS}]"
"""A letter of such a script, as a regular expression."""

UNSPACED = re.compile(f"{LETTER}+")
"""A stretch of such letters."""
_ONE_HAN = re.compile(f"[{_HAN}]")
_RUN = re.compile(
    f"(?P<han>[{_HAN}]+)|(?P<hiragana>[{_HIRAGANA}]+)|(?P<katakana>[{_KATAKANA}]+)"
    f"|(?P<letters>[{_ALPHABETS}]+)"
)


def holds_unspaced(text: str) -> bool:
    """Whether a text holds letters of such a script."""
    return not text.isascii() and UNSPACED.search(text) is not None


def is_han(text: str) -> bool:
    """Whether a text begins with a Chinese character, which may be a word by itself."""
    return _ONE_HAN.match(text) is not None


def spaced(text: str) -> str:
    """A text with the pieces of such scripts apart; others as they are. A single hiragana goes, as
    it is a particle or an ending, unless there is nothing else.
    """
    if text.isascii():
        return text
    apart = UNSPACED.sub(_apart, text)
    return text if apart.isspace() else apart


def runs(text: str) -> list[str]:
    """The parts of a text of such letters, each in one kind of them."""
    return [found[0] for found in _RUN.finditer(text)]


def _apart(found: re.Match[str]) -> str:
    pieces: list[str] = []
    for run in _RUN.finditer(unicodedata.normalize("NFKC", found[0])):
        if run["han"]:
            pieces += _neighbours([*run[0]], 2)
        elif run["letters"]:
            pieces += _neighbours(syllables(run[0]), 2)
        elif run["katakana"] or len(run[0]) > 1:
            pieces.append(run[0])
    return f" {' '.join(pieces)} "


def _neighbours(parts: list[str], length: int) -> list[str]:
    if len(parts) <= length:
        return ["".join(parts)]
    return ["".join(parts[at : at + length]) for at in range(len(parts) - length + 1)]


def syllables(text: str) -> list[str]:
    """Letters, each with the signs on it and the vowels that cannot stand without it."""
    parts: list[str] = []
    for letter in text:
        leans = unicodedata.category(letter) in ("Mn", "Mc") or letter in _AFTER
        if parts and (leans or parts[-1][-1] in _BEFORE):
            parts[-1] += letter
        else:
            parts.append(letter)
    return parts


_BEFORE = "\u0e40\u0e41\u0e42\u0e43\u0e44\u0ec0\u0ec1\u0ec2\u0ec3\u0ec4\u1039\u17d2"
"""What a consonant follows: vowels of Thai and Lao, signs of Burmese and Khmer."""
_AFTER = "\u0e30\u0e32\u0e33\u0e45\u0eb0\u0eb2\u0eb3\u30fc\u3005"
"""Vowels of Thai and Lao behind their consonant; marks of length and of repetition."""
