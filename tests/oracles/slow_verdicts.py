"""What a trace amounts to, told once more as one sentence after the other."""

from __future__ import annotations

import re
from typing import Any
from urllib.parse import urlsplit

import slow_addresses
import slow_folding

WORST_FIRST = (
    "loop", "unreachable", "server-error", "blocked", "dead-end", "unanswered", "not-moved",
    "soft-404", "wrong-destination", "wrong-language", "home-fallback", "wrong-status",
    "off-canonical", "chain", "slash-mismatch",
)  # fmt: skip


def verdicts(trace: Any, due: Any, homes: set[str]) -> list[str]:
    """All that apply, the worst first. trace, due: read as data."""
    if trace.loops:
        return ["loop"]
    if not trace.hops or trace.hops[-1].status == 0:
        return ["unreachable"]
    moves = [h for h in trace.hops if h.status in (301, 302, 303, 307, 308) or h.how == "refresh"]
    first, last = trace.hops[0].status, trace.final_status
    said = set()
    end, goal = page(trace.final_url), page(due.final)
    if last >= 500:
        said.add("server-error")
    elif last in (401, 403, 429):
        said.add("blocked")
    elif last == 410 and not moves:
        if due.kind in ("move", "temporary", "keep"):
            said.add("wrong-status")
    elif last >= 400:
        if due.kind == "gone" and not moves:
            said.add("wrong-status")
        else:
            said.add("dead-end" if moves else "unanswered")
    elif 200 <= last <= 299:
        if "not found" in trace.page.title.lower() or re.search(r"\b404\b", trace.page.title):
            said.add("soft-404")
        if not moves and due.kind in ("move", "temporary") and end != goal:
            said.add("not-moved")
        if due.kind == "gone":
            said.add("wrong-status")
        if due.kind == "keep" and not moves and last != 200:
            said.add("wrong-status")
        if trace.page.noindex or (trace.page.canonical and page(trace.page.canonical) != end):
            said.add("off-canonical")
    elif last:
        said.add("wrong-status")
    if due.kind == "ignore":
        said -= {"unanswered", "dead-end", "not-moved"}
        if moves:
            said.add("wrong-status")
        return ordered(said)
    if moves:
        if due.statuses and due.kind != "keep" and first not in due.statuses:
            said.add("wrong-status")
        if end in homes and not is_home(trace.url):
            said.add("home-fallback")
        if due.final and end != goal and not (due.kind == "keep" and alike(end, goal)):
            if with_other_slash(end) == goal:
                said.add("slash-mismatch")
            elif "home-fallback" not in said:
                said.add("wrong-destination")
        if not due.meant and due.language and trace.page.language:
            if due.language != trace.page.language:
                said.add("wrong-language")
        elif not due.meant:
            there, here = language(trace.url), language(trace.final_url)
            if there and here and there != here:
                said.add("wrong-language")
        if len(moves) > 1:
            said.add("chain")
        lone = len(moves) == 1 and due.final and end == goal
        if any(h.changed == ("slash",) for h in trace.hops) and not lone:
            said.add("slash-mismatch")
    return ordered(said)


def ordered(said: set[str]) -> list[str]:
    return [v for v in WORST_FIRST if v in said] or ["ok"]


def page(url: str) -> str:
    """An address without what makes no other page."""
    if not url:
        return ""
    parts = urlsplit(url)
    kept = [
        p
        for p in parts.query.split("&")
        if p
        and p.partition("=")[0].lower() not in slow_folding.TRACKING
        and not p.lower().startswith("utm_")
    ]
    path = slow_addresses.canonical_path(parts.path or "/")
    return f"{parts.scheme}://{parts.netloc}{path}{'?' if kept else ''}{'&'.join(kept)}"


def with_other_slash(key: str) -> str:
    bare, mark, query = key.partition("?")
    if bare.count("/") == 3 and bare.endswith("/"):
        return key
    return (bare[:-1] if bare.endswith("/") else bare + "/") + mark + query


def alike(one: str, other: str) -> bool:
    """Equal but for the scheme and www."""
    plain = [re.sub(r"^https?://(www\.)?", "", key) for key in (one, other)]
    return plain[0] == plain[1]


def is_home(url: str) -> bool:
    parts = urlsplit(page(url))
    path = parts.path.lower().strip("/")
    return not parts.query and (
        path in ("", "index.html", "index.php", "de", "en-gb", "de/index.html")
    )


def language(url: str) -> str:
    """What the host or the first folder plainly says, of the languages used here."""
    parts = urlsplit(url)
    if parts.netloc.startswith(("de.", "en.")):
        return parts.netloc[:2]
    match = re.match("/(de|en)(?:[-_][a-z]{2,4})?/", parts.path, re.IGNORECASE)
    return match[1].lower() if match else ""
