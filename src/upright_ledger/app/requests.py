"""Requests to be traced: URL lists, sheets and logs, each distinct request once with its weight."""

from __future__ import annotations

import random
from collections import Counter
from dataclasses import dataclass, field, replace

from upright_ledger.app.book import Book
from upright_ledger.app.gather import base_origin, options_for
from upright_ledger.app.inputs import inputs
from upright_ledger.app.runs import load_run
from upright_ledger.core.addresses import Address, NotAnAddressError, names_file, parse_address, toggle_slash
from upright_ledger.core.answers import KEEP, MOVE, Expected
from upright_ledger.core.evidence import BOTS, CLICKS, HITS, VISITS
from upright_ledger.core.families import Sections
from upright_ledger.core.placing import Placer
from upright_ledger.errors import InputError, UsageError
from upright_ledger.formats.records import Aside, ReadOptions, Record, Reject
from upright_ledger.formats.registry import check_kind, read_urls
from upright_ledger.ledger.entries import Entry


@dataclass
class Requests:
    """Distinct requests with their hits, and what was left out by reason (lines). expected: of those of which more is expected
    than their entries tell. keys: site and key of the entries of those that were placed when they were read.
    """

    addresses: dict[str, Address] = field(default_factory=dict)
    hits: Counter[str] = field(default_factory=Counter)
    left_out: Counter[str] = field(default_factory=Counter)
    expected: dict[str, Expected] = field(default_factory=dict)
    keys: dict[str, tuple[str, str]] = field(default_factory=dict)

    def entry(self, book: Book, text: str) -> Entry | None:
        """The entry that a request belongs to, or None."""
        key = self.keys.get(text)
        return book.by_key.get(key) if key is not None else book.entry_of(self.addresses[text])

    def most_valuable(self, book: Book, top: int) -> Requests:
        """As many requests as are wanted, those of the most valuable entries; all of them where `top` is 0."""
        if not top or len(self.addresses) <= top:
            return self
        worth = {text: e.evidence.value if (e := self.entry(book, text)) else 0.0 for text in self.addresses}
        ranked = sorted(self.addresses, key=lambda text: (-worth[text], -self.hits[text], text))
        return replace(self, addresses={text: self.addresses[text] for text in ranked[:top]})


def own_requests(book: Book, *, section: str = "", sample: int = 0) -> Requests:
    """The ledger's own entries, each by its plainest address, the most valuable first.

    sample: as many drawn by chance, the same ones every time.
    """
    entries = sorted(book.entries, key=lambda e: (-e.evidence.value, e.legacy_url))
    if section:
        sections = Sections(book.ledger.settings.sections)
        entries = [e for e in entries if sections.of(e.site, e.key) == section]
    if sample and sample < len(entries):
        chosen = {e.id for e in random.Random(len(entries)).sample(entries, sample)}
        entries = [e for e in entries if e.id in chosen]
    found = Requests()
    for entry in entries:
        address = parse_address(entry.legacy_url)
        found.addresses[address.without_fragment] = address
        found.hits[address.without_fragment] = int(entry.evidence.hits)
        found.keys[address.without_fragment] = (entry.site, entry.key)
    if not found.addresses:
        raise InputError("no entry of the ledger is among those", "upright entries lists them")
    return found


def found_requests(book: Book, verdict: str) -> Requests:
    """The URLs that the newest run found so. Raises UsageError where it found none."""
    last = load_run(book.ledger, "last")
    found = Requests()
    for row in (r for r in last.rows if r.verdict == verdict):
        address = parse_address(row.trace.url)
        found.addresses[address.without_fragment] = address
        found.hits[address.without_fragment] = row.hits
    if not found.addresses:
        raise UsageError(
            f"the last run ({last.name or last.run}) found nothing {verdict}", "upright runs lists what was found"
        )
    return found


def host_matrix(book: Book) -> Requests:
    """Every scheme, host with and without www, and slash of each old and new origin, which must reach one canonical form in one hop.

    Asked for are the front pages, and the most valuable page of the new site.
    """
    canonical = {form.site: form.origin for form in book.ledger.settings.forms}
    wanted: dict[str, str] = {}  # host → the origin where it should end
    for site in book.sites.old:
        shared = book.sites.shared_origins(site.name)
        end = canonical.get(site.name) or next(iter(shared), book.sites.new[0])
        wanted |= {host: end for o in site.origins for host in _with_and_without_www(o)}
    for origin in book.sites.new:
        wanted |= {host: wanted.get(host, origin) for host in _with_and_without_www(origin)}
    page = _best_page(book)
    found = Requests()
    for host, origin in wanted.items():
        paths = ["/"]
        if page is not None and page.origin == origin and host in _with_and_without_www(origin):
            paths += [page.path, toggle_slash(page.path)]
        for scheme in ("http", "https"):
            for path in paths:
                address = parse_address(f"{scheme}://{host}{path}")
                goal = f"{origin}{page.path if page is not None and path != '/' else '/'}"
                found.addresses[address.text] = address
                right = address.text == goal
                found.expected[address.text] = (
                    Expected(frozenset({200}), goal, kind=KEEP)
                    if right
                    else Expected(frozenset({301, 308}), goal, redirects=True, kind=MOVE)
                )
    return found


def _with_and_without_www(origin: str) -> tuple[str, str]:
    authority = parse_address(origin).authority
    return authority, authority.removeprefix("www.") if authority.startswith("www.") else f"www.{authority}"


def _best_page(book: Book) -> Address | None:
    """The page of the new site to which the most value leads, by a path that may have a slash."""
    worth: Counter[str] = Counter()
    for entry in book.entries:
        if entry.answer.destination:
            worth[entry.answer.destination] += int(entry.evidence.value) + 1
    for text, _ in worth.most_common():
        address = parse_address(text)
        if not address.query and address.path != "/" and not names_file(address.path):
            return address
    return None


def read_requests(
    book: Book, paths: list[str], options: ReadOptions | None = None, kind: str = "", host: str = ""
) -> Requests:
    """Read all files. A request's hits are what the files say (people only).

    Where they say nothing, the first spelling of an entry stands for all the hits the ledger knows of it.
    """
    check_kind(kind)
    found = Requests()
    said: set[str] = set()
    placer = Placer(book.sites, book.policy, base_origin(book.sites, host))
    # A request is traced as it was sent: nothing of its query is left out.
    chosen = replace(options_for(options or ReadOptions(), book.sites, book.policy), noise={})
    with inputs(paths) as files:
        for file in files:
            for item in read_urls(file.path, kind, chosen)[1].items:
                if isinstance(item, Reject):
                    found.left_out["could not be read"] += 1
                elif isinstance(item, Aside):
                    found.left_out[item.kind] += item.lines
                else:
                    _add(found, said, item, placer)
    if not found.addresses:
        raise InputError(f"no request for this ledger's old sites is in {', '.join(paths)}", "check the files")
    told: set[int] = set()
    for text in found.addresses:
        entry = found.entry(book, text) if text not in said else None
        if entry is not None and entry.id not in told:
            told.add(entry.id)
            found.hits[text] = int(entry.evidence.hits)
    return found


def _add(found: Requests, said: set[str], record: Record, placer: Placer) -> None:
    try:
        if record.sent:
            address, place = placer.sent_address(record.url, record.host), placer.sent(record.url, record.host)
        else:
            address, place = parse_address(record.url, placer.base), placer.written(record.url)
    except NotAnAddressError:
        found.left_out["could not be read"] += record.lines
        return
    if place.aside:
        found.left_out[place.aside] += record.lines
        return
    text = address.without_fragment
    if text not in found.addresses:
        found.addresses[text], found.keys[text] = address, (place.site, place.key)
    told = [f for f in record.figures if f.unit in {HITS, VISITS, CLICKS}]
    if told:
        said.add(text)
        people = [f for f in told if f.agent != BOTS]
        found.hits[text] += int(max(sum(f.amount for f in people if f.unit == u) for u in (HITS, VISITS, CLICKS)))
