"""Answers as a ledger tells many of them: as columns."""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple

from upright_ledger.core.rules.exact_rule import GONE

STATUSES = frozenset({301, 308, GONE})
"""Those of plain answers: moves for a time are a finding."""


class Told(NamedTuple):
    """Answers that may be plain, as columns of equal length: of entries with one variant at most,
    which nothing contests, and no parameters. old: the address as it was given with the answer, or
    empty; url: by which the entry is called: its variant, where it has one.
    """

    entry: Sequence[int] = ()
    site: Sequence[str] = ()
    key: Sequence[str] = ()
    url: Sequence[str] = ()
    variants: Sequence[int] = ()
    status: Sequence[int] = ()
    destination: Sequence[str] = ()
    query: Sequence[str] = ()
    old: Sequence[str] = ()


NOTHING_TOLD = Told()
