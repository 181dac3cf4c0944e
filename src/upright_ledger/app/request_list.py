"""Requests to be traced: URL lists, sheets and logs, each distinct request once with its weight."""

from __future__ import annotations

import random
from collections import Counter
from collections.abc import Callable
from dataclasses import dataclass, field

from upright_ledger.app.move_state import MoveState
from upright_ledger.core.inventory.answer import LASTING, AnswerKind, Expected
from upright_ledger.core.inventory.entry import Entry
from upright_ledger.core.inventory.packed import PackedDays
from upright_ledger.core.inventory.sections import Sections
from upright_ledger.core.url.address import Address, address_of, parse_address
from upright_ledger.core.url.request_target import names_file, toggle_slash
from upright_ledger.errors import InputError


@dataclass
class Requests:
    """Distinct requests in columns: URLs, the site and key of their entries (empty where none could
    be theirs), hits.

    days: URL → its hits by day, where a log told them. expected: of
    those of which more is expected than their entries tell. left_out: reason → lines. without: kind
    of parameters without which logged requests were counted → lines.
    """

    urls: list[str] = field(default_factory=list)
    sites: list[str] = field(default_factory=list)
    keys: list[str] = field(default_factory=list)
    hits: list[int] = field(default_factory=list)
    days: dict[str, PackedDays] = field(default_factory=dict)
    expected: dict[str, Expected] = field(default_factory=dict)
    left_out: Counter[str] = field(default_factory=Counter)
    without: Counter[str] = field(default_factory=Counter)
    _entries: list[Entry | None] = field(default_factory=list)
    """Those of the first requests, looked up once."""

    def __len__(self) -> int:
        return len(self.urls)

    def add(self, url: str, site: str = "", key: str = "", hits: int = 0) -> None:
        """Take up a request that is not among them."""
        self.urls.append(url)
        self.sites.append(site)
        self.keys.append(key)
        self.hits.append(hits)

    def entries(self, move: MoveState, start: int = 0) -> list[Entry | None]:
        """The entry of each request from number `start` on, or None."""
        known = self._entries
        more = zip(self.sites[len(known) :], self.keys[len(known) :], strict=True)
        known += map(move.by_key.get, more)
        return known[start:]

    def most_valuable(self, move: MoveState, top: int) -> Requests:
        """As many requests as are wanted, those of the most valuable entries; all of them where
        `top` is 0.
        """
        if not top or len(self) <= top:
            return self
        worth = [e.evidence.value if e is not None else 0.0 for e in self.entries(move)]
        ranked = sorted(range(len(self)), key=lambda n: (-worth[n], -self.hits[n], self.urls[n]))[
            :top
        ]
        chosen = Requests(
            days=self.days, expected=self.expected, left_out=self.left_out, without=self.without
        )
        for n in ranked:
            chosen.add(self.urls[n], self.sites[n], self.keys[n], self.hits[n])
        return chosen


def own_requests(
    move: MoveState,
    *,
    section: str = "",
    sample: int = 0,
    wanted: Callable[[Entry], bool] = lambda _: True,
) -> Requests:
    """The ledger's own entries that are wanted, each by its plainest address, the most valuable
    first.

    sample: as many drawn by chance, the same ones every time.
    """
    entries = sorted(filter(wanted, move.entries), key=lambda e: (-e.evidence.value, e.legacy_url))
    if section:
        sections = Sections(move.ledger.settings.sections)
        entries = [e for e in entries if sections.of(e.site, e.key) == section]
    if sample and sample < len(entries):
        chosen = {e.id for e in random.Random(len(entries)).sample(entries, sample)}
        entries = [e for e in entries if e.id in chosen]
    found = Requests()
    for entry in entries:
        found.add(
            address_of(entry.legacy_url).without_fragment,
            entry.site,
            entry.key,
            int(entry.evidence.hits),
        )
    if not found:
        raise InputError("no entry of the ledger is among those", "upright entries lists them")
    return found


def host_matrix(move: MoveState) -> Requests:
    """Every scheme, host with and without www, and slash of each old and new origin, which must
    reach one canonical form in one hop.

    Asked for are the front pages, and the most valuable page of the new site.
    """
    canonical = {form.site: form.origin for form in move.ledger.settings.forms}
    wanted: dict[str, str] = {}  # host → the origin where it should end
    for site in move.sites.old:
        shared = move.sites.shared_origins(site.name)
        end = canonical.get(site.name) or next(iter(shared), move.sites.new[0])
        wanted |= {host: end for o in site.origins for host in _with_and_without_www(o)}
    for origin in move.sites.new:
        wanted |= {host: wanted.get(host, origin) for host in _with_and_without_www(origin)}
    page = _best_page(move)
    found = Requests()
    for host, origin in wanted.items():
        paths = ["/"]
        if page is not None and page.origin == origin and host in _with_and_without_www(origin):
            paths += [page.path, toggle_slash(page.path)]
        for scheme in ("http", "https"):
            for path in paths:
                address = parse_address(f"{scheme}://{host}{path}")
                goal = f"{origin}{page.path if page is not None and path != '/' else '/'}"
                found.add(address.text)
                right = address.text == goal
                found.expected[address.text] = (
                    Expected(frozenset({200}), goal, kind=AnswerKind.KEEP)
                    if right
                    else Expected(LASTING, goal, redirects=True, kind=AnswerKind.MOVE)
                )
    return found


def _with_and_without_www(origin: str) -> tuple[str, str]:
    authority = parse_address(origin).authority
    return authority, authority.removeprefix("www.") if authority.startswith(
        "www."
    ) else f"www.{authority}"


def _best_page(move: MoveState) -> Address | None:
    """The page of the new site to which the most value leads, by a path that may have a slash."""
    worth: Counter[str] = Counter()
    for entry in move.entries:
        if entry.answer.destination:
            worth[entry.answer.destination] += int(entry.evidence.value) + 1
    for text, _ in worth.most_common():
        address = parse_address(text)
        if not address.query and address.path != "/" and not names_file(address.path):
            return address
    return None
