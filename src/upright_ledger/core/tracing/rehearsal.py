"""Rehearsing: many requests through the rules, each judged; what most of them share is worked out
once.

`trace_offline` and `judge` say what is right. The short cuts here leave out only what cannot change
that, and a test holds both against each other.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from functools import lru_cache
from typing import Generic, NamedTuple, TypeVar

from upright_ledger.core.inventory.answer import AnswerKind, Expected, expected_text
from upright_ledger.core.inventory.normalisation import FoldingPolicy
from upright_ledger.core.tracing.offline import trace_offline
from upright_ledger.core.tracing.redirect_ends import RedirectEnds
from upright_ledger.core.tracing.results import Outcome, outcome_of
from upright_ledger.core.tracing.root_causes import with_rules
from upright_ledger.core.tracing.trace import Hop, Trace
from upright_ledger.core.tracing.verdicts import Verdict, judge, same_page
from upright_ledger.core.url.address import address_of

T = TypeVar("T")

_OK = (Verdict.OK,)
_MOVES = frozenset([AnswerKind.MOVE, AnswerKind.TEMPORARY])
_MOST_KEPT = 1 << 17
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

    def __init__(
        self,
        ends: RedirectEnds,
        homes: frozenset[str],
        policy: FoldingPolicy,
        due: Callable[[T | None, str], Due],
    ) -> None:
        self.ends = ends
        self._homes = homes
        self._policy = policy
        self._due = due
        self._shared: dict[tuple[int, int, str, float], Outcome] = {}
        self._staying: dict[tuple[int, Expected, float], Outcome] = {}
        self._adds_nothing = lru_cache(1 << 14)(self._is_no_other_page)

    def ask(self, urls: Sequence[str], owners: Sequence[T | None]) -> Rehearsed:
        """The location and outcome of each request: URLs, and whose they are. Each is looked at by
        itself; `request_columns` asks many.
        """
        told = [self.whole(url, whose) for url, whose in zip(urls, owners, strict=True)]
        return Rehearsed([location for location, _ in told], [outcome for _, outcome in told])

    def stays(self, url: str, status: int, whose: T | None) -> Outcome:
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

    def moves(
        self, url: str, status: int, location: str, final: int, whose: T | None
    ) -> Outcome | None:
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
        return self.ending(status, final, due, value)

    def ending(self, status: int, final: int, due: str, value: float) -> Outcome:
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

    def whole(self, url: str, whose: T | None) -> tuple[str, Outcome]:
        """Location and outcome of one request, with nothing left out."""
        address = address_of(url)
        expected, value = self._due(whose, url)
        rules, sites, pages = self.ends.rules, self.ends.sites, self.ends.pages
        trace = trace_offline(address, rules, sites, pages, self._policy.index_set)
        verdicts = judge(trace, expected, self._homes, self._policy)
        if verdicts[0] != Verdict.OK:
            trace = with_rules(trace, rules)
        return outcome_of(trace, verdicts, expected_text(expected), value)
