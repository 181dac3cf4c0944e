"""What the ledger knows of addresses in the content of one's own: where each goes now, and how the
site writes it.
"""

from __future__ import annotations

from collections import Counter, defaultdict
from collections.abc import Mapping
from functools import cached_property
from pathlib import Path
from urllib.parse import unquote

from upright_ledger.app.collect.surveys.rewrite_links import RewrittenLinks
from upright_ledger.app.move_state import MoveState
from upright_ledger.core.crawl.link_rewriting import MovedTable, Put
from upright_ledger.core.inventory.answer import LASTING, UNANSWERED, AnswerKind
from upright_ledger.core.url.address import Address, address_of, parse_address, split_text
from upright_ledger.core.url.request_target import names_file
from upright_ledger.core.url.tokens import path_parts
from upright_ledger.core.word import Word
from upright_ledger.formats.tables.export import CSV, write_table
from upright_ledger.formats.tables.workbooks import Sheet
from upright_ledger.ledger.tables.proposals import load_proposals

COLUMNS = ("url", "why", "times", "leads_to", "proposal", "confidence")
LEFT = "left.csv"


class LinkState(Word):
    """Why an address is put right, or named."""

    ANSWERED = "answered by the ledger"
    MOVED = "moved"
    SCHEME = "scheme"
    HOST = "host"
    SLASH = "closing slash"
    CASE = "letter case"
    TEMPORARY = "temporary redirect"
    GONE = "gone"
    DEAD = "no page, and no answer"


class KnownLinks:
    """Answers of the ledger, its stock, and what a survey saw. moved: address → where it goes, of a
    survey, or nothing.
    """

    def __init__(self, move: MoveState, moved: Mapping[str, str] | None = None) -> None:
        self._move, self._moved = move, MovedTable(moved or {})
        sites = move.sites
        own = {*sites.site_of_authority, *sites.new_authorities}
        twins = {a.removeprefix("www.") for a in own} | {f"www.{a}" for a in own if a[:4] != "www."}
        self.hosts = own | twins | set(self._moved.hosts)
        self._new = split_text(sites.new[0])[1]
        self._rules = move.compiled.all_rules

    @cached_property
    def _pages(self) -> dict[tuple[str, str], str]:
        """Host without www and path, whatever its slash and case → the page there; empty where two
        pages are told apart by these alone.
        """
        found: dict[tuple[str, str], set[str]] = defaultdict(set)
        for page in self._move.stock.values():
            if page.status < 300:
                found[_bare(parse_address(page.url))].add(page.url)
        return {key: urls.pop() if len(urls) == 1 else "" for key, urls in found.items()}

    @cached_property
    def _exact(self) -> frozenset[str]:
        return frozenset(p.url for p in self._move.stock.values() if p.status < 300)

    def of(self, scheme: str, authority: str, target: str) -> Put | None:
        """What to put for an address; see `Resolver`."""
        for asked in self._readings(scheme, authority, target):
            if asked.without_fragment in self._exact and (
                authority or asked.authority == self._new
            ):
                return None
            if (put := self._put(asked)) is not None:
                return put
        if (put := self._moved.of(scheme, authority, target)) is not None:
            return put._replace(why=LinkState.MOVED)
        return Put("", LinkState.DEAD) if self._is_dead(scheme, authority, target) else None

    def _readings(self, scheme: str, authority: str, target: str) -> list[Address]:
        """The whole addresses that this may be: a path alone is of the new site or an old one."""
        if authority:
            return [address_of(f"{scheme or 'https'}://{authority}{target}")]
        sites = self._move.sites
        origins = [sites.new[0], *(o for site in sites.old for o in site.origins[:1])]
        return [address_of(f"{origin}{target}") for origin in dict.fromkeys(origins)]

    def _put(self, asked: Address) -> Put | None:
        sites = self._move.sites
        if asked.authority in sites.site_of_authority:
            answer = self._rules.answer_of_rules(asked.authority, asked.target)
            if answer is not None:
                if answer.status in LASTING and answer.location:
                    return Put(answer.location, LinkState.ANSWERED, self._new)
                why = LinkState.TEMPORARY if answer.location else LinkState.GONE
                return Put("", why)
            entry = self._move.entry_of(asked)
            if entry is not None and entry.answer.kind == AnswerKind.KEEP:
                return None
        page = self._pages.get(_bare(asked), "")
        if not page or page == asked.without_fragment:
            return None
        return Put(page, _difference(asked, parse_address(page)), self._new)

    def _is_dead(self, scheme: str, authority: str, target: str) -> bool:
        """Whether an address is known to lead nowhere: an open entry, or no page in stock. Files
        stand in no stock, and a path alone may be anything.
        """
        if any(
            entry is not None and entry.answer.kind in UNANSWERED
            for entry in map(self._move.entry_of, self._readings(scheme, authority, target))
        ):
            return True
        path = target.partition("?")[0]
        return bool(authority and self._pages) and (not names_file(path) or _is_page_name(path))

    def write_left(self, done: list[RewrittenLinks], path: Path) -> Counter[str]:
        """Write the addresses for which nothing could be put, with the page that is proposed for
        each; why → how many.
        """
        named: Counter[tuple[str, str]] = Counter()
        for one in done:
            named += one.named
        with self._move.ledger.reading() as connection:
            proposals = load_proposals(connection)
        rows = []
        for (text, why), times in sorted(named.items(), key=lambda x: (-x[1], x[0])):
            url = text.replace("\\/", "/").replace("&amp;", "&")
            address = parse_address(url, self._move.sites.old[0].origins[0])
            entry = self._move.entry_of(address)
            best = next(iter(proposals.get(entry.id, ())), None) if entry is not None else None
            goal = entry.answer.destination if entry is not None else ""
            told = (best.destination, best.confidence) if best and not goal else ("", "")
            rows.append((url, why, times, goal, *told))
        write_table(path, Sheet("left", COLUMNS, rows, ("url", "proposal")), otherwise=CSV)
        counts: Counter[str] = Counter()
        for (_, why), times in named.items():
            counts[why] += times
        return counts


def _bare(address: Address) -> tuple[str, str]:
    path, mark, query = address.target.partition("?")
    host = address.authority.removeprefix("www.")
    return host, f"{path.rstrip('/').lower()}{mark}{query}"


def _is_page_name(path: str) -> bool:
    return path_parts(path)[-1:] != [unquote(path.rpartition("/")[2])]


def _difference(one: Address, other: Address) -> LinkState:
    """In what two addresses of one page differ, the most telling first."""
    if one.authority != other.authority:
        return LinkState.HOST
    if one.path.lower() != other.path.lower():
        return LinkState.SLASH
    return LinkState.CASE if one.path != other.path else LinkState.SCHEME
