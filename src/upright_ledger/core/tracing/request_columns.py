"""Many requests through the rules, as columns; see `rehearsal`."""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from functools import cached_property
from typing import Any, Generic, TypeVar

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from numpy.typing import NDArray

from upright_ledger.core.inventory.placing.text_columns import array, column, of_origins, texts
from upright_ledger.core.rules.fast_lookup import NOTHING, PLAIN_TARGET, UNSURE, PlainRules
from upright_ledger.core.tracing.rehearsal import NO_END, Rehearsal, Rehearsed, status_at
from upright_ledger.core.tracing.results import Outcome
from upright_ledger.core.tracing.trace import REDIRECTS
from upright_ledger.core.url.address import split_text
from upright_ledger.core.url.language import marked

T = TypeVar("T")

_MISSING = 404
_SCHEMES = ("http", "https")
_LANGUAGE_HOME = r"/[A-Za-z]{2}(?:-[A-Za-z]{2})?/?(?:\?|$)"
"""As `is_language_home` looks at a path, whatever the letters."""
_MAY_MARK = "^https?://(?:..\\.|[^/]*/..[/_-])"
"""As `marked` looks at a host and a first folder."""


class RequestColumns(Generic[T]):
    """Asks a rehearsal's rules many requests at a time. What is not plain is asked one by one."""

    def __init__(self, rehearsal: Rehearsal[T]) -> None:
        self._one = rehearsal
        self._plain = PlainRules(rehearsal.rules)

    def ask(self, urls: Sequence[str], owners: Sequence[T | None]) -> Rehearsed:
        """See `Rehearsal.ask`."""
        asked = column(urls)
        statuses, locations, new = self._answers(urls, asked)
        owned = np.fromiter((owner is not None for owner in owners), np.bool_, len(urls))
        found = np.empty(len(urls), dtype=object)
        moved = np.isin(statuses, [*REDIRECTS])
        stays = ~moved & ~new
        ends = np.full(len(urls), NO_END, dtype=np.int32)
        ends[moved] = self._ends_of(asked.filter(pa.array(moved)), locations[moved])
        ended = ends != NO_END
        self._put_alike(
            found, stays & ~owned, statuses, lambda n, s: self._one.stays(urls[n], s, None)
        )
        self._put_alike(
            found,
            ended & ~owned,
            statuses * 1000 + ends,
            lambda _, code: self._one.ending(*divmod(code, 1000), "", 0.0),
        )
        for n in np.flatnonzero(stays & owned).tolist():
            found[n] = self._one.stays(urls[n], int(statuses[n]), owners[n])
        for n in np.flatnonzero(ended & owned).tolist():
            one = self._one.moves(urls[n], int(statuses[n]), locations[n], int(ends[n]), owners[n])
            found[n], ended[n] = one, one is not None
        for n in np.flatnonzero(~stays & ~ended).tolist():
            locations[n], found[n] = self._one.whole(urls[n], owners[n])
        return Rehearsed(locations.tolist(), found.tolist())

    @staticmethod
    def _put_alike(
        found: NDArray[np.object_],
        which: NDArray[np.bool_],
        codes: NDArray[np.int32],
        make: Callable[[int, int], Outcome],
    ) -> None:
        """Give one outcome to all of these requests that have one code. make: from one of them and
        its code.
        """
        rows = np.flatnonzero(which)
        for code, first in zip(*np.unique(codes[rows], return_index=True), strict=True):
            found[rows[codes[rows] == code]] = make(int(rows[first]), int(code))

    def _answers(
        self, urls: Sequence[str], asked: Any
    ) -> tuple[NDArray[np.int32], NDArray[np.object_], NDArray[np.bool_]]:
        """Status (404 where no rule answers) and Location of each request; and where no rule does,
        and the host is the new site's, which may have a page.
        """
        statuses = np.full(len(urls), UNSURE, dtype=np.int32)
        locations = np.full(len(urls), "", dtype=object)
        new = np.zeros(len(urls), dtype=np.bool_)
        rows, numbers, targets = of_origins(asked, self._old_origins)
        for number in np.unique(numbers).tolist():
            here = numbers == number
            authority = split_text(self._old_origins[number])[1]
            its = self._plain.answers(authority, targets.filter(pa.array(here)))
            at = rows[here]
            statuses[at], locations[at] = its.statuses, array(its.locations)
            new[at] = authority in self._one.sites.new_authorities
        for n in np.flatnonzero(statuses == UNSURE).tolist():
            scheme, authority, target = split_text(urls[n])
            answer = self._one.rules.answer(authority, target, scheme)
            statuses[n], locations[n] = (
                (answer.status, answer.location) if answer is not None else (NOTHING, "")
            )
            new[n] = authority in self._one.sites.new_authorities
        new &= statuses == NOTHING
        statuses[statuses == NOTHING] = _MISSING
        return statuses, locations, new

    def _ends_of(self, asked: Any, locations: NDArray[np.object_]) -> NDArray[np.int32]:
        """Of redirects: the status of the page at their locations, 0 where nothing is known of it;
        NO_END where it may lead on, fails, is a front page, or may be of another language.

        It lies on no old host, so that a redirect to it changes more than a slash.
        """
        told = column(locations)
        found = np.full(len(locations), NO_END, dtype=np.int32)
        others = np.ones(len(locations), dtype=np.bool_)
        for origin in self._safe_origins:
            here = rf"^{re.escape(origin)}"
            plain = pc.and_not(
                pc.match_substring_regex(told, rf"{here}{PLAIN_TARGET}$"),
                pc.match_substring_regex(told, rf"{here}{_LANGUAGE_HOME}"),
            )
            names = pc.utf8_slice_codeunits(told.filter(plain), origin.index("//") + 2)
            found[array(plain)] = [*map(status_at, self._one.pages.named(texts(names)))]
            others &= ~array(plain)
        for n in np.flatnonzero(others).tolist():
            found[n] = self._one.end(locations[n])
        may_be_marked = array(pc.match_substring_regex(asked, _MAY_MARK)) & (found != NO_END)
        for n in np.flatnonzero(may_be_marked).tolist():
            language = marked(*split_text(asked[n].as_py())[1:])
            if language and language != (marked(*split_text(locations[n])[1:]) or language):
                found[n] = NO_END
        return found

    @cached_property
    def _old_origins(self) -> list[str]:
        return [f"{s}://{authority}" for authority in self._one.rules.site_of for s in _SCHEMES]

    @cached_property
    def _safe_origins(self) -> list[str]:
        """Origins of the new site's hosts that are none of the old one's."""
        return [
            f"{scheme}://{authority}"
            for authority in self._one.sites.new_authorities
            if authority not in self._one.rules.site_of
            for scheme in _SCHEMES
        ]
