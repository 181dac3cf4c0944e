"""Rows of a sheet of pairs that say plainly what they mean, many at a time, as columns: two whole
addresses in which nothing is to be mended, and a usual status.

All others are read one by one; a property test holds both equal.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from typing import NamedTuple

from upright_ledger.app.decide.pair_rows import read_answer, read_query
from upright_ledger.core.inventory.answer import Decision
from upright_ledger.core.inventory.normalisation import FoldingPolicy
from upright_ledger.core.url.address import NotAnAddressError, parse_address
from upright_ledger.core.url.origins import Sites
from upright_ledger.core.url.query import QueryPolicy
from upright_ledger.formats.tables.pairs import Pair

FEW = 500
"""Rows up to which they are read one by one, as loading what has columns would take longer."""
_LONGEST = 2_000  # characters of a destination
_PATH = r"(?:/[A-Za-z0-9_~-][A-Za-z0-9._~-]*)*/?"


class PlainPair(NamedTuple):
    """What a row says. at: which of the rows it is."""

    at: int
    site: str
    key: str
    variant: str
    answer: Decision
    query: QueryPolicy


def read_plainly(rows: Sequence[Pair], sites: Sites, policy: FoldingPolicy) -> list[PlainPair]:
    """Those rows that are plain."""
    if len(rows) <= FEW:
        return []
    from upright_ledger.core.inventory.plain_places import PlainPlaces

    placed = PlainPlaces(sites, policy).place([pair.old for pair in rows])
    told = zip(placed.at, placed.sites, placed.keys, placed.variants, strict=True)
    answers = _Answers(sites)
    return [
        PlainPair(at, site, key, variant, *said)
        for at, site, key, variant in told
        if not rows[at].kind and (said := answers.of(rows[at])) is not None
    ]


class _Answers:
    """Reads what rows answer."""

    def __init__(self, sites: Sites) -> None:
        origins = "|".join(map(re.escape, _origins(sites)))
        self._is_plain = re.compile(rf"(?:{origins})(?=/){_PATH}").fullmatch if origins else None
        self._known: dict[tuple[str, str, bool], tuple[Decision, QueryPolicy] | None] = {}

    def of(self, pair: Pair) -> tuple[Decision, QueryPolicy] | None:
        """What a row answers, where that is plain."""
        told = (pair.status, pair.query, bool(pair.new))
        if told not in self._known:
            if len(self._known) > FEW:
                return None
            self._known[told] = _meant(pair)
        meant = self._known[told]
        if meant is None or not meant[0].destination:
            return meant
        new = pair.new
        if len(new) > _LONGEST or self._is_plain is None or not self._is_plain(new):
            return None
        return Decision(meant[0].kind, meant[0].status, new), meant[1]


def _meant(pair: Pair) -> tuple[Decision, QueryPolicy] | None:
    try:
        return read_answer(pair.status, pair.new), read_query(pair.query)
    except NotAnAddressError:
        return None


def _origins(sites: Sites) -> Iterator[str]:
    """Origins in which destinations lie, of those that a URL parser leaves as they are."""
    for authority in sorted({*sites.new_authorities, *sites.site_of_authority}):
        for origin in (f"http://{authority}", f"https://{authority}"):
            try:
                address = parse_address(f"{origin}/")
            except NotAnAddressError:
                continue
            if address.text == f"{origin}/" and (sites.is_new(address) or sites.site_of(address)):
                yield origin
