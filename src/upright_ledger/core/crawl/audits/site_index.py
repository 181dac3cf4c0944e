"""What a survey saw of a site, as the audits look at it: addresses, links to mend, and what answers
how.

What was seen is gone through once, and only what is needed is kept: a survey of 100,000 pages holds
millions of links. A link is kept as long as it is not known what its address answers, and then only
where it is to be mended.
"""

from __future__ import annotations

import re
from collections import Counter, defaultdict
from collections.abc import Callable, Iterable, Iterator, Mapping
from dataclasses import dataclass, field
from fnmatch import fnmatchcase
from typing import NamedTuple

from upright_ledger.core.contents.sketches import Sketch
from upright_ledger.core.crawl.frontier import EXTERNAL, PROBE, USUAL
from upright_ledger.core.crawl.observation import (
    CANONICAL,
    HREFLANG,
    RESOURCE,
    SITEMAP_LINE,
    CrawlOutcome,
    Link,
    Observation,
)
from upright_ledger.core.inventory.answer import LASTING
from upright_ledger.core.inventory.evidence import EntryEvidence
from upright_ledger.core.severity import Severity
from upright_ledger.core.url.address import NotAnAddressError, parse_address, split_text
from upright_ledger.core.url.conventions import INDEX_FILES

_MOST_HOPS = 20
_AUTHORITY = re.compile(r"(?:https?:)?//([^/?#\\]+)", re.IGNORECASE)
_PAGE_TYPES = ("text/html", "application/xhtml+xml", "")


TO_MEND = frozenset([CrawlOutcome.MOVED, CrawlOutcome.FAILING])
"""Outcomes of addresses to which no link should lead."""

_Written = tuple[str, str, str]
"""A link as it stands in a page: the address as written, its text, its place."""


class PageRecord(NamedTuple):
    """What is kept of an address: `Observation` without its links."""

    outcome: CrawlOutcome
    status: int
    location: str
    reason: str
    title: str
    canonical: str
    language: str
    noindex: bool
    is_page: bool
    needs_script: bool
    digest: str
    letters: int
    depth: int
    hsts: str
    via: str
    barred: bool


class LinkToMend(NamedTuple):
    """A link that leads to a redirect or an error. final: the address to put there instead, empty
    where there is none. pages: that hold it, `source` first. external: it leads to another site.
    """

    source: str
    target: str
    written: str
    text: str
    place: str
    status: int
    final: str
    pages: int
    in_template: bool
    external: bool = False


@dataclass
class SurveyedSite:
    """What a survey saw of a site, as the audits look at it.

    lines: address → what is kept of it. probes, external: likewise, of addresses that were asked
    only to see the answer, and of those on other sites. inbound: address → pages that link to it;
    on: address → one of them. listed: addresses of sitemaps → the sitemap. canonicals: page → the
    address it names. languages: (page, address of the same in another language). mixed: resources
    in the clear → a page. staged: what names the staging server at which the site was asked → a
    page. texts: page → what it says.
    """

    lines: dict[str, PageRecord] = field(default_factory=dict)
    probes: dict[str, PageRecord] = field(default_factory=dict)
    external: dict[str, PageRecord] = field(default_factory=dict)
    inbound: Counter[str] = field(default_factory=Counter)
    on: dict[str, str] = field(default_factory=dict)
    listed: dict[str, str] = field(default_factory=dict)
    canonicals: dict[str, str] = field(default_factory=dict)
    languages: set[tuple[str, str]] = field(default_factory=set)
    mixed: dict[str, str] = field(default_factory=dict)
    staged: dict[str, str] = field(default_factory=dict)
    mends: list[LinkToMend] = field(default_factory=list)
    texts: dict[str, Sketch] = field(default_factory=dict)
    pages: int = 0
    _links: dict[str, dict[_Written, list[str]]] = field(default_factory=dict)

    def add(self, seen: Observation) -> None:
        """Keep what is needed of an address."""
        if seen.via == USUAL and seen.outcome != CrawlOutcome.ANSWERED:
            return  # no sitemap in a usual place is no fault
        place = {PROBE: self.probes, EXTERNAL: self.external}.get(seen.via, self.lines)
        place[seen.url] = _line(seen)
        if place is self.lines:
            if seen.facts.sketch:
                self.texts[seen.url] = seen.facts.sketch
            if seen.outcome not in TO_MEND:
                self._links.pop(seen.url, None)
            self._add_links(seen)

    def _add_links(self, seen: Observation) -> None:
        """Take up the links of one page."""
        lines, waiting = self.lines, self._links
        targets = set()
        for link in seen.facts.links:
            if _names_another_place(link):
                self.staged.setdefault(link.written.strip(), seen.url)
            if link.kind == SITEMAP_LINE:
                self.listed.setdefault(link.target, seen.url)
            elif link.kind == CANONICAL:
                self.canonicals[seen.url] = link.target
            elif link.kind == HREFLANG:
                self.languages.add((seen.url, link.target))
            else:
                target = link.target
                targets.add(target)
                if (
                    link.kind == RESOURCE
                    and seen.url.startswith("https:")
                    and target.startswith("http:")
                ):
                    self.mixed.setdefault(target, seen.url)
                line = lines.get(target)
                if line is None or line.outcome in TO_MEND:
                    held = waiting.setdefault(target, {})
                    held.setdefault((link.written, link.text, link.place), []).append(seen.url)
        for target in targets:
            self.inbound[target] += 1
            self.on.setdefault(target, seen.url)

    def settle(self) -> None:
        """Work out the links to mend, when all was added."""
        self.pages = sum(
            1
            for line in self.lines.values()
            if line.is_page and line.outcome == CrawlOutcome.ANSWERED
        )
        self.mends = sorted(
            self._mends(),
            key=lambda m: (not m.in_template, -m.pages, bool(m.final), m.target, m.source),
        )

    def _mends(self) -> Iterator[LinkToMend]:
        for target, links in self._links.items():
            line = self.lines.get(target)
            external = line is None
            line = line or self.external.get(target)
            if line is None:
                continue  # it was never asked
            if external:
                # Another site's temporary redirect is its own affair.
                lasting = line.outcome == CrawlOutcome.MOVED and line.status in LASTING
                if not (lasting or is_dead(line)):
                    continue
            elif line.outcome not in TO_MEND:
                continue
            final, status = (line.location, _FOUND) if external else self.final(target)
            right = final if status == _FOUND and final != target else ""
            for (written, text, place), sources in links.items():
                in_template = len(sources) >= max(5, self.pages // 2)
                told = (target, written, text, place, line.status, right)
                if in_template:
                    yield LinkToMend(sources[0], *told, len(sources), True, external)
                else:
                    for source in dict.fromkeys(sources):
                        yield LinkToMend(source, *told, 1, False, external)

    def final(self, url: str) -> tuple[str, int]:
        """Where an address ends after all its redirects, and the status there; 0 where that was not
        seen, or never ends.
        """
        for _ in range(_MOST_HOPS):
            line = self.lines.get(url)
            if line is None:
                return url, 0
            if line.outcome != CrawlOutcome.MOVED or not line.location:
                return url, line.status
            url = line.location.partition("#")[0]
        return url, 0

    def of(self, outcome: CrawlOutcome) -> Iterator[str]:
        """The addresses of an outcome."""
        return (url for url, line in self.lines.items() if line.outcome == outcome)


def _names_another_place(link: Link) -> bool:
    """Whether what is written in a page names the place where it was asked, and not where it is
    public.
    """
    written = _AUTHORITY.match(link.written.strip())
    if written is None or written[1] == split_text(link.target)[1]:
        return False
    try:
        named = parse_address(link.written.strip(), link.target)
    except NotAnAddressError:
        return False
    return named.authority != split_text(link.target)[1]


_FOUND = 200
_SAYS_NOTHING = frozenset([405, 501, 999])


def is_dead(line: PageRecord) -> bool:
    """Whether an address fails; some servers answer HEAD with what says nothing."""
    return (
        line.outcome in {CrawlOutcome.FAILING, CrawlOutcome.UNREACHABLE}
        and line.status not in _SAYS_NOTHING
    )


def _line(seen: Observation) -> PageRecord:
    facts, kind = seen.facts, seen.content_type.partition(";")[0].strip().lower()
    return PageRecord(
        seen.outcome, seen.status, seen.location, seen.reason or seen.error,
        facts.title or facts.heading, facts.canonical, facts.language, seen.noindex,
        seen.status == 200 and kind in _PAGE_TYPES, facts.needs_script, facts.digest, facts.letters,
        seen.depth,
        seen.headers.get("strict-transport-security", ""), seen.via, seen.barred,
    )  # fmt: skip


class OutcomeRow(NamedTuple):
    """Addresses of one outcome in one group: how many, and how many pages link to them."""

    group: str
    outcome: CrawlOutcome
    addresses: int
    linked: int


def outcomes(site: SurveyedSite, group_of: Callable[[str], str]) -> list[OutcomeRow]:
    """What answers how, by group (a section, or a family), the groups with most addresses first."""
    counts: Counter[tuple[str, CrawlOutcome]] = Counter()
    linked: Counter[tuple[str, CrawlOutcome]] = Counter()
    sizes: Counter[str] = Counter()
    for url, line in site.lines.items():
        key = (group_of(url), line.outcome)
        counts[key] += 1
        linked[key] += site.inbound[url]
        sizes[key[0]] += 1
    rows = [OutcomeRow(*key, counts[key], linked[key]) for key in counts]
    return sorted(rows, key=lambda r: (-sizes[r.group], r.group, -r.addresses))


def severity(bad: int, whole: int) -> Severity:
    """How grave faults are by share and scale: a dozen of two hundred is an error, a dozen of
    400,000 a note.
    """
    share = bad / whole if whole else 0.0
    return (
        Severity.ERROR if share >= 0.01 else Severity.WARNING if share >= 0.001 else Severity.NOTE
    )


class AuditFinding(NamedTuple):
    """One kind of fault. text: what it is, with figures; rows: the addresses, each with another
    one; beside: what that is to it (it stands *on* that page, leads *to* it, is the same *as* it).
    """

    audit: str
    kind: str
    severity: Severity
    text: str
    rows: list[tuple[str, str]]
    beside: str = "to"


def by_host(urls: Iterable[str]) -> dict[str, list[str]]:
    """Addresses by their host."""
    found: dict[str, list[str]] = defaultdict(list)
    for url in urls:
        found[split_text(url)[1]].append(url)
    return found


def as_rows(urls: Iterable[str]) -> list[tuple[str, str]]:
    """Addresses as rows of a fault, in order, with nothing beside them."""
    return [(url, "") for url in sorted(urls)]


def _nothing_known(_: str) -> EntryEvidence | None:
    return None


def _never(_: str) -> bool:
    return False


@dataclass(frozen=True)
class ExpectedSite:
    """What the site should be. origin: its canonical origin; origins: all that it has, which
    sitemaps may name. slash: "always", "never", or empty for as most pages have it. staging: it is
    not public yet. index_files: names that stand for their folder. known: what the ledger knows of
    an address. is_old: whether one lies on an old site and not on the new one. ignored: patterns of
    links that are not to be mended, each with the reason.
    """

    origin: str
    slash: str = ""
    staging: bool = False
    origins: tuple[str, ...] = ()
    index_files: frozenset[str] = frozenset(INDEX_FILES)
    known: Callable[[str], EntryEvidence | None] = _nothing_known
    is_old: Callable[[str], bool] = _never
    ignored: Mapping[str, str] = field(default_factory=dict)

    def is_ignored(self, url: str) -> bool:
        """Whether a link is one that is not to be mended."""
        return any(fnmatchcase(url, pattern) for pattern in self.ignored)

    def to_mend(self, site: SurveyedSite) -> list[LinkToMend]:
        """The links of a site that are to be mended."""
        return [m for m in site.mends if not self.is_ignored(m.target)]

    def has(self, url: str) -> bool:
        """Whether an address lies on one of its origins."""
        return any(url.startswith(f"{origin}/") for origin in (self.origin, *self.origins))
