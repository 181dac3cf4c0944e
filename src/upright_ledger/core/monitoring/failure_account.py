"""Accounting that knows the fix: what failed before an answer went live does not count against it,
what fails after it does.

Evidence has days, taken apart where a build went live (see `days`). Of a day that was read before
anybody said so, nothing counts as after it.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from datetime import date, timedelta
from typing import NamedTuple

from upright_ledger.core.inventory.answer import UNANSWERED, AnswerKind
from upright_ledger.core.inventory.evidence import BAD_REDIRECT, SOFT_404
from upright_ledger.core.monitoring.deploy_days import is_after
from upright_ledger.core.word import Word


class FailureState(Word):
    """How far a failing entry has come."""

    NEW = "new"
    ANSWERED = "answered"
    DEPLOYED = "deployed"
    PROVEN = "proven"
    RECURRING = "recurring"
    LINK_MENDED = "link mended"
    IGNORED = "ignored"


STATES = (
    FailureState.RECURRING,
    FailureState.NEW,
    FailureState.ANSWERED,
    FailureState.DEPLOYED,
    FailureState.PROVEN,
    FailureState.LINK_MENDED,
    FailureState.IGNORED,
)
"""States of a failing entry, those that ask for something first."""

FAILING = ("404", "410", "5xx", SOFT_404, BAD_REDIRECT)
"""Classes of status that are failures, those that lists of errors tell among them."""

_RIGHT = {
    AnswerKind.MOVE: "3xx",
    AnswerKind.TEMPORARY: "3xx",
    AnswerKind.GONE: "410",
    AnswerKind.KEEP: "2xx",
}
"""The class of status with which an answer shows in a log."""


_LEAVES = frozenset([AnswerKind.MOVE, AnswerKind.TEMPORARY, AnswerKind.GONE])
"""Answers after which no page may answer at the address itself."""


class LogCount(NamedTuple):
    """What a log says of one spelling on one day, by its label. status_class: see
    core.inventory.evidence; people: not bots; source: its number in the ledger.
    """

    spelling: str
    day: str
    status_class: str
    people: bool
    requests: float
    source: int = 0


@dataclass(frozen=True, slots=True)
class Fix:
    """An answer and its times, ISO 8601 in UTC; empty where it has none. kind: as in
    core.inventory.answer. live: since when a server runs a build with it. link_mended: nothing was
    to be answered, as a link of the own site was wrong, and is right since that time.
    """

    kind: AnswerKind = AnswerKind.OPEN
    answered: str = ""
    live: str = ""
    link_mended: bool = False


@dataclass
class FailureAccount:
    """What failed of an entry. failed, bots: all requests by people and by bots that failed; since:
    of both, those after the fix went live; right: answered as the answer says, after it. first,
    last: days on which it failed. sources: source → what is lost by it. named: a list of errors
    names it, and it counts although nobody knows how often it was asked for. spellings: spelling →
    failures since the fix (all of them without one). well, ill: the days since the fix on which
    such a spelling was answered rightly, and failed.
    """

    state: FailureState = FailureState.NEW
    failed: float = 0.0
    bots: float = 0.0
    since: float = 0.0
    right: float = 0.0
    first: str = ""
    last: str = ""
    named: bool = False
    spellings: dict[str, float] = field(default_factory=dict)
    statuses: dict[str, float] = field(default_factory=dict)
    days: dict[str, float] = field(default_factory=dict)
    sources: dict[int, float] = field(default_factory=dict)
    well: set[str] = field(default_factory=set)
    ill: set[str] = field(default_factory=set)

    @property
    def is_over(self) -> bool:
        """Whether it failed at first, and is answered rightly since."""
        return bool(self.well and self.ill) and max(self.ill) < min(self.well)

    @property
    def is_undone(self) -> bool:
        """Whether it was answered rightly at first, and fails since."""
        return bool(self.well and self.ill) and max(self.well) < min(self.ill)

    @property
    def lost(self) -> float:
        """Requests by people that fail now: all of them, or those since the fix; none where these
        are over.
        """
        return 0.0 if self.is_over else sum(self.days.values())

    def trend(self, newest: str) -> float:
        """Requests of the last seven days up to the newest one, less those of the seven before."""
        end = date.fromisoformat(newest)
        week, before = ((end - timedelta(n)).isoformat() for n in (7, 14))
        late = sum(n for day, n in self.days.items() if week < day <= newest)
        return late - sum(n for day, n in self.days.items() if before < day <= week)


def is_failure(status_class: str, kind: str) -> bool:
    """Whether a status is a failure in view of an answer: a right 410 is none."""
    if status_class == "410":
        return kind != AnswerKind.GONE
    return status_class in FAILING


def account(told: Iterable[LogCount], fix: Fix, *, soft: bool = False) -> FailureAccount:
    """Draw up the account of one entry. soft: it was seen to end on a page that says it is not
    found, or on a home page, whatever its status.
    """
    found = FailureAccount()
    right_class = _RIGHT.get(fix.kind)
    well: dict[str, set[str]] = defaultdict(set)
    for t in told:
        after = is_after(t.day, fix.live)
        if right_class and t.status_class == right_class and not soft:
            found.right += t.requests if after else 0.0
            if after:
                well[t.spelling].add(t.day[:10])
            continue
        unmoved = (
            after and t.status_class == "2xx" and fix.kind in _LEAVES
        )  # a page answers where none should
        if not unmoved and not soft and not is_failure(t.status_class, fix.kind):
            continue
        day = t.day[:10]
        found.first = min(found.first or day, day)
        found.last = max(found.last, day)
        found.named |= not t.requests and (after or not fix.live)
        found.statuses[t.status_class] = found.statuses.get(t.status_class, 0.0) + t.requests
        if t.people:
            found.failed += t.requests
        else:
            found.bots += t.requests
        if after:
            found.since += t.requests
            found.ill.add(day)
        if after or not fix.live:
            found.spellings[t.spelling] = found.spellings.get(t.spelling, 0.0) + t.requests
            if t.people:
                found.days[day] = found.days.get(day, 0.0) + t.requests
                found.sources[t.source] = found.sources.get(t.source, 0.0) + t.requests
    found.well = {day for spelling in found.spellings for day in well[spelling]}
    found.state = _state(found, fix)
    return found


def _state(found: FailureAccount, fix: Fix) -> FailureState:
    if fix.kind in UNANSWERED:
        return FailureState.NEW
    if fix.link_mended:
        return FailureState.RECURRING if found.since else FailureState.LINK_MENDED
    if fix.kind == AnswerKind.IGNORE:
        return FailureState.IGNORED
    if not fix.live:
        return FailureState.ANSWERED
    if (found.since and not found.is_over) or found.named:
        return FailureState.RECURRING
    return FailureState.PROVEN if found.right else FailureState.DEPLOYED


class RecurrenceReason(Word):
    """The likely reason why an entry fails after its fix."""

    NOT_DEPLOYED = "not deployed: nothing that went live with it is answered"
    NO_LONGER = "answered rightly at first, and no longer: its rules were changed or taken away"
    SOME_NODES = "some requests are answered rightly: one of the servers runs other rules"
    REAL_PAGE = "shadowed: a page of the site answers there"
    VARIANT = "a spelling that no rule covers"
    OTHER_HOST = "asked on another host"
    OVERRULED = "overruled: something answers before our rules, or the server does not ask them"
    SOFT = "it ends on a page that is none: one that says it is not found, or a home page"
    FAILS_THERE = "the rule answers, and the server fails"
    LINKED_AGAIN = "its link was mended, and people follow one again: look where it stands"


class DeploymentContext(NamedTuple):
    """What is known of a recurring entry. covered: spelling → whether the rules answer it;
    elsewhere: spellings on hosts that the build does not serve. build_works: whether anything of
    the build that it went live with was answered rightly since.
    """

    covered: Mapping[str, bool]
    elsewhere: frozenset[str] = frozenset()
    build_works: bool = True


def recurrence_reason(
    found: FailureAccount, told: Iterable[LogCount], fix: Fix, around: DeploymentContext
) -> RecurrenceReason:
    """The likely reason why an entry fails after its fix."""
    if fix.link_mended:
        return RecurrenceReason.LINKED_AGAIN
    if found.spellings and all(s in around.elsewhere for s in found.spellings):
        return RecurrenceReason.OTHER_HOST
    if found.spellings and not any(around.covered.get(s, True) for s in found.spellings):
        return RecurrenceReason.VARIANT
    if not around.build_works:
        return RecurrenceReason.NOT_DEPLOYED
    after = {
        t.status_class for t in told if is_after(t.day, fix.live) and t.spelling in found.spellings
    }
    if after == {"5xx"}:
        return RecurrenceReason.FAILS_THERE
    if found.is_undone:
        return RecurrenceReason.NO_LONGER
    if _RIGHT.get(fix.kind) in after:
        return RecurrenceReason.SOME_NODES
    if "2xx" in after and fix.kind in _LEAVES:
        return RecurrenceReason.REAL_PAGE
    return RecurrenceReason.OVERRULED
