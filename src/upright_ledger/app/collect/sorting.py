"""Sorting the items of one source: what becomes a sighting, what is set aside, what is rejected,
all of it counted.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass, field, replace
from pathlib import Path

from upright_ledger.app.collect.rejects import Rejects
from upright_ledger.core.inventory import noise
from upright_ledger.core.inventory.classification import Classified, Classifier, SpellingFacts
from upright_ledger.core.inventory.evidence import Asker, Figure, added_up
from upright_ledger.core.inventory.units import BY_OTHERS, ELSEWHERE, LINKING_DOMAINS, LINKING_PAGES
from upright_ledger.core.monitoring.traffic_origin import BY_CAMPAIGN
from upright_ledger.core.url.address import NotAnAddressError, parse_address, split_text
from upright_ledger.core.url.redaction import Secrets
from upright_ledger.errors import UprightError
from upright_ledger.formats.records import Aside, Item, Reading, Record, Reject
from upright_ledger.ledger.tables.observations import Sighting

BATCH = 20_000  # records
MAX_ASIDE_TEXTS = 10_000
MAX_NAMES = 1_000  # hosts, reasons


@dataclass
class Gathered:
    """What gathering one file amounted to. known: it had been gathered before, so nothing changed.
    anew: it had been gathered before, and this reading is in the place of that one.

    aside, mended, folded: kind → lines. hosts: host → lines that were off-site; reasons: why lines
    were rejected → lines. mapping: meaning → header. failed: why it could not be read, and what to
    do.
    """

    name: str
    kind: str = ""
    lines: int = 0
    accepted: int = 0
    set_aside: int = 0
    rejected: int = 0
    new_entries: int = 0
    known: bool = False
    anew: bool = False
    period: tuple[str, str] = ("", "")
    aside: Counter[str] = field(default_factory=Counter)
    mended: Counter[str] = field(default_factory=Counter)
    folded: Counter[str] = field(default_factory=Counter)
    hosts: Counter[str] = field(default_factory=Counter)
    reasons: Counter[str] = field(default_factory=Counter)
    mapping: dict[str, str] = field(default_factory=dict)
    notes: list[str] = field(default_factory=list)
    rejects: list[Reject] = field(default_factory=list)
    rejects_file: str = ""
    failed: UprightError | None = None


class Sorter:
    """Sorts the items of one source: what becomes a sighting, what is set aside, what is rejected,
    all of it counted.
    """

    def __init__(self, placer: Classifier, result: Gathered, folder: Path) -> None:
        self.result = result
        self._secrets = placer.policy.secrets
        self.rejects = Rejects(folder, self._secrets)
        self.aside_texts: Counter[tuple[str, str]] = Counter()
        self._placer = placer
        self._linked: set[tuple[str, str, str]] = (
            set()
        )  # site, key, and a page or domain that links

    def batches(self, items: Iterable[Item]) -> Iterator[list[Sighting]]:
        """Sightings in lists, each spelling once a list."""
        found: dict[tuple[str, str], Sighting] = {}
        count = 0
        for item in items:
            if isinstance(item, Reject):
                self._reject(item)
            elif isinstance(item, Aside):
                self._set_aside(item.kind, item.lines, item.text)
            else:
                self._sort(item, found)
                count += 1
                if count == BATCH:
                    yield _finished(found)
                    found, count = {}, 0
        if found:
            yield _finished(found)

    def settle(self, aside: Mapping[str, int]) -> None:
        """Take over what became of the lines of addresses in doubt: class → lines that are set
        aside.
        """
        self.result.set_aside += sum(aside.values())
        self.result.aside.update(aside)

    def finish(self, reading: Reading) -> None:
        """Take over what the reader knows at its end."""
        result = self.result
        result.mapping, result.notes = dict(reading.mapping), list(reading.notes)
        result.folded += reading.folded
        result.rejects = self.rejects.first
        result.accepted = result.lines - result.set_aside - result.rejected

    def _sort(self, record: Record, found: dict[tuple[str, str], Sighting]) -> None:
        try:
            if record.sent:
                place = self._placer.sent(record.url, record.host)
                if (
                    place.site
                    and self._placer.is_asset(place)
                    and (elsewhere := self._from_elsewhere(record.referrers))
                ):
                    record = replace(
                        record, figures=[*record.figures, Figure(ELSEWHERE, elsewhere)]
                    )
                people = any(f.agent == Asker.PEOPLE for f in record.figures)
                place = self._placer.seen(
                    place, SpellingFacts(False, record.real, people, _tells_of_others(record))
                )
            else:
                place = self._placer.written(record.url)
                if place.doubt:
                    place = self._placer.seen(
                        place,
                        SpellingFacts(
                            named=True, elsewhere=record.is_link or _tells_of_others(record)
                        ),
                    )
        except NotAnAddressError as error:
            if record.lines:
                self._reject(Reject(record.line, str(error), record.url), record.lines)
            return
        self.result.lines += record.lines
        if place.aside:
            self.result.set_aside += record.lines
            self.result.aside[place.aside] += record.lines
            if place.aside == noise.AsideClass.OFF_SITE:
                self._count(self.result.hosts, split_text(place.spelling)[1], record.lines)
        for mend in record.mends:
            self.result.mended[mend] += record.lines
        for mend in place.mends:
            self.result.folded[mend] += record.lines
        if record.is_link and not place.aside:
            record = replace(
                record, figures=[*record.figures, *self._links(place, record.referrers)]
            )
        _see(found, place, record, self._secrets)

    def _from_elsewhere(self, referrers: Mapping[str, float]) -> float:
        """How many of these requests other sites, or campaigns, led to."""
        found = 0.0
        for text, amount in referrers.items():
            if text.startswith(BY_CAMPAIGN):
                found += amount
                continue
            try:
                page = parse_address(text) if text else None
            except NotAnAddressError:
                continue
            if (
                page is not None
                and not self._placer.sites.site_of(page)
                and not self._placer.sites.is_new(page)
            ):
                found += amount
        return found

    def _links(self, place: Classified, linking: Iterable[str]) -> Iterator[Figure]:
        """The pages and sites that a list of links names for an entry, each once; links of the
        sites' own pages are none.
        """
        for text in linking:
            try:
                page = parse_address(text)
            except NotAnAddressError:
                continue
            sites = self._placer.sites
            if sites.site_of(page) or sites.is_new(page):
                continue
            domain = page.host.removeprefix("www.")
            for unit, name in ((LINKING_PAGES, page.without_fragment), (LINKING_DOMAINS, domain)):
                if (place.site, place.key, name) not in self._linked:
                    self._linked.add((place.site, place.key, name))
                    yield Figure(unit, 1.0)

    def _reject(self, reject: Reject, lines: int = 1) -> None:
        self.result.lines += lines
        self.result.rejected += lines
        self._count(self.result.reasons, reject.reason, lines)
        self.rejects.add(reject)

    @staticmethod
    def _count(counts: Counter[str], name: str, lines: int) -> None:
        """Count by name; from a certain number of names on, new ones count together."""
        counts[name if name in counts or len(counts) < MAX_NAMES else "others"] += lines

    def _set_aside(self, kind: str, lines: int, text: str) -> None:
        self.result.lines += lines
        self.result.set_aside += lines
        self.result.aside[kind] += lines
        text = self._secrets.in_text(text)
        if text and kind != noise.AsideClass.BLANK:
            known = (kind, text) in self.aside_texts or len(self.aside_texts) < MAX_ASIDE_TEXTS
            self.aside_texts[kind, text if known else ""] += lines


def _tells_of_others(record: Record) -> bool:
    """Whether a record says that others link to an address, show it, or led people to it."""
    return any(f.amount and f.unit in BY_OTHERS and not f.agent for f in record.figures)


def _finished(found: dict[tuple[str, str], Sighting]) -> list[Sighting]:
    for sighting in found.values():
        if len(sighting.figures) > 1:
            sighting.figures = added_up(sighting.figures)
    return list(found.values())


def _see(
    found: dict[tuple[str, str], Sighting], place: Classified, record: Record, secrets: Secrets
) -> None:
    sighting = found.get((place.site, place.spelling))
    if sighting is None:
        sighting = found[place.site, place.spelling] = Sighting(place, list(record.figures))
    else:
        sighting.figures += record.figures
        if not place.doubt:
            sighting.place = place
    sighting.lines += record.lines
    for referrer, amount in record.referrers.items():
        known = secrets.in_url(referrer)
        sighting.referrers[known] = sighting.referrers.get(known, 0.0) + amount
    sighting.title = sighting.title or record.title
    sighting.anchor = sighting.anchor or record.anchor
    sighting.language = sighting.language or record.language
    sighting.status = sighting.status or record.status
    sighting.item = sighting.item or record.item
    sighting.last_seen = max(sighting.last_seen, record.day)
