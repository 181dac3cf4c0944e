"""Damaged addresses: truncated, punctuated and mistyped ones, recognised against the pages that
there are.
"""

from __future__ import annotations

import re
from collections import defaultdict
from collections.abc import Iterable
from typing import NamedTuple

from upright_ledger.core.url.request_target import lower_ascii
from upright_ledger.core.word import Word


class DamageKind(Word):
    """What became of an address on its way."""

    PUNCTUATION = "punctuation stuck to it"
    TRUNCATED = "cut off"
    MISTYPED = "mistyped"


_TAIL = re.compile((
    r"(?:%2[0-9a-f]|%3[a-e]|%5[bd]|%7[bd]|%e2%80%[0-9a-f]{2}|&(?:amp|quot|gt|lt)?;?|[.,"
    r";:!?)\]}>'\"*_~|\\-])+/?\Z"
), re.IGNORECASE)  # fmt: skip
_LEAST = 6  # letters of a last segment that may be cut off or mistyped
_LEAST_CUT = 4  # letters that a cut-off segment still has


class MeantPage(NamedTuple):
    """What an address was meant to be: the page, and what happened to it."""

    page: str
    damage: str


class Damage:
    """Known pages, to be asked for what a failing path was meant to be. pages: (path, page)."""

    def __init__(self, pages: Iterable[tuple[str, str]]) -> None:
        self._by_plain: dict[str, str] = {}
        self._by_folder: dict[str, list[tuple[str, str]]] = defaultdict(
            list
        )  # folder → (last segment, page)
        for path, page in pages:
            plain = _plain(path)
            if plain in self._by_plain:
                continue
            self._by_plain[plain] = page
            folder, _, name = plain.rpartition("/")
            if name:
                self._by_folder[folder].append((name, page))

    def meant(self, path: str) -> MeantPage | None:
        """The page of whose path a failing one is a damaged form, where there is exactly one."""
        plain = _plain(path)
        if plain in self._by_plain:
            return None
        bare = _plain(_TAIL.sub("", lower_ascii(path)))
        if bare and bare in self._by_plain:
            return MeantPage(self._by_plain[bare], DamageKind.PUNCTUATION)
        folder, _, name = plain.rpartition("/")
        beside = self._by_folder.get(folder, ())
        if len(name) >= _LEAST_CUT:
            begun = [full for other, full in beside if other.startswith(name) and other != name]
            if len(begun) == 1:
                return MeantPage(begun[0], DamageKind.TRUNCATED)
        if len(name) >= _LEAST:
            near = [full for other, full in beside if _is_near(name, other)]
            if len(near) == 1:
                return MeantPage(near[0], DamageKind.MISTYPED)
        return None


def _plain(path: str) -> str:
    return lower_ascii(path).rstrip("/")


def _is_near(one: str, other: str) -> bool:
    """Whether two names differ by one letter (two, where they are long), or by two that changed
    places; figures are never mistyped.
    """
    from rapidfuzz.distance import OSA

    most = 1 if len(other) < 12 else 2
    if one == other or abs(len(one) - len(other)) > most:
        return False
    return [c for c in one if c.isdigit()] == [c for c in other if c.isdigit()] and OSA.distance(
        one, other, score_cutoff=most
    ) <= most
