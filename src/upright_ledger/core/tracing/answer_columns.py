"""What a rule set answers to many requests, and where its redirects end, as columns."""

from __future__ import annotations

import re
from collections.abc import Sequence
from functools import cached_property
from typing import Any, NamedTuple

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from numpy.typing import NDArray

from upright_ledger.core.inventory.placing.text_columns import array, column, of_origins, texts
from upright_ledger.core.rules.fast_lookup import NOTHING, PLAIN_TARGET, UNSURE, PlainRules
from upright_ledger.core.tracing.redirect_ends import NO_END, RedirectEnds, status_at
from upright_ledger.core.tracing.trace import REDIRECTS
from upright_ledger.core.url.address import split_text
from upright_ledger.core.url.language import marked

_MISSING = 404
_SCHEMES = ("http", "https")
_LANGUAGE_HOME = r"/[A-Za-z]{2}(?:-[A-Za-z]{2})?/?(?:\?|$)"
"""As `is_language_home` looks at a path, whatever the letters."""
_MAY_MARK = "^https?://(?:..\\.|[^/]*/..[/_-])"
"""As `marked` looks at a host and a first folder."""


class Answers(NamedTuple):
    """Of requests, in their order: status (404 where no rule answers), Location (empty without
    one); whether no rule does, and the host is the new site's, which may have a page; and the
    status of the page where a redirect ends, or NO_END.
    """

    statuses: NDArray[np.int32]
    locations: NDArray[np.object_]
    new: NDArray[np.bool_]
    ends: NDArray[np.int32]


class AnswerColumns:
    """Asks rules many requests at a time. What is not plain is asked one by one."""

    def __init__(self, ends: RedirectEnds) -> None:
        self._ends = ends
        self._plain = PlainRules(ends.rules)

    def ask(self, urls: Sequence[str]) -> Answers:
        """What the rules answer to these requests."""
        asked = column(urls)
        statuses, locations, new = self._answers(urls, asked)
        moved = np.isin(statuses, [*REDIRECTS])
        ends = np.full(len(urls), NO_END, dtype=np.int32)
        ends[moved] = self._ends_of(asked.filter(pa.array(moved)), locations[moved])
        return Answers(statuses, locations, new, ends)

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
            new[at] = authority in self._ends.sites.new_authorities
        for n in np.flatnonzero(statuses == UNSURE).tolist():
            scheme, authority, target = split_text(urls[n])
            answer = self._ends.rules.answer(authority, target, scheme)
            statuses[n], locations[n] = (
                (answer.status, answer.location) if answer is not None else (NOTHING, "")
            )
            new[n] = authority in self._ends.sites.new_authorities
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
            found[array(plain)] = [*map(status_at, self._ends.pages.named(texts(names)))]
            others &= ~array(plain)
        for n in np.flatnonzero(others).tolist():
            found[n] = self._ends.of(locations[n])
        may_be_marked = array(pc.match_substring_regex(asked, _MAY_MARK)) & (found != NO_END)
        for n in np.flatnonzero(may_be_marked).tolist():
            language = marked(*split_text(asked[n].as_py())[1:])
            if language and language != (marked(*split_text(locations[n])[1:]) or language):
                found[n] = NO_END
        return found

    @cached_property
    def _old_origins(self) -> list[str]:
        return [f"{s}://{authority}" for authority in self._ends.rules.site_of for s in _SCHEMES]

    @cached_property
    def _safe_origins(self) -> list[str]:
        """Origins of the new site's hosts that are none of the old one's."""
        return [
            f"{scheme}://{authority}"
            for authority in self._ends.sites.new_authorities
            if authority not in self._ends.rules.site_of
            for scheme in _SCHEMES
        ]
