"""Verdicts: what a trace amounts to, with or without an expected outcome."""

from __future__ import annotations

import re
from functools import lru_cache

from upright_ledger.core.inventory.answer import GONE, IGNORE, KEEP, MOVE, TEMPORARY, Expected
from upright_ledger.core.inventory.normalisation import FoldingPolicy
from upright_ledger.core.tracing.trace import Trace
from upright_ledger.core.url.address import (
    Address,
    NotAnAddressError,
    canonical_path,
    lower_ascii,
    parse_address,
    split_text,
)
from upright_ledger.core.url.destination import page_key, slash_twin
from upright_ledger.core.url.difference import without_index_file
from upright_ledger.core.url.language import code_of, marked

ORDER = (
    "loop",
    "unreachable",
    "server-error",
    "blocked",
    "dead-end",
    "unanswered",
    "not-moved",
    "soft-404",
    "wrong-destination",
    "wrong-language",
    "home-fallback",
    "wrong-status",
    "off-canonical",
    "chain",
    "slash-mismatch",
    "ok",
)
"""All verdicts, the worst first."""

_NOT_FOUND_TITLE = re.compile(
    r"\b404\b|not[ -]found|page (?:can(?:no|')t be found|does(?: not|n't) exist|missing)|nicht "
    r"gefunden|non trouv|introuvable|no encontrad|non trovat",
    re.IGNORECASE,
)


def judge(
    trace: Trace, expected: Expected, homes: frozenset[str], policy: FoldingPolicy
) -> tuple[str, ...]:
    """All verdicts that apply to a trace, the worst first; never empty.

    homes: page keys of the new site's home pages. policy: which parameters are tracking, and which
    names index files.
    """
    found: set[str] = set()
    status, final = trace.first_status, trace.final_status
    moved = trace.redirects
    if trace.loops:
        return ("loop",)
    if not trace.hops or trace.hops[-1].status == 0:
        return ("unreachable",)
    if final >= 500:
        found.add("server-error")
    elif final in {401, 403, 429}:
        found.add("blocked")
    elif final >= 400:
        found |= _refusal(final, moved, expected)
    elif 200 <= final < 300:
        found |= _arrival(trace, expected, policy)
    elif final:
        found.add("wrong-status")  # neither a page nor a redirect that a browser follows
    if expected.kind == IGNORE:
        return _ordered(
            found - {"unanswered", "dead-end", "not-moved"} | ({"wrong-status"} if moved else set())
        )
    if expected.statuses and moved and status not in expected.statuses and expected.kind != KEEP:
        found.add("wrong-status")
    if moved:
        found |= _end(trace, expected, homes, policy)
        slash_hops = [h for h in trace.hops if h.changed == ("slash",)]
        if not expected.meant and changes_language(trace, expected.language):
            found.add("wrong-language")
        if moved >= 2:
            found.add("chain")
        if slash_hops and not (
            moved == 1 and expected.final and same_page(trace.final_url, expected.final, policy)
        ):
            found.add("slash-mismatch")
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


def _refusal(final: int, moved: int, expected: Expected) -> set[str]:
    if final == 410 and not moved:
        # Somebody said "gone" on purpose: right if that was decided, or if nothing was.
        return {"wrong-status"} if expected.kind in {MOVE, TEMPORARY, KEEP} else set()
    if expected.kind == GONE:
        return {"wrong-status"} if not moved else {"dead-end"}
    return {"dead-end"} if moved else {"unanswered"}


def _arrival(trace: Trace, expected: Expected, policy: FoldingPolicy) -> set[str]:
    found: set[str] = set()
    if _NOT_FOUND_TITLE.search(trace.page.title):
        found.add("soft-404")
    elsewhere = not same_page(trace.final_url, expected.final, policy)
    if not trace.redirects and expected.kind in {MOVE, TEMPORARY} and elsewhere:
        found.add("not-moved")
    if expected.kind == GONE or (
        expected.kind == KEEP
        and not trace.redirects
        and trace.final_status not in expected.statuses
    ):
        found.add("wrong-status")
    if trace.page.noindex or (
        trace.page.canonical and not same_page(trace.page.canonical, trace.final_url, policy)
    ):
        found.add("off-canonical")
    return found


def _end(
    trace: Trace, expected: Expected, homes: frozenset[str], policy: FoldingPolicy
) -> set[str]:
    """Judge where a redirected trace ended."""
    end = _key(trace.final_url, policy.tracking_names)
    # Search engines take a page that lands on the front page for a missing one, decided or not.
    found = {"home-fallback"} if end in homes and not _is_home_url(trace.url, policy) else set()
    if not expected.final:
        return found
    goal = _key(expected.final, policy.tracking_names)
    if end == goal or (expected.kind == KEEP and _same_path(end, goal)):
        return found
    if slash_twin(end) == goal:
        return found | {"slash-mismatch"}
    return found or {"wrong-destination"}


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


def _ordered(found: set[str]) -> tuple[str, ...]:
    return tuple(v for v in ORDER if v in found) or ("ok",)
