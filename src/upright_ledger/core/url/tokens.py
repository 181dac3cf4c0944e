"""Words: what an address or a title says, as comparable tokens."""

from __future__ import annotations

import re
import unicodedata
from urllib.parse import unquote

from anyascii import anyascii

from upright_ledger.core.url.unspaced import spaced

_LETTERS_DIGITS = re.compile(r"[a-z]+|[0-9]+")
_SPELLED = re.compile(r"[^\W\d_]+|[0-9]+")
_WORD = re.compile(r"[^\s\x00-/:-@\[-`{-\x7f]+")
_ENDING = re.compile(r"\.(?:html?|shtml|xhtml|php\d?|aspx?|jsp|cfm|cgi|pl)$", re.IGNORECASE)
_CAMEL = re.compile(r"(?<=[a-z])(?=[A-Z])")

STOP_WORDS = frozenset(
    [
        "a",
        "an",
        "and",
        "at",
        "by",
        "for",
        "from",
        "how",
        "in",
        "is",
        "it",
        "its",
        "of",
        "on",
        "or",
        "our",
        "the",
        "this",
        "to",
        "with",
        "what",
        "your",
        "you",
        "we",
        "der",
        "die",
        "das",
        "und",
        "ein",
        "eine",
        "im",
        "am",
        "zu",
        "von",
        "mit",
        "fur",
        "den",
        "dem",
        "des",
        "auf",
        "le",
        "la",
        "les",
        "de",
        "du",
        "des",
        "et",
        "un",
        "une",
        "en",
        "au",
        "aux",
        "el",
        "los",
        "las",
        "y",
        "del",
        "index",
        "page",
        "id",
        "www",
    ],
)
_TWO_LETTERS = re.compile(r"([aou])e")


class _Transliteration(dict[int, str]):
    """What stands for a character in ASCII, looked up once."""

    def __missing__(self, code: int) -> str:
        found = self[code] = anyascii(chr(code))
        return found


_ASCII = _Transliteration()


def plain(text: str) -> str:
    """Lower-case ASCII letters: diacritics go, other scripts are transliterated."""
    return (
        text.lower()
        if text.isascii()
        else unicodedata.normalize("NFC", text).translate(_ASCII).lower()
    )


def tokens(text: str) -> list[str]:
    """The words and numbers of a text, stop words left out unless there are no others, letters and
    digits apart.
    """
    found = _runs(text)
    telling = [t for t in found if t not in STOP_WORDS] or found
    return [_SPELLINGS[t] for t in telling]


def as_written(text: str) -> dict[str, str]:
    """Each of the tokens of a text → the letters in which it stands there."""
    if text.isascii():
        return {_SPELLINGS[run]: run for run in _runs(text)}
    found: dict[str, str] = {}
    for word in _WORD.findall(_apart(text)):
        runs = _LETTERS_DIGITS.findall(plain(word))
        own = _letters(word) if len(runs) == 1 and not word.isascii() else ""
        found |= {_SPELLINGS[run]: own or run for run in runs}
    return found


def _letters(word: str) -> str:
    """A word in small letters, without what else stands before and behind it."""
    return "".join(c for c in word.lower() if unicodedata.category(c)[0] in "LMN")


def spelled_words(text: str) -> list[str]:
    """The words and numbers of a text as they are written, in small letters: none is left out, and
    none loses its ending.
    """
    return _SPELLED.findall(text if text.islower() else _CAMEL.sub(" ", text).lower())


def _runs(text: str) -> list[str]:
    """The runs of letters and of digits in a text; a capital within a word begins another one."""
    return _LETTERS_DIGITS.findall(plain(_apart(text)))


def _apart(text: str) -> str:
    """A text with blanks where a word ends without one."""
    return spaced(text if text.islower() else _CAMEL.sub(" ", text))


class _Spellings(dict[str, str]):
    """One spelling for a word with and without plural or umlaut, and for a number with and without
    leading zeros; worked out once, as most words come often.
    """

    def __missing__(self, word: str) -> str:
        if len(self) >= _MOST_SPELLINGS:
            self.clear()
        found = self[word] = (
            word.lstrip("0") or "0" if word.isdigit() else _TWO_LETTERS.sub(r"\1", stem(word))
        )
        return found


_MOST_SPELLINGS = 1 << 18
_SPELLINGS = _Spellings()


def stem(word: str) -> str:
    """Fold English plurals, so that "clocks" and "clock" meet. Short words and numbers stay."""
    if len(word) > 4 and word.endswith("ies"):
        return word[:-3] + "y"
    if len(word) > 3 and word.endswith("s") and not word.endswith(("ss", "us", "is")):
        return word[:-1]
    return word


def path_parts(path: str) -> list[str]:
    """The segments of a path, decoded, the last without a page ending such as ".html"."""
    parts = [unquote(p) if "%" in p else p for p in path.split("/") if p]
    if parts:
        parts[-1] = _ENDING.sub("", parts[-1])
    return parts


def without_ending(path: str) -> tuple[str, str]:
    """A path without its page ending or closing slash, and that ending."""
    found = _ENDING.search(path)
    stem = path[: found.start()] if found else path.rstrip("/")
    return stem, path[len(stem) :].lower()


def is_year(word: str) -> bool:
    """Whether a number may be a year."""
    return len(word) == 4 and 1900 <= int(word) <= 2100
