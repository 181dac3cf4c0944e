"""Attribution: where requests come from, by their referrers and campaign parameters."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from typing import NamedTuple

from upright_ledger.core.monitoring.campaigns import BY_CAMPAIGN, BY_SOURCE, is_told
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
    NOT_TOLD = "not told"


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
    """The origin of requests with a referrer, and the page (of one's own site), the host, or the
    campaign or source that it names.
    """
    if not referrer:
        return Origin.DIRECT, ""
    if referrer.startswith(BY_CAMPAIGN):
        return Origin.CAMPAIGN, referrer.removeprefix(BY_CAMPAIGN)
    if referrer.startswith(BY_SOURCE):
        return _of_source(referrer.removeprefix(BY_SOURCE), known)
    match = _HOST.match(referrer)
    host = lower_ascii(match[1] if match else "").rpartition("@")[2]
    if referrer[:4].lower() in {"andr", "ios-"} and "app" in referrer[:12].lower():
        return Origin.APP, host
    name = host.partition(":")[0]
    if not name:
        return Origin.DIRECT, ""
    if host in known.own or name in known.own:
        return Origin.INTERNAL, referrer
    return _of_host(name, known) or Origin.SITE, name


def _of_host(name: str, known: KnownHosts) -> Origin | None:
    for origin, hosts in known.named.items():
        if name in hosts:
            return origin
    if name in _SHORT_SOCIAL:
        return Origin.SOCIAL
    labels = name.split(".")
    body = {label for label in labels[:-1] or labels if len(label) > 1}
    if body & _MAIL:
        return Origin.MAIL
    if body & _SEARCH:
        return Origin.SEARCH
    return Origin.SOCIAL if body & _SOCIAL else None


_MEDIA = (
    (
        Origin.CAMPAIGN,
        r"cp[acmvp]|ppc|paid|bezahlt|display|banner|affiliate|print|qr|flyer|anzeige",
    ),
    (Origin.MAIL, r"e-?mail|newsletter|mailing"),
    (Origin.SEARCH, r"organic search|organische suche|organic(?! \w)|search|suche"),
    (Origin.SOCIAL, r"social|soziale"),
    (Origin.DIRECT, r"\(?direct\)?|direkt|directo?|diretto"),
)
_MEDIUM = [(origin, re.compile(rf"(?<!\w)(?:{words})", re.IGNORECASE)) for origin, words in _MEDIA]


def _of_source(told: str, known: KnownHosts) -> tuple[Origin, str]:
    """The origin of visits by what an export says of them: "google / organic", "Paid Search"."""
    source, _, medium = (part.strip() for part in told.partition(" / "))
    for origin, words in _MEDIUM:
        if words.search(medium or source):
            return origin, "" if origin == Origin.DIRECT else told
    name = lower_ascii(source)
    if name in known.own:
        return Origin.INTERNAL, ""
    if not is_told(source) or (name == "(direct)" and not is_told(medium)):
        return (Origin.DIRECT, "") if name == "(direct)" else (Origin.NOT_TOLD, "")
    return _of_host(name, known) or Origin.SITE, told


class LostRequests(NamedTuple):
    """What one source says of the requests of an entry. referrers: each with its requests, of
    `requests` in all. is_whole: all who came from somewhere are named, so that the others came
    directly.
    """

    requests: float
    referrers: Iterable[tuple[str, float]]
    is_whole: bool


def came_from(told: Iterable[LostRequests], known: KnownHosts) -> list[TrafficSource]:
    """Where the requests of an entry come from, the most frequent first."""
    found: dict[tuple[Origin, str], float] = {}
    for source in told:
        named = 0.0
        for referrer, amount in source.referrers:
            if referrer:
                key = origin_of(referrer, known)
                found[key] = found.get(key, 0.0) + amount
                named += amount
        rest = Origin.DIRECT if source.is_whole else Origin.NOT_TOLD, ""
        if source.requests - named > _LITTLE:
            found[rest] = found.get(rest, 0.0) + source.requests - named
    return sorted(
        (TrafficSource(*key, n) for key, n in found.items()),
        key=lambda c: (-c.requests, c.origin, c.whence),
    )


_LITTLE = 1e-6  # requests
