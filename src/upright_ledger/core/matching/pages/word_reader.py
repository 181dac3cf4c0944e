"""Texts of two sites taken apart: by their own words, where they write no blanks between them."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from functools import lru_cache

from upright_ledger.core.matching.pages.word_breaks import break_words
from upright_ledger.core.url.tokens import as_written, tokens
from upright_ledger.core.url.unspaced import holds_unspaced


class WordReader:
    """Takes texts apart. Both sites have many in common, so that what was read is remembered, and
    shared: nobody changes it.
    """

    def __init__(self, texts: Iterable[str] = ()) -> None:
        known = [text for text in texts if holds_unspaced(text)]
        self._broken: Callable[[str], str] = break_words(known) if known else str
        self.read = lru_cache(maxsize=1 << 17)(self._read)

    def _read(self, text: str) -> list[str]:
        return tokens(self._broken(text))

    def forget(self) -> None:
        """Let go of what was read: it is large, and both sites are taken apart."""
        self.read.cache_clear()

    def written(self, text: str) -> dict[str, str]:
        """Each word of a text → the letters in which it stands there."""
        return as_written(self._broken(text))


USUAL_WORDS = WordReader()
