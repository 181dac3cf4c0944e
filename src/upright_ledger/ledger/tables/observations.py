"""Sightings: what one source says of one spelling, stored many at a time."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from itertools import compress, repeat
from operator import itemgetter, not_
from types import MappingProxyType
from typing import Any, NamedTuple

from upright_ledger.core.inventory.evidence import Figure
from upright_ledger.core.inventory.packed import NO_DAYS, first_and_last, pack_referrers
from upright_ledger.core.inventory.placing.classification import Classified
from upright_ledger.core.inventory.units import LISTED
from upright_ledger.ledger.db.connection import Connection, batches, in_numbers
from upright_ledger.ledger.db.journal import Step
from upright_ledger.ledger.db.rows import find_ids, next_id, storable

TOP_REFERRERS = 20
_MOST_IN_MEMORY = 500_000
_AT_ONCE = 5_000  # numbers in one question

Name = tuple[str, str]
"""Site, and key or spelling."""

_ENTRY = ("id", "site", "key", "policy", "legacy_url")
_SPELLING = ("id", "site", "spelling", "entry", "variant", "aside", "key")
_FIGURE = (
    "spelling",
    "source",
    "unit",
    "amount",
    "status_class",
    "agent",
    "days",
    "first_day",
    "last_day",
)
_LED = ("spelling", "source", "referrers")
_WORDS = ("spelling", "source", "title", "anchor", "language", "status", "last_seen", "item")


@dataclass(slots=True)
class Sighting:
    """What one source says of one spelling. referrers: address → figure; the rest stands under an
    empty one.
    """

    place: Classified
    figures: list[Figure] = field(default_factory=list)
    referrers: dict[str, float] = field(default_factory=dict)
    title: str = ""
    anchor: str = ""
    language: str = ""
    status: int = 0
    last_seen: str = ""
    item: str = ""
    lines: int = 0
    line: int = 0
    """Of its source, the first that says so."""


class PlainSightings(NamedTuple):
    """What one source says of spellings that are entries' without a doubt, in columns: as
    Sightings, each spelling once. figures: unit → amounts, 0 where there is none; a spelling
    without any is listed. led: a referrer, or empty.
    """

    line: Sequence[int] = ()
    name: Sequence[Name] = ()
    key: Sequence[str] = ()
    variant: Sequence[str] = ()
    legacy_url: Sequence[str] = ()
    figures: Mapping[str, Sequence[float]] = MappingProxyType({})
    title: Sequence[str] = ()
    anchor: Sequence[str] = ()
    language: Sequence[str] = ()
    status: Sequence[int] = ()
    last_seen: Sequence[str] = ()
    number: Sequence[str] = ()
    led: Sequence[str] = ()


class Portion(NamedTuple):
    """Some of what one source says: each spelling once in all of it."""

    careful: Sequence[Sighting] = ()
    plain: PlainSightings = PlainSightings()


class Entries:
    """Finds and makes entries within one step."""

    def __init__(self, connection: Connection, policy: int) -> None:
        self._connection = connection
        self._policy = policy
        self._numbers = _Numbers(connection, "entries")
        self.made = 0

    def ensure(self, wanted: Iterable[tuple[str, str, str]]) -> dict[Name, int]:
        """The numbers of entries (site, key, legacy URL) by (site, key); those that are not there
        yet are made.
        """
        first: dict[Name, str] = {}
        for site, key, legacy_url in wanted:
            first.setdefault((site, key), legacy_url)
        known = self._numbers.find(first)
        fresh = sorted(first.keys() - known.keys()) if len(known) < len(first) else []
        known |= self._numbers.give(fresh)  # in order: the index is built several times faster
        rows = [(known[name], *name, self._policy, first[name]) for name in fresh]
        self._connection.load("entries", _ENTRY, rows)
        self.made += len(rows)
        return known

    def forget(self) -> None:
        """Let go of what is remembered to find entries by."""
        self._numbers.forget()


class SightingWriter:
    """Stores the sightings of one source, portion by portion, within one step; `settle` ends it."""

    def __init__(self, step: Step, source: int, policy: int) -> None:
        connection = step.connection
        self._step, self._connection = step, connection
        self._source = source
        self._entries = Entries(connection, policy)
        self._spellings = _Numbers(connection, "spellings")
        self._in_doubt: Counter[int] = Counter()  # spelling → lines
        self.entered: set[int] = set()
        """Spellings in doubt that were an entry's before: what showed that may count no longer."""

    @property
    def new_entries(self) -> int:
        """How many entries this source was the first to name."""
        return self._entries.made

    def add(self, portion: Portion) -> dict[Name, int]:
        """Store a portion. Returns the numbers of its entries by (site, key)."""
        careful, plain = portion
        places = [s.place for s in careful]
        named = [
            (s.line, s.place.site, s.place.key, s.place.legacy_url)
            for s in careful
            if not (s.place.aside or s.place.doubt)
        ]
        sites = [site for site, _ in plain.name]
        told = list(zip(plain.line, sites, plain.key, plain.legacy_url, strict=True))
        # Of several spellings the first names its entry.
        in_order = sorted(named + told) if named and told else named or told
        entries = self._entries.ensure(row[1:] for row in in_order)
        its = [*map(entries.__getitem__, zip(sites, plain.key, strict=True))]
        numbers = self._numbers_of(places, plain, entries, its)
        self._add_careful(careful, numbers)
        self._add_plain(plain, numbers[len(careful) :])
        return entries

    def _add_careful(self, sightings: Sequence[Sighting], numbers: Sequence[int]) -> None:
        source = self._source
        figures, said, led = [], [], []
        for number, s in zip(numbers, sightings, strict=False):
            if s.place.doubt:
                self._in_doubt[number] += s.lines
            for f in s.figures:
                first, last = first_and_last(f.days)
                figures.append((number, source, *f, first, last))
            if s.title or s.language or s.status or s.last_seen or s.anchor or s.item:
                texts = (storable(s.title), storable(s.anchor), storable(s.language))
                said.append((number, source, *texts, s.status, s.last_seen, storable(s.item)))
            if s.referrers:
                told = pack_referrers(_top(s.referrers))
                led.append((number, source, storable(told)))
        self._connection.load("evidence", _FIGURE, figures)
        self._connection.load("observations", _WORDS, said)
        self._connection.load("referrers", _LED, led)

    def _add_plain(self, plain: PlainSightings, numbers: Sequence[int]) -> None:
        if not numbers:
            return
        source = repeat(self._source)
        rest = ("", "", NO_DAYS, "", "")
        listed: Iterable[bool] = repeat(True, len(numbers))
        if plain.figures:
            listed = map(not_, map(any, zip(*plain.figures.values(), strict=True)))
        told = [*plain.figures.items(), (LISTED, [*map(float, listed)])]
        for unit, amounts in told:
            rows = zip(numbers, source, repeat(unit), amounts, *map(repeat, rest), strict=False)
            in_order = sorted(compress(rows, amounts), key=itemgetter(0))  # as the index has them
            self._connection.load("evidence", _FIGURE, in_order)
        words = (plain.title, plain.anchor, plain.language, plain.number)
        title, anchor, language, number = ([*map(storable, texts)] for texts in words)
        columns = (title, anchor, language, plain.status, plain.last_seen, number)
        says = [*map(any, zip(*columns, strict=True))]
        rows = zip(numbers, source, *columns, strict=False)
        in_order = sorted(compress(rows, says), key=itemgetter(0))
        self._connection.load("observations", _WORDS, in_order)
        if any(plain.led):
            packed = (storable(pack_referrers([(text, 1.0)])) for text in plain.led)
            rows = zip(numbers, source, packed, strict=False)
            self._connection.load("referrers", _LED, compress(rows, plain.led))

    def _numbers_of(
        self,
        places: Sequence[Classified],
        plain: PlainSightings,
        entries: Mapping[Name, int],
        its: Sequence[int],
    ) -> list[int]:
        """The numbers of the spellings of these places, made where they are not there yet. its: the
        entries of the plain ones.

        A spelling that was set aside and is now seen to be a page's becomes one of an entry.
        """
        names = [(p.site, storable(p.spelling)) for p in places]
        best: dict[Name, Classified] = {}
        for name, p in zip(names, places, strict=True):
            if name not in best or best[name].aside or best[name].doubt:
                best[name] = p
        rows: dict[Name, tuple[Any, ...]] = {}
        for name, p in best.items():
            aside = p.aside or p.doubt
            entry = None if aside else entries[p.site, p.key]
            rows[name] = (entry, p.variant, aside, storable(p.waits_for))
        told = zip(its, plain.variant, repeat(""), repeat(""), strict=False)
        rows.update(zip(plain.name, told, strict=False))
        known = self._spellings.find(rows)
        if known:
            waiting = find_aside(self._connection, known.values())
            raised = [n for n, number in known.items() if number in waiting and not rows[n][2]]
            self.entered |= {m for n, m in known.items() if m not in waiting and rows[n][2]}
            self._raise([(rows[n][0], rows[n][1], known[n]) for n in raised])
        fresh = sorted(rows.keys() - known.keys()) if len(known) < len(rows) else []
        known |= self._spellings.give(fresh)
        self._connection.load(
            "spellings", _SPELLING, ((known[name], *name, *rows[name]) for name in fresh)
        )
        names.extend(plain.name)
        return [*map(known.__getitem__, names)]

    def _raise(self, named: Sequence[tuple[int, str, int]]) -> None:
        """Make spellings that were set aside until now those of entries (entry, variant,
        number).
        """
        if named:
            rows = [("", "", *row) for row in named]
            names = ("aside", "key", "entry", "variant")
            self._connection.change("spellings", ("id",), names, rows)
            self._step.entries |= {entry for entry, _, _ in named}

    def settle(self) -> Counter[str]:
        """Let addresses in doubt join the entries there are; class → lines of this source that stay
        set aside. Nothing is stored after it.
        """
        self._spellings.forget()
        self._entries.forget()
        join_entries(self._step)
        found: Counter[str] = Counter()
        for numbers in batches(self._in_doubt, _AT_ONCE):
            query = "SELECT id, aside FROM spellings WHERE entry IS NULL AND id IN "
            for number, aside in self._connection.rows(query + in_numbers(numbers)):
                found[aside] += self._in_doubt[number]
        return found


def join_entries(step: Step) -> None:
    """Make variants of addresses in doubt whose key is that of an entry that has a spelling or an
    answer.
    """
    connection = step.connection
    if connection.value("SELECT 1 FROM spellings WHERE \"key\" <> '' LIMIT 1") is None:
        return
    joins = (
        "spellings.entry IS NULL AND spellings.key <> '' AND e.site = spellings.site AND "
        "e.key = spellings.key "
        "AND (EXISTS (SELECT 1 FROM spellings o WHERE o.entry = e.id) OR EXISTS (SELECT 1 FROM "
        "answers a WHERE a.entry = e.id))"
    )
    named = f"SELECT DISTINCT e.id FROM spellings, entries e WHERE {joins}"
    joined = set(connection.column(named))
    if joined:
        step.entries |= joined
        change = "UPDATE spellings SET entry = e.id, aside = '', key = '' FROM entries e"
        connection.run(f"{change} WHERE {joins}")


def find_aside(connection: Connection, spellings: Iterable[int]) -> set[int]:
    """Those of these spellings that are set aside."""
    query = "SELECT id FROM spellings WHERE entry IS NULL AND id IN "
    return {
        number
        for some in batches(spellings, _AT_ONCE)
        for number in connection.column(query + in_numbers(some))
    }


class _Numbers:
    """The numbers of a table's rows by name: of those that were there before from the database, of
    new ones from memory.
    """

    def __init__(self, connection: Connection, table: str) -> None:
        self._connection = connection
        self._table = table
        self._following = next_id(connection, table)
        self._look_up = self._following > 1
        self._made: dict[Name, int] = {}

    def find(self, names: Iterable[Name]) -> dict[Name, int]:
        """The numbers of those names that have one."""
        made = self._made
        found = {name: made[name] for name in names if name in made} if made else {}
        if self._look_up:
            found |= find_ids(
                self._connection, self._table, [name for name in names if name not in found]
            )
        return found

    def give(self, names: Sequence[Name]) -> dict[Name, int]:
        """Numbers for names that have none."""
        given = {name: number for number, name in enumerate(names, self._following)}
        self._following += len(names)
        self._made |= given
        if len(self._made) > _MOST_IN_MEMORY:
            self.forget()
        return given

    def forget(self) -> None:
        """Let go of the numbers in memory; from now on all are looked up."""
        self._made, self._look_up = {}, True


def _top(referrers: Mapping[str, float]) -> list[tuple[str, float]]:
    """The most frequent referrers, and the rest under an empty name."""
    if len(referrers) <= TOP_REFERRERS:
        return list(referrers.items())
    ranked = sorted(referrers.items(), key=lambda item: (item[0] == "", -item[1], item[0]))
    rest = sum(n for _, n in ranked[TOP_REFERRERS:])
    return [*ranked[:TOP_REFERRERS], ("", rest)]
