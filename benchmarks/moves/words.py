"""Syllables, words and forms of made-up sites."""

from __future__ import annotations

import random

from upright_ledger.core.matching import MatchPage

ONSETS = [
    "b",
    "br",
    "c",
    "ch",
    "cl",
    "d",
    "dr",
    "f",
    "fl",
    "g",
    "gr",
    "h",
    "j",
    "k",
    "l",
    "m",
    "n",
    "p",
    "pl",
    "pr",
    "qu",
    "r",
    "s",
    "sh",
    "sl",
    "st",
    "t",
    "th",
    "tr",
    "v",
    "w",
    "z",
]


VOWELS = ["a", "e", "i", "o", "u", "ai", "ea", "ee", "io", "oa", "ou", "ä", "ö", "ü", "é"]


CODAS = ["", "", "n", "r", "l", "s", "t", "nd", "rt", "ck", "m", "ng", "st"]


FILLERS = ["the", "a", "of", "and", "in", "for", "to", "with", "how", "your"]


def misspelt(chance: random.Random, word: str) -> str:
    at = chance.randrange(len(word))
    kind = chance.randrange(3)
    if kind == 0:
        return word[:at] + word[at + 1 :] or word
    if kind == 1:
        return word[:at] + word[at] + word[at:]
    return (
        word[: at - 1] + word[at] + word[at - 1] + word[at + 1 :]
        if at
        else word + chance.choice("aeiou")
    )


def slug(words: list[str]) -> str:
    from upright_ledger.core.url.tokens import plain

    return "-".join(plain(w) for w in words)


def fill(form: str, words: list[str], facts: dict[str, object]) -> str:
    name = slug(words)
    camel = "".join(w.title() for w in name.split("-"))
    parts = name.split("-")
    texts = {"slug": name, "camel": camel, "under": "_".join(parts), "rev": "_".join(parts[::-1])}
    return form.format(**texts, **facts)


def page(name: str, target: str, title: str) -> MatchPage:
    path, _, query = target.partition("?")
    return MatchPage(name, path, title, tuple(p.partition("=")[2] for p in query.split("&") if p))
