"""Rows of a sheet of pairs that say plainly what they mean, many at a time, as columns: two whole
addresses in which nothing is to be mended, and a usual status.

All others are read one by one; a property test holds both equal.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple

from upright_ledger.app.decide.sheets.pair_rows import read_answer, read_query
from upright_ledger.core.inventory.answer import Decision
from upright_ledger.core.inventory.normalisation import FoldingPolicy
from upright_ledger.core.url.address import NotAnAddressError
from upright_ledger.core.url.destination import plain_destinations
from upright_ledger.core.url.origins import Sites
from upright_ledger.core.url.query import QueryPolicy
from upright_ledger.formats.tables.pairs import Pair

FEW = 500
"""Rows up to which they are read one by one, as loading what has columns would take longer."""


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
    from upright_ledger.core.inventory.placing.plain_places import PlainPlaces

    placed = PlainPlaces(sites, policy).place([pair.old for pair in rows])
    told = zip(placed.at, placed.sites, placed.keys, placed.variants, strict=True)
    answers = _Answers(sites)
    return [
        PlainPair(at, site, key, variant, *said)
        for at, site, key, variant in told
        if not rows[at].kind and not rows[at].until and (said := answers.of(rows[at])) is not None
    ]


class _Answers:
    """Reads what rows answer."""

    def __init__(self, sites: Sites) -> None:
        hosts = {*sites.new_authorities, *sites.site_of_authority}
        self._is_plain = plain_destinations(
            f"{scheme}://{host}" for scheme in ("http", "https") for host in sorted(hosts)
        )
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
        if not self._is_plain(pair.new):
            return None
        return Decision(meant[0].kind, meant[0].status, pair.new), meant[1]


def _meant(pair: Pair) -> tuple[Decision, QueryPolicy] | None:
    try:
        return read_answer(pair.status, pair.new), read_query(pair.query)
    except NotAnAddressError:
        return None
