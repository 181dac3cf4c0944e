"""Closed sets of words that files, outputs and the ledger hold as plain text."""

from __future__ import annotations

from enum import StrEnum


class Word(StrEnum):
    """One word of such a set. It is its text wherever it is written, in messages and digests too,
    while a misspelt one is found by the type checker.
    """

    def __repr__(self) -> str:
        return repr(self.value)
