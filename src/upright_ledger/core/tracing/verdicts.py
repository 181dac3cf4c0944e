"""Verdicts: what a trace amounts to, with or without an expected outcome."""

from __future__ import annotations

import re
from collections.abc import Mapping
from functools import lru_cache
from typing import NamedTuple

from upright_ledger.core.inventory.answer import AnswerKind, Expected
from upright_ledger.core.inventory.normalisation import FoldingPolicy
from upright_ledger.core.tracing.missing_titles import says_not_found
from upright_ledger.core.tracing.trace import Trace
from upright_ledger.core.url.address import Address, NotAnAddressError, parse_address, split_text
from upright_ledger.core.url.destination import page_key, slash_twin
from upright_ledger.core.url.difference import without_index_file
from upright_ledger.core.url.language import code_of, marked
from upright_ledger.core.url.request_target import canonical_path, lower_ascii
from upright_ledger.core.word import Word


class Verdict(Word):
    """What a trace amounts to, the worst first."""

    LOOP = "loop"
    UNREACHABLE = "unreachable"
    SERVER_ERROR = "server-error"
    BLOCKED = "blocked"
    DEAD_END = "dead-end"
    UNANSWERED = "unanswered"
    NOT_MOVED = "not-moved"
    SOFT_404 = "soft-404"
    WRONG_DESTINATION = "wrong-destination"
    WRONG_LANGUAGE = "wrong-language"
    HOME_FALLBACK = "home-fallback"
    WRONG_STATUS = "wrong-status"
    OFF_CANONICAL = "off-canonical"
    CHAIN = "chain"
    SLASH_MISMATCH = "slash-mismatch"
    OK = "ok"


ORDER = tuple(Verdict)
"""All verdicts, the worst first."""


class Remedy(Word):
    """What would mend a trace. Addresses are said beside it."""

    NONE = ""
    BREAK_LOOP = "break-loop"
    LOOK_AT_SERVER = "look-at-server"
    ONE_RULE = "one-rule"
    LEAD_THERE = "lead-there"
    SETTLE_FORM = "settle-form"  # the canonical form of the site, in one hop
    SEND_THERE = "send-there"  # it was decided, and the server does otherwise
    DECIDE = "decide"
    OWN_LANGUAGE = "own-language"
    STATUS = "status"
    REAL_PAGE = "real-page"
    PAGE = "page"  # its canonical address, or its robots directives


class Meaning(NamedTuple):
    """A verdict's row. rank: 0 grave, 1 doubtful, 2 well, by which it is coloured, too. remedy:
    where nothing else is known of the trace.
    """

    rank: int
    remedy: Remedy


MEANINGS: Mapping[Verdict, Meaning] = {
    Verdict.LOOP: Meaning(0, Remedy.BREAK_LOOP),
    Verdict.UNREACHABLE: Meaning(0, Remedy.LOOK_AT_SERVER),
    Verdict.SERVER_ERROR: Meaning(0, Remedy.LOOK_AT_SERVER),
    Verdict.BLOCKED: Meaning(0, Remedy.LOOK_AT_SERVER),
    Verdict.DEAD_END: Meaning(0, Remedy.DECIDE),
    Verdict.UNANSWERED: Meaning(0, Remedy.DECIDE),
    Verdict.NOT_MOVED: Meaning(0, Remedy.DECIDE),
    Verdict.SOFT_404: Meaning(0, Remedy.REAL_PAGE),
    Verdict.WRONG_DESTINATION: Meaning(0, Remedy.DECIDE),
    Verdict.WRONG_LANGUAGE: Meaning(0, Remedy.OWN_LANGUAGE),
    Verdict.HOME_FALLBACK: Meaning(0, Remedy.DECIDE),
    Verdict.WRONG_STATUS: Meaning(1, Remedy.STATUS),
    Verdict.OFF_CANONICAL: Meaning(1, Remedy.PAGE),
    Verdict.CHAIN: Meaning(1, Remedy.ONE_RULE),
    Verdict.SLASH_MISMATCH: Meaning(1, Remedy.LEAD_THERE),
    Verdict.OK: Meaning(2, Remedy.NONE),
}
"""What each verdict means. A new one is a row here, and the case in which `judge` gives it."""


def judge(
    trace: Trace, expected: Expected, homes: frozenset[str], policy: FoldingPolicy
) -> tuple[Verdict, ...]:
    """All verdicts that apply to a trace, the worst first; never empty.

    homes: page keys of the new site's home pages. policy: which parameters are tracking, and which
    names index files.
    """
    found: set[Verdict] = set()
    status, final = trace.first_status, trace.final_status
    moved = trace.redirects
    if trace.loops:
        return (Verdict.LOOP,)
    if not trace.hops or trace.hops[-1].status == 0:
        return (Verdict.UNREACHABLE,)
    if final >= 500:
        found.add(Verdict.SERVER_ERROR)
    elif final in {401, 403, 429}:
        found.add(Verdict.BLOCKED)
    elif final >= 400:
        found |= _refusal(final, moved, expected)
    elif 200 <= final < 300:
        found |= _arrival(trace, expected, policy)
    elif final:
        found.add(Verdict.WRONG_STATUS)  # neither a page nor a redirect that a browser follows
    if expected.kind == AnswerKind.IGNORE:
        return _ordered(
            found - {Verdict.UNANSWERED, Verdict.DEAD_END, Verdict.NOT_MOVED}
            | ({Verdict.WRONG_STATUS} if moved else set())
        )
    if (
        expected.statuses
        and moved
        and status not in expected.statuses
        and expected.kind != AnswerKind.KEEP
    ):
        found.add(Verdict.WRONG_STATUS)
    if moved:
        found |= _end(trace, expected, homes, policy)
        slash_hops = [h for h in trace.hops if h.changed == ("slash",)]
        if not expected.meant and changes_language(trace, expected.language):
            found.add(Verdict.WRONG_LANGUAGE)
        if moved >= 2:
            found.add(Verdict.CHAIN)
        if slash_hops and not (
            moved == 1 and expected.final and same_page(trace.final_url, expected.final, policy)
        ):
            found.add(Verdict.SLASH_MISMATCH)
    return _ordered(found)


def changes_language(trace: Trace, declared: str) -> bool:
    """Whether a trace ends in another language than it began in: as both pages declare, or as both
    addresses plainly say.
    """
    said = code_of(trace.page.language)
    if declared and said:
        return declared != said
    first, last = (marked(*split_text(url)[1:]) for url in (trace.url, trace.final_url))
    return bool(first and last) and first != last


def _refusal(final: int, moved: int, expected: Expected) -> set[Verdict]:
    if final == 410 and not moved:
        # Somebody said "gone" on purpose: right if that was decided, or if nothing was.
        return (
            {Verdict.WRONG_STATUS}
            if expected.kind in {AnswerKind.MOVE, AnswerKind.TEMPORARY, AnswerKind.KEEP}
            else set()
        )
    if expected.kind == AnswerKind.GONE:
        return {Verdict.WRONG_STATUS} if not moved else {Verdict.DEAD_END}
    return {Verdict.DEAD_END} if moved else {Verdict.UNANSWERED}


def _arrival(trace: Trace, expected: Expected, policy: FoldingPolicy) -> set[Verdict]:
    found: set[Verdict] = set()
    if says_not_found(trace.page.title):
        found.add(Verdict.SOFT_404)
    elsewhere = not same_page(trace.final_url, expected.final, policy)
    if (
        not trace.redirects
        and expected.kind in {AnswerKind.MOVE, AnswerKind.TEMPORARY}
        and elsewhere
    ):
        found.add(Verdict.NOT_MOVED)
    if expected.kind == AnswerKind.GONE or (
        expected.kind == AnswerKind.KEEP
        and not trace.redirects
        and trace.final_status not in expected.statuses
    ):
        found.add(Verdict.WRONG_STATUS)
    if trace.page.noindex or (
        trace.page.canonical and not same_page(trace.page.canonical, trace.final_url, policy)
    ):
        found.add(Verdict.OFF_CANONICAL)
    return found


def _end(
    trace: Trace, expected: Expected, homes: frozenset[str], policy: FoldingPolicy
) -> set[Verdict]:
    """Judge where a redirected trace ended."""
    end = _key(trace.final_url, policy.tracking_names)
    # Search engines take a page that lands on the front page for a missing one, decided or not.
    found = (
        {Verdict.HOME_FALLBACK} if end in homes and not _is_home_url(trace.url, policy) else set()
    )
    if not expected.final:
        return found
    goal = _key(expected.final, policy.tracking_names)
    if end == goal or (expected.kind == AnswerKind.KEEP and _same_path(end, goal)):
        return found
    if slash_twin(end) == goal:
        return found | {Verdict.SLASH_MISMATCH}
    return found or {Verdict.WRONG_DESTINATION}


@lru_cache(maxsize=1 << 12)
def _key(url: str, tracking: frozenset[str]) -> str:
    """The page key without what a rule may carry along: fragment and tracking are no other page."""
    try:
        return page_key(_without_tracking(parse_address(url), tracking))
    except NotAnAddressError:
        return url


def _without_tracking(address: Address, tracking: frozenset[str]) -> Address:
    named = ((p, p.partition("=")[0].lower()) for p in address.query.split("&") if p)
    kept = [p for p, name in named if name not in tracking and not name.startswith("utm_")]
    return Address(address.scheme, address.host, address.port, address.path, "&".join(kept))


def same_page(first: str, second: str, policy: FoldingPolicy) -> bool:
    """Whether two texts address one page: a fragment and tracking parameters aside."""
    return _key(first, policy.tracking_names) == _key(second, policy.tracking_names)


def _same_path(first: str, second: str) -> bool:
    """Equal but for scheme and www: where a page that stays may be settled to."""
    return _host_free(first) == _host_free(second)


def _host_free(key: str) -> str:
    rest = key.partition("://")[2]
    return rest.removeprefix("www.")


def _is_home_url(url: str, policy: FoldingPolicy) -> bool:
    address = _without_tracking(parse_address(url), policy.tracking_names)
    path = without_index_file(lower_ascii(canonical_path(address.path)), policy.index_set)
    return not address.query and (not path or is_language_home(path))


_LANGUAGE_HOME = re.compile(r"/([a-z]{2})(?:-[a-z]{2})?/?\Z", re.IGNORECASE)


def is_language_home(path: str) -> bool:
    """Whether a path is the front page of a language ("/de/", "/pt-br")."""
    match = _LANGUAGE_HOME.match(path)
    return match is not None and bool(code_of(match[1]))


def _ordered(found: set[Verdict]) -> tuple[Verdict, ...]:
    return tuple(v for v in ORDER if v in found) or (Verdict.OK,)
