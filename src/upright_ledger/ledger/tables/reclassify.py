"""Classes of addresses, as the sources that count show them: what is a page, and what stays set
aside.

An address that only failing requests name is in doubt: it looks like a scanner's, or no person
asked for it. It belongs to the entry of its key as soon as any spelling of that key is known for a
page, whichever source was gathered first.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from typing import Any

from upright_ledger.core.inventory.evidence import KNOWING
from upright_ledger.core.inventory.noise import looks_like_a_probe, may_be_asset
from upright_ledger.core.inventory.placing.classification import (
    Classified,
    Classifier,
    SpellingFacts,
    is_surely_probed,
)
from upright_ledger.core.inventory.units import BY_OTHERS, SOUGHT
from upright_ledger.core.url.address import parse_address, split_text
from upright_ledger.ledger.db.connection import Connection, batches, in_numbers, numbered
from upright_ledger.ledger.db.journal import Step
from upright_ledger.ledger.db.policies import stored_policy
from upright_ledger.ledger.tables.observations import Entries, join_entries

_AT_ONCE = 5_000  # numbers in one question
ACCESS_LOG = "access-log"


def doubted(connection: Connection, only: str = "", **values: Any) -> dict[int, SpellingFacts]:
    """Spellings that logs alone name and saw fail, or that nobody but a scanner asks for, and those
    that may be page assets → what is known of them. only: a further condition on spellings p, with
    values.
    """
    units, more = numbered(BY_OTHERS)
    knowing, askers = numbered(KNOWING, "asker")
    named, answered, people, elsewhere, sought = (
        f"MAX(CASE WHEN {sign} THEN 1 ELSE 0 END)"
        for sign in (
            "s.kind <> :log",
            "s.kind = :log AND (v.status_class LIKE '2%' OR v.status_class LIKE '3%')",
            f"v.agent IN {knowing}",
            f"v.unit IN {units} AND v.amount > 0 AND v.agent = ''",
            "v.unit = :sought",
        )
    )
    query = (
        f"SELECT v.spelling, MIN(p.spelling), {named}, {answered}, {people}, {elsewhere}, "
        f"{sought} "
        "FROM evidence v JOIN sources s ON s.id = v.source JOIN spellings p ON p.id = v.spelling "
        f"WHERE NOT s.withdrawn{only} GROUP BY v.spelling"
    )
    asked = {"log": ACCESS_LOG, "sought": SOUGHT, **more, **askers, **values}
    return {
        number: SpellingFacts(*map(bool, flags))
        for number, spelling, *flags in connection.run(query, **asked)
        if (not flags[0] and (not flags[1] or is_surely_probed(spelling))) or may_be_asset(spelling)
    }


def reclassify(step: Step, source: int, placer: Classifier) -> None:
    """Look again at all that a source named, which began or ceased to count."""
    its = "SELECT {} FROM spellings o JOIN evidence w ON w.spelling = o.id WHERE w.source = :source"
    entries = f"{its.format('o.entry')} AND o.entry IS NOT NULL"
    _part(step, doubted(step.connection, f" AND p.entry IN ({entries})", source=source), placer)
    aside = f" AND p.id IN ({its.format('o.id')}) AND p.entry IS NULL AND p.\"key\" <> ''"
    _join_shown(step, aside, placer, source=source)
    join_entries(step)


def doubt_again(step: Step, spellings: Iterable[int], placer: Classifier) -> None:
    """Look again at spellings of entries that a source names in doubt."""
    for some in batches(spellings, _AT_ONCE):
        told = doubted(step.connection, f" AND p.entry IS NOT NULL AND p.id IN {in_numbers(some)}")
        _part(step, told, placer)


def know_stock(connection: Connection, placer: Classifier) -> None:
    """Tell a placer of the pages in stock on hosts of old sites whose addresses look like a
    scanner's.
    """
    if not any(placer.sites.shared_origins(site.name) for site in placer.sites.old):
        return
    found = set()
    query = (
        "SELECT DISTINCT d.url FROM destinations d JOIN sources s ON s.id = d.source "
        "WHERE NOT s.withdrawn"
    )
    for url in connection.column(query):
        if looks_like_a_probe(split_text(url)[2]):
            site, key, _ = placer.owner(parse_address(url))
            found.add((site, key))
    placer.stocked = frozenset(found)


def join_stocked(step: Step, placer: Classifier) -> None:
    """Make entries of addresses set aside that are pages in stock now."""
    know_stock(step.connection, placer)
    for keys in batches(sorted(key for _, key in placer.stocked), _AT_ONCE):
        names, values = numbered(keys, "page")
        _join_shown(step, f' AND p.entry IS NULL AND p."key" IN {names}', placer, **values)


def _part(step: Step, doubtful: dict[int, SpellingFacts], placer: Classifier) -> None:
    """Set aside the spellings of entries that nothing shows to be pages any more."""
    connection = step.connection
    places: dict[int, list[tuple[int, Classified]]] = {}
    shown: set[int] = set()
    for row in _rows(connection, doubtful):
        place = placer.seen(placer.stored(row[1]), doubtful[row[0]])
        if place.doubt:
            places.setdefault(row[2], []).append((row[0], place))
        else:
            shown.add(row[2])
    for entries in batches(places.keys() - shown, _AT_ONCE):
        among = in_numbers(entries)
        counted = (
            "SELECT DISTINCT p.entry, p.id FROM spellings p JOIN evidence v ON v.spelling = p.id "
            f"JOIN sources s ON s.id = v.source WHERE p.entry IN {among} AND NOT s.withdrawn"
        )
        shown |= {entry for entry, number in connection.rows(counted) if number not in doubtful}
        shown |= set(connection.column(f"SELECT entry FROM answers WHERE entry IN {among}"))
    rows = [
        (None, place.doubt, place.waits_for, number)
        for entry, named in places.items()
        if entry not in shown
        for number, place in named
    ]
    if rows:
        step.entries |= places.keys() - shown
        connection.change("spellings", ("id",), ("entry", "aside", "key"), rows)


def _join_shown(step: Step, aside: str, placer: Classifier, **values: Any) -> None:
    """Make entries of addresses set aside that something shows to be pages now. aside: the
    condition on spellings p, with its values.
    """
    connection = step.connection
    doubtful = doubted(connection, aside, **values)
    counts = (
        "EXISTS (SELECT 1 FROM evidence v JOIN sources s ON s.id = v.source "
        "WHERE v.spelling = p.id AND NOT s.withdrawn)"
    )
    query = f"SELECT p.id, p.spelling FROM spellings p WHERE {counts}{aside}"
    rows = connection.rows(query, **values)
    places = {}
    for number, spelling in rows:
        place = placer.seen(
            placer.stored(spelling),
            doubtful.get(number, SpellingFacts(named=True, answered=True, people=True)),
        )
        if not (place.aside or place.doubt):
            places[number] = place
    if not places:
        return
    made = Entries(connection, stored_policy(connection)[0]).ensure(
        (q.site, q.key, q.legacy_url) for q in places.values()
    )
    step.entries |= set(made.values())
    rows = [(made[q.site, q.key], "", "", number) for number, q in places.items()]
    connection.change("spellings", ("id",), ("entry", "aside", "key"), rows)


def _rows(connection: Connection, numbers: Iterable[int]) -> Iterator[tuple[int, str, int]]:
    """Number, spelling and entry of spellings."""
    for some in batches(numbers, _AT_ONCE):
        told = "SELECT id, spelling, entry FROM spellings WHERE id IN "
        yield from connection.rows(told + in_numbers(some))
