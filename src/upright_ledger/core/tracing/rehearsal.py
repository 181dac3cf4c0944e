"""Rehearsing: many requests through the rules, each judged; what most of them share is worked out
once.

`trace_offline` and `judge` say what is right. The short cuts here leave out only what cannot change
that, and a test holds both against each other.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from typing import Generic, TypeVar

from upright_ledger.core.inventory.answer import AnswerKind, Expected, expected_text
from upright_ledger.core.inventory.normalisation import FoldingPolicy
from upright_ledger.core.rules.fast_lookup import NOTHING, UNSURE, PlainRules, is_plain
from upright_ledger.core.rules.ruleset import RuleSet
from upright_ledger.core.rules.target_pages import Pages
from upright_ledger.core.tracing.offline import trace_offline
from upright_ledger.core.tracing.results import Outcome, outcome_of
from upright_ledger.core.tracing.root_causes import with_rules
from upright_ledger.core.tracing.trace import REDIRECTS, Hop, Trace
from upright_ledger.core.tracing.verdicts import Verdict, is_language_home, judge, same_page
from upright_ledger.core.url.address import Address, address_of, split_text
from upright_ledger.core.url.language import marked
from upright_ledger.core.url.origins import Sites

T = TypeVar("T")

_OK = (Verdict.OK,)
_MOST_KEPT = 1 << 17


class Rehearsal(Generic[T]):
    """A rule set, with what is known of the pages to which it leads.

    due: what is expected of a request, given whose it is (an entry, or None) and its address; and
    what that is worth.
    """

    def __init__(
        self,
        rules: RuleSet,
        sites: Sites,
        pages: Pages,
        homes: frozenset[str],
        policy: FoldingPolicy,
        due: Callable[[T | None, Address], tuple[Expected, float]],
    ) -> None:
        self._rules = rules
        self._sites = sites
        self._pages = pages
        self._homes = homes
        self._policy = policy
        self._due = due
        self._ends: dict[str, int | None] = {}
        self._shared: dict[tuple[int, int, str, float], Outcome] = {}
        self._plain = PlainRules(rules)

    def ask(self, requests: Iterable[tuple[str, T | None]]) -> Iterator[tuple[str, Outcome]]:
        """Location (empty without a redirect, and where there are more of them) and outcome of each
        request: (URL, whose it is).
        """
        answer_of, plainly = self._rules.answer, self._plain.answer
        site_of, new = self._rules.site_of, self._sites.new_authorities
        for url, whose in requests:
            scheme, authority, target = split_text(url)
            site = site_of.get(authority)
            status, location = (
                plainly(site, target) if site is not None and is_plain(target) else UNSURE
            )
            if status < 0:
                answer = answer_of(authority, target, scheme)
                status, location = (
                    (answer.status, answer.location) if answer is not None else NOTHING
                )
            found = None
            if not status:
                if authority not in new:
                    yield "", self._stays(url, 404, whose)
                    continue
            elif status not in REDIRECTS:
                yield "", self._stays(url, status, whose)
                continue
            else:
                found = self._moves(url, authority, target, status, location, whose)
            yield self._whole(url, whose) if found is None else (location, found)

    def _stays(self, url: str, status: int, whose: T | None) -> Outcome:
        """The outcome of a request that is answered at once, without a page."""
        key = (status, 0, "", 0.0)
        found = self._shared.get(key) if whose is None else None
        if found is None:
            expected, value = self._due(whose, address_of(url))
            verdicts = judge(
                Trace(url, (Hop(url, status),), url, status), expected, self._homes, self._policy
            )
            found = Outcome(status, status, verdicts, expected_text(expected), value)
            if whose is None:
                self._shared[key] = found
        return found

    def _moves(
        self, url: str, authority: str, target: str, status: int, location: str, whose: T | None
    ) -> Outcome | None:
        """The outcome of a redirect that plainly leads where it should; None where a closer look is
        due.
        """
        final = self._end(location)
        if final is None:
            return None
        language = marked(authority, target)
        if language and language != (marked(*split_text(location)[1:]) or language):
            return None
        due, value = "", 0.0
        if whose is not None:
            expected, value = self._due(whose, address_of(url))
            due = expected.final
            if (
                expected.kind not in {AnswerKind.MOVE, AnswerKind.TEMPORARY}
                or status not in expected.statuses
            ):
                return None
            if due != location and not (
                location.startswith(due) and same_page(location, due, self._policy)
            ):
                return None
        key = (status, final, due, value)
        found = self._shared.get(key)
        if found is None:
            found = Outcome(status, final, _OK, due, value)
            if whose is None or len(self._shared) < _MOST_KEPT:
                self._shared[key] = found
        return found

    def _end(self, location: str) -> int | None:
        """The status of the page at a location, 0 where nothing is known of it; None where it may
        lead on, fails, or is a front page.

        It lies on no old host, so that a redirect to it changes more than a slash.
        """
        if location in self._ends:
            return self._ends[location]
        _, authority, target = split_text(location)
        found: int | None = None
        leads_on = authority in self._rules.site_of or authority not in self._sites.new_authorities
        is_home = target == "/" or target[:2] == "/?" or is_language_home(target.partition("?")[0])
        if not leads_on and "#" not in target and not is_home:
            page = (
                self._pages.named(authority, target)
                if is_plain(target)
                else self._pages.at(address_of(location))
            )
            status = (page.status or 200) if page is not None else 0
            found = status if status < 300 else None
        if len(self._ends) < _MOST_KEPT:
            self._ends[location] = found
        return found

    def _whole(self, url: str, whose: T | None) -> tuple[str, Outcome]:
        """Location and outcome of one request, with nothing left out."""
        address = address_of(url)
        expected, value = self._due(whose, address)
        trace = trace_offline(
            address, self._rules, self._sites, self._pages, self._policy.index_set
        )
        verdicts = judge(trace, expected, self._homes, self._policy)
        if verdicts[0] != Verdict.OK:
            trace = with_rules(trace, self._rules)
        return outcome_of(trace, verdicts, expected_text(expected), value)
