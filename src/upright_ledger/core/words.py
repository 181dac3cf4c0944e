"""Words: what an address or a title says, as comparable tokens."""

from __future__ import annotations

import re
import unicodedata
from urllib.parse import unquote

_SPLIT = re.compile(r"[^a-z0-9]+")
_LETTERS_DIGITS = re.compile(r"[a-z]+|[0-9]+")
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
        "html",
        "htm",
        "php",
        "asp",
        "aspx",
        "index",
        "page",
        "id",
        "www",
    ],
)
_SPECIAL = str.maketrans({"ß": "ss", "æ": "ae", "ø": "o", "œ": "oe", "ł": "l", "đ": "d", "þ": "th", "ð": "d"})


def plain(text: str) -> str:
    """Lower-case ASCII letters where there are some: diacritics go, a few letters are spelled out."""
    lowered = unicodedata.normalize("NFKD", text.casefold().translate(_SPECIAL))
    return "".join(c for c in lowered if not unicodedata.combining(c))


def tokens(text: str) -> list[str]:
    """The words and numbers of a text, stop words left out, letters and digits apart."""
    found = []
    for part in _SPLIT.split(plain(_CAMEL.sub(" ", text))):
        found += [t for t in _LETTERS_DIGITS.findall(part) if t not in STOP_WORDS]
    return [stem(t) for t in found]


def stem(word: str) -> str:
    """Fold English plurals, so that "clocks" and "clock" meet. Short words and numbers stay."""
    if len(word) > 4 and word.endswith("ies"):
        return word[:-3] + "y"
    if len(word) > 3 and word.endswith("s") and not word.endswith(("ss", "us", "is")):
        return word[:-1]
    return word


def path_parts(path: str) -> list[str]:
    """The segments of a path, decoded, the last without a page ending such as ".html"."""
    parts = [unquote(p) for p in path.split("/") if p]
    if parts:
        parts[-1] = _ENDING.sub("", parts[-1])
    return parts


def identifiers(words: list[str]) -> frozenset[str]:
    """Numbers that may name one thing: three digits or more, and no plausible year."""
    return frozenset(w.lstrip("0") or "0" for w in words if w.isdigit() and len(w) >= 3 and not _is_year(w))


def _is_year(word: str) -> bool:
    return len(word) == 4 and 1900 <= int(word) <= 2100
