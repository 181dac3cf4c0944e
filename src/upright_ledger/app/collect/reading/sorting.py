"""Sorting the items of one source: what becomes a sighting, what is set aside, what is rejected,
all of it counted.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING, TypeVar

from upright_ledger.app.collect.reading.rejects import Rejects
from upright_ledger.core.inventory import noise
from upright_ledger.core.inventory.evidence import KNOWING, Figure, added_up
from upright_ledger.core.inventory.placing.classification import (
    Classified,
    Classifier,
    SpellingFacts,
)
from upright_ledger.core.inventory.units import (
    BY_OTHERS,
    ELSEWHERE,
    LINKING_DOMAINS,
    LINKING_PAGES,
    SOUGHT,
)
from upright_ledger.core.monitoring.campaigns import BY_CAMPAIGN
from upright_ledger.core.url.address import NotAnAddressError, parse_address, split_text
from upright_ledger.core.url.redaction import Secrets
from upright_ledger.errors import UprightError
from upright_ledger.formats.records import (
    Aside,
    Item,
    Reading,
    Record,
    RecordBlock,
    Reject,
    without_small,
)
from upright_ledger.ledger.tables.observations import Name, PlainSightings, Portion, Sighting

if TYPE_CHECKING:
    from upright_ledger.core.inventory.placing.plain_places import Placed, PlainPlaces

T = TypeVar("T")
BATCH = 20_000  # records
SEVERAL = 3
"""People who ask for what looks like a probe, from which on it is taken for a page."""
MAX_ASIDE_TEXTS = 10_000
_SHORT = 200  # characters; longer ones are not remembered
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
        self._masked = _Masked(self._secrets)
        self.rejects = Rejects(folder, self._secrets)
        self.aside_texts: Counter[tuple[str, str]] = Counter()
        self._placer = placer
        self._linked: set[tuple[str, str, str]] = (
            set()
        )  # site, key, and a page or domain that links

    @cached_property
    def _plain(self) -> PlainPlaces:
        from upright_ledger.core.inventory.placing.plain_places import PlainPlaces

        return PlainPlaces(self._placer.sites, self._placer.policy)

    def portions(self, items: Iterable[Item | RecordBlock]) -> Iterator[Portion]:
        """Sightings in portions, each spelling once a portion."""
        found: dict[Name, Sighting] = {}
        count = 0
        for item in without_small(items):
            if isinstance(item, RecordBlock):
                if found:
                    yield Portion(_finished(found))
                    found, count = {}, 0
                yield self._portion(item)
                continue
            if (seen := self._placed(item)) is not None:
                _see(found, *seen, self._masked)
            if isinstance(item, Record):
                count += 1
                if count == BATCH:
                    yield Portion(_finished(found))
                    found, count = {}, 0
        if found:
            yield Portion(_finished(found))

    def _portion(self, block: RecordBlock) -> Portion:
        """What the rows of a table say: of plain addresses as columns, of others, and of those that
        stand there twice, one by one.
        """
        placed = self._plain.place(block.urls)
        self.result.lines += len(placed.at)
        self.result.folded.update(placed.folded)
        plain = frozenset(placed.at)
        others = [row for row in range(len(block.lines)) if row not in plain]
        careful: dict[int, tuple[Classified, Record]] = {}
        for row in others:
            if (seen := self._placed(block.item(row))) is not None:
                careful[row] = seen
        names = list(zip(placed.sites, map(block.urls.__getitem__, placed.at), strict=True))
        twice = {(place.site, place.spelling) for place, _ in careful.values()}
        if len(set(names)) < len(names):
            twice |= {name for name, n in Counter(names).items() if n > 1}
        alone = [*range(len(names))]
        if twice and not twice.isdisjoint(names):
            alone = [n for n in alone if names[n] not in twice]
            for n in sorted(set(range(len(names))) - set(alone)):
                if isinstance(record := block.item(placed.at[n]), Record):
                    careful[placed.at[n]] = (_place_of(placed, names, n), record)
        found: dict[Name, Sighting] = {}
        for row in sorted(careful):
            _see(found, *careful[row], self._masked)
        return Portion(_finished(found), _columns(placed, names, alone, block, self._masked))

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

    def _placed(self, item: Item) -> tuple[Classified, Record] | None:
        """The place of an item that is a record of an address, and what it says; all others are
        counted alone.
        """
        if isinstance(item, Reject):
            self._reject(item)
        elif isinstance(item, Aside):
            self._set_aside(item.kind, item.lines, item.text)
        else:
            return self._sort(item)
        return None

    def _sort(self, record: Record) -> tuple[Classified, Record] | None:
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
                people = any(f.agent in KNOWING for f in record.figures)
                sought = people and _is_sought(record) and self._placer.is_doubtful(place)
                if sought:
                    record = replace(record, figures=[*record.figures, Figure(SOUGHT, 1.0)])
                place = self._placer.seen(
                    place,
                    SpellingFacts(False, record.real, people, _tells_of_others(record), sought),
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
            return None
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
        return place, record

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


def _is_sought(record: Record) -> bool:
    """Whether several people asked for an address, or were led to it."""
    return record.askers >= SEVERAL or any(record.referrers)


class _Masked:
    """Referrers without their secrets: few of them lead to most pages."""

    def __init__(self, secrets: Secrets) -> None:
        self._secrets = secrets
        self._known: dict[str, str] = {}

    def of(self, referrer: str) -> str:
        """A referrer as it may be stored."""
        found = self._known.get(referrer)
        if found is None:
            found = self._secrets.in_url(referrer)
            if len(referrer) <= _SHORT and len(self._known) < MAX_ASIDE_TEXTS:
                self._known[referrer] = found
        return found


def _place_of(placed: Placed, names: Sequence[Name], n: int) -> Classified:
    """The place of one plain address."""
    nothing: frozenset[str] = frozenset()
    told = (placed.keys[n], placed.variants[n], placed.legacy_urls[n])
    return Classified(*names[n], *told, "", nothing)


def _columns(
    placed: Placed,
    names: Sequence[Name],
    alone: Sequence[int],
    block: RecordBlock,
    masked: _Masked,
) -> PlainSightings:
    """What a block says of plain addresses. alone: those of them that stand there once."""
    at = [placed.at[n] for n in alone]

    def of_rows(column: Sequence[T]) -> Sequence[T]:
        return column if len(at) == len(column) else [column[n] for n in at]

    def of_places(column: Sequence[T]) -> Sequence[T]:
        return column if len(alone) == len(column) else [column[n] for n in alone]

    led = of_rows(block.led)
    if any(led):
        led = [*map(masked.of, led)]
    return PlainSightings(
        of_rows(block.lines),
        of_places(names),
        of_places(placed.keys),
        of_places(placed.variants),
        of_places(placed.legacy_urls),
        {unit: of_rows(amounts) for unit, amounts in block.figures.items()},
        of_rows(block.title),
        of_rows(block.anchor),
        of_rows(block.language),
        of_rows(block.status),
        of_rows(block.day),
        of_rows(block.number),
        led,
    )


def _finished(found: dict[Name, Sighting]) -> list[Sighting]:
    for sighting in found.values():
        if len(sighting.figures) > 1:
            sighting.figures = added_up(sighting.figures)
    return list(found.values())


def _see(found: dict[Name, Sighting], place: Classified, record: Record, masked: _Masked) -> None:
    sighting = found.get((place.site, place.spelling))
    if sighting is None:
        sighting = Sighting(place, list(record.figures), line=record.line)
        found[place.site, place.spelling] = sighting
    else:
        sighting.figures += record.figures
        if not place.doubt:
            sighting.place = place
    sighting.lines += record.lines
    for referrer, amount in record.referrers.items():
        known = masked.of(referrer)
        sighting.referrers[known] = sighting.referrers.get(known, 0.0) + amount
    sighting.title = sighting.title or record.title
    sighting.anchor = sighting.anchor or record.anchor
    sighting.language = sighting.language or record.language
    sighting.status = sighting.status or record.status
    sighting.item = sighting.item or record.item
    sighting.last_seen = max(sighting.last_seen, record.day)
