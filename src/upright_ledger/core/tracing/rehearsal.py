"""Rehearsing: many requests through the rules, each judged; what most of them share is worked out
once.

`trace_offline` and `judge` say what is right. The short cuts here leave out only what cannot change
that, and a test holds both against each other.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from functools import cached_property, lru_cache
from typing import Any, ClassVar, Generic, NamedTuple, TypeVar

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from numpy.typing import NDArray

from upright_ledger.core.inventory.answer import AnswerKind, Expected, expected_text
from upright_ledger.core.inventory.normalisation import FoldingPolicy
from upright_ledger.core.inventory.placing.text_columns import array, column, of_origins, texts
from upright_ledger.core.rules.fast_lookup import NOTHING, PLAIN_TARGET, UNSURE, PlainRules
from upright_ledger.core.rules.ruleset import RuleSet
from upright_ledger.core.rules.target_pages import Pages, StockPage
from upright_ledger.core.tracing.offline import trace_offline
from upright_ledger.core.tracing.results import Outcome, outcome_of
from upright_ledger.core.tracing.root_causes import with_rules
from upright_ledger.core.tracing.trace import REDIRECTS, Hop, Trace
from upright_ledger.core.tracing.verdicts import Verdict, is_language_home, judge, same_page
from upright_ledger.core.url.address import address_of, split_text
from upright_ledger.core.url.language import marked
from upright_ledger.core.url.origins import Sites

T = TypeVar("T")

_OK = (Verdict.OK,)
_MOVES = frozenset([AnswerKind.MOVE, AnswerKind.TEMPORARY])
_MOST_KEPT = 1 << 17
_MISSING = 404
_SCHEMES = ("http", "https")
_NO_END = -1
_LANGUAGE_HOME = r"/[A-Za-z]{2}(?:-[A-Za-z]{2})?/?(?:\?|$)"
"""As `is_language_home` looks at a path, whatever the letters."""
_MAY_MARK = "^https?://(?:..\\.|[^/]*/..[/_-])"
"""As `marked` looks at a host and a first folder."""

Due = tuple[Expected, float]
"""What is expected of a request, and what that is worth."""


class Rehearsed(NamedTuple):
    """Of requests, in their order: locations (empty without a redirect, and where there are more of
    them) and outcomes.
    """

    locations: list[str]
    outcomes: list[Outcome]


class Rehearsal(Generic[T]):
    """A rule set, with what is known of the pages to which it leads.

    due: what is expected of a request, given whose it is (an entry, or None) and its URL; and what
    that is worth.
    """

    few: ClassVar[int] = 500
    """Requests up to which each is looked at by itself, which loads nothing that has columns."""

    def __init__(
        self,
        rules: RuleSet,
        sites: Sites,
        pages: Pages,
        homes: frozenset[str],
        policy: FoldingPolicy,
        due: Callable[[T | None, str], Due],
    ) -> None:
        self._rules = rules
        self._sites = sites
        self._pages = pages
        self._homes = homes
        self._policy = policy
        self._due = due
        self._ends: dict[str, int] = {}
        self._shared: dict[tuple[int, int, str, float], Outcome] = {}
        self._staying: dict[tuple[int, Expected, float], Outcome] = {}
        self._plain = PlainRules(rules)
        self._adds_nothing = lru_cache(1 << 14)(self._is_no_other_page)

    def ask(self, urls: Sequence[str], owners: Sequence[T | None]) -> Rehearsed:
        """The location and outcome of each request: URLs, and whose they are."""
        if len(urls) <= self.few:
            told = [self._whole(url, whose) for url, whose in zip(urls, owners, strict=True)]
            return Rehearsed([location for location, _ in told], [outcome for _, outcome in told])
        asked = column(urls)
        statuses, locations, new = self._answers(urls, asked)
        whose = np.empty(len(urls), dtype=object)
        whose[:] = owners
        owned = np.fromiter((owner is not None for owner in owners), np.bool_, len(urls))
        found = np.empty(len(urls), dtype=object)
        moved = np.isin(statuses, [*REDIRECTS])
        stays = ~moved & ~new
        ends = np.full(len(urls), _NO_END, dtype=np.int32)
        ends[moved] = self._ends_of(asked.filter(pa.array(moved)), locations[moved])
        ended = ends != _NO_END
        self._put_alike(found, stays & ~owned, statuses, lambda n, s: self._stays(urls[n], s, None))
        self._put_alike(
            found,
            ended & ~owned,
            statuses * 1000 + ends,
            lambda _, code: self._ending(*divmod(code, 1000), "", 0.0),
        )
        for n in np.flatnonzero(stays & owned).tolist():
            found[n] = self._stays(urls[n], int(statuses[n]), whose[n])
        for n in np.flatnonzero(ended & owned).tolist():
            one = self._moves(urls[n], int(statuses[n]), locations[n], int(ends[n]), whose[n])
            found[n], ended[n] = one, one is not None
        for n in np.flatnonzero(~stays & ~ended).tolist():
            locations[n], found[n] = self._whole(urls[n], whose[n])
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
            new[at] = authority in self._sites.new_authorities
        for n in np.flatnonzero(statuses == UNSURE).tolist():
            scheme, authority, target = split_text(urls[n])
            answer = self._rules.answer(authority, target, scheme)
            statuses[n], locations[n] = (
                (answer.status, answer.location) if answer is not None else (NOTHING, "")
            )
            new[n] = authority in self._sites.new_authorities
        new &= statuses == NOTHING
        statuses[statuses == NOTHING] = _MISSING
        return statuses, locations, new

    def _stays(self, url: str, status: int, whose: T | None) -> Outcome:
        """The outcome of a request that is answered at once, without a page."""
        expected, value = self._due(whose, url)
        key = (status, expected, value)
        found = self._staying.get(key)
        if found is None:
            verdicts = judge(
                Trace(url, (Hop(url, status),), url, status), expected, self._homes, self._policy
            )
            found = Outcome(status, status, verdicts, expected_text(expected), value)
            # Below 400 the address itself counts.
            if status >= 400 and len(self._staying) < _MOST_KEPT:
                self._staying[key] = found
        return found

    def _moves(self, url: str, status: int, location: str, final: int, whose: T) -> Outcome | None:
        """The outcome of a redirect to a page that should be the one that was due; None where a
        closer look is.
        """
        expected, value = self._due(whose, url)
        due = expected.final
        if expected.kind not in _MOVES or status not in expected.statuses:
            return None
        if due != location and not (
            location.startswith(due)
            and (
                self._adds_nothing("?" in due or "#" in due, location[len(due) :])
                or same_page(location, due, self._policy)
            )
        ):
            return None
        return self._ending(status, final, due, value)

    def _ending(self, status: int, final: int, due: str, value: float) -> Outcome:
        """What ends well."""
        key = (status, final, due, value)
        found = self._shared.get(key)
        if found is None:
            found = Outcome(status, final, _OK, due, value)
            if len(self._shared) < _MOST_KEPT:
                self._shared[key] = found
        return found

    def _is_no_other_page(self, asked: bool, tail: str) -> bool:
        """Whether what comes after an address (asked: which has a query or a fragment) are
        parameters that search engines and campaigns know by, and no more: no other page.
        """
        if asked or tail[:1] != "?" or "#" in tail:
            return False
        tracking = self._policy.tracking_names
        names = (part.partition("=")[0].lower() for part in tail[1:].split("&") if part)
        return all(name in tracking or name.startswith("utm_") for name in names)

    def _ends_of(self, asked: Any, locations: NDArray[np.object_]) -> NDArray[np.int32]:
        """Of redirects: the status of the page at their locations, 0 where nothing is known of it;
        _NO_END where it may lead on, fails, is a front page, or may be of another language.

        It lies on no old host, so that a redirect to it changes more than a slash.
        """
        told = column(locations)
        found = np.full(len(locations), _NO_END, dtype=np.int32)
        others = np.ones(len(locations), dtype=np.bool_)
        for origin in self._safe_origins:
            here = rf"^{re.escape(origin)}"
            plain = pc.and_not(
                pc.match_substring_regex(told, rf"{here}{PLAIN_TARGET}$"),
                pc.match_substring_regex(told, rf"{here}{_LANGUAGE_HOME}"),
            )
            names = pc.utf8_slice_codeunits(told.filter(plain), origin.index("//") + 2)
            found[array(plain)] = [*map(_status, self._pages.named(texts(names)))]
            others &= ~array(plain)
        for n in np.flatnonzero(others).tolist():
            found[n] = self._end(locations[n])
        may_be_marked = array(pc.match_substring_regex(asked, _MAY_MARK)) & (found != _NO_END)
        for n in np.flatnonzero(may_be_marked).tolist():
            language = marked(*split_text(asked[n].as_py())[1:])
            if language and language != (marked(*split_text(locations[n])[1:]) or language):
                found[n] = _NO_END
        return found

    @cached_property
    def _old_origins(self) -> list[str]:
        return [f"{s}://{authority}" for authority in self._rules.site_of for s in _SCHEMES]

    @cached_property
    def _safe_origins(self) -> list[str]:
        """Origins of the new site's hosts that are none of the old one's."""
        return [
            f"{scheme}://{authority}"
            for authority in self._sites.new_authorities
            if authority not in self._rules.site_of
            for scheme in _SCHEMES
        ]

    def _end(self, location: str) -> int:
        known = self._ends.get(location)
        if known is None:
            known = self._look_at(location)
            if len(self._ends) < _MOST_KEPT:
                self._ends[location] = known
        return known

    def _look_at(self, location: str) -> int:
        _, authority, target = split_text(location)
        if (
            authority in self._rules.site_of
            or authority not in self._sites.new_authorities
            or "#" in target
            or target == "/"
            or target[:2] == "/?"
            or is_language_home(target.partition("?")[0])
        ):
            return _NO_END
        return _status(self._pages.at(address_of(location)))

    def _whole(self, url: str, whose: T | None) -> tuple[str, Outcome]:
        """Location and outcome of one request, with nothing left out."""
        address = address_of(url)
        expected, value = self._due(whose, url)
        trace = trace_offline(
            address, self._rules, self._sites, self._pages, self._policy.index_set
        )
        verdicts = judge(trace, expected, self._homes, self._policy)
        if verdicts[0] != Verdict.OK:
            trace = with_rules(trace, self._rules)
        return outcome_of(trace, verdicts, expected_text(expected), value)


def _status(page: StockPage | None) -> int:
    """The status of a page where a redirect ends, 0 where nothing is known of it; _NO_END where it
    leads on or fails.
    """
    status = (page.status or 200) if page is not None else 0
    return status if status < 300 else _NO_END
