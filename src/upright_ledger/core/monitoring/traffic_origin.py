"""Attribution: where requests come from, by their referrers and campaign parameters."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from typing import NamedTuple

from upright_ledger.core.url.request_target import lower_ascii
from upright_ledger.core.word import Word


class Origin(Word):
    """Where requests come from."""

    INTERNAL = "own page"
    CAMPAIGN = "campaign"
    MAIL = "mail"
    SEARCH = "search engine"
    SOCIAL = "social network"
    APP = "app"
    SITE = "another site"
    DIRECT = "direct"


BY_CAMPAIGN = "campaign:"
"""What stands before the referrer of requests that carried campaign parameters or a click
identifier.
"""

# The name before the public suffix, or a label of it, of hosts from which people come.
_SEARCH = frozenset(
    ["google", "bing", "duckduckgo", "yahoo", "yandex", "baidu", "ecosia", "startpage", "qwant",
        "naver", "seznam", "brave", "search", "suche"]
)  # fmt: skip
_SOCIAL = frozenset(
    ["facebook", "fb", "instagram", "twitter", "x", "t", "linkedin", "lnkd", "reddit", "pinterest",
        "youtube", "tiktok", "mastodon", "bsky", "threads", "vk", "xing", "social"]
)  # fmt: skip
_MAIL = frozenset(["mail", "webmail", "outlook", "gmail", "newsletter", "email"])
_SHORT_SOCIAL = frozenset(["t.co", "x.com", "fb.me", "lnkd.in"])
_HOST = re.compile(r"[a-z][a-z0-9+.-]*://([^/?#]*)", re.IGNORECASE)


class TrafficSource(NamedTuple):
    """Requests from one place. whence: the page or host, or empty."""

    origin: Origin
    whence: str
    requests: float


@dataclass(frozen=True)
class KnownHosts:
    """What the settings and the ledger know of hosts. own: of the old and new site. named: origin →
    hosts that the settings name.
    """

    own: frozenset[str] = frozenset()
    named: Mapping[Origin, frozenset[str]] = field(default_factory=dict)


def origin_of(referrer: str, known: KnownHosts) -> tuple[Origin, str]:
    """The origin of requests with a referrer, and the page (of one's own site) or host it names."""
    if not referrer:
        return Origin.DIRECT, ""
    if referrer.startswith(BY_CAMPAIGN):
        return Origin.CAMPAIGN, referrer.removeprefix(BY_CAMPAIGN)
    match = _HOST.match(referrer)
    host = lower_ascii(match[1] if match else "").rpartition("@")[2]
    if referrer[:4].lower() in {"andr", "ios-"} and "app" in referrer[:12].lower():
        return Origin.APP, host
    name = host.partition(":")[0]
    if not name:
        return Origin.DIRECT, ""
    if host in known.own or name in known.own:
        return Origin.INTERNAL, referrer
    for origin, hosts in known.named.items():
        if name in hosts:
            return origin, name
    labels = name.split(".")
    if name in _SHORT_SOCIAL:
        return Origin.SOCIAL, name
    body = {label for label in labels[:-1] if len(label) > 1}
    if body & _MAIL:
        return Origin.MAIL, name
    if body & _SEARCH:
        return Origin.SEARCH, name
    if body & _SOCIAL:
        return Origin.SOCIAL, name
    return Origin.SITE, name


def came_from(
    referrers: Iterable[tuple[str, float]], requests: float, known: KnownHosts
) -> list[TrafficSource]:
    """Where the requests of an entry come from, the most frequent first. requests: all of them;
    what no referrer accounts for came directly.
    """
    found: dict[tuple[Origin, str], float] = {}
    for referrer, amount in referrers:
        key = origin_of(referrer, known)
        found[key] = found.get(key, 0.0) + amount
    named = sum(found.values()) - found.get((Origin.DIRECT, ""), 0.0)
    direct = max(requests - named, 0.0)
    found.pop((Origin.DIRECT, ""), None)
    if direct:
        found[Origin.DIRECT, ""] = direct
    return sorted(
        (TrafficSource(*key, n) for key, n in found.items()),
        key=lambda c: (-c.requests, c.origin, c.whence),
    )
