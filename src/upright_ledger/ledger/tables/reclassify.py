"""Classes of addresses, as the sources that count show them: what is a page, and what stays set
aside.

An address that only failing requests name is in doubt: it looks like a scanner's, or no person
asked for it. It belongs to the entry of its key as soon as any spelling of that key is known for a
page, whichever source was gathered first.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator

from sqlalchemy import (
    ColumnElement,
    Connection,
    and_,
    case,
    exists,
    func,
    or_,
    select,
    text,
    update,
)

from upright_ledger.core.inventory.classification import Classified, Classifier, SpellingFacts
from upright_ledger.core.inventory.evidence import Asker
from upright_ledger.core.inventory.noise import ASSET_SIGNS
from upright_ledger.core.inventory.units import BY_OTHERS
from upright_ledger.ledger.db import schema
from upright_ledger.ledger.db.bulk import batches
from upright_ledger.ledger.db.journal import Step
from upright_ledger.ledger.db.policies import stored_policy
from upright_ledger.ledger.tables.observations import Entries, join_entries

_AT_ONCE = 5_000  # numbers in one question
ACCESS_LOG = "access-log"


def doubted(
    connection: Connection, only: ColumnElement[bool] | None = None
) -> dict[int, SpellingFacts]:
    """Spellings that logs alone name and saw fail, and those that may be page assets → what is
    known of them. only: a condition on `spellings`.
    """
    v, s, p = schema.evidence, schema.sources, schema.spellings

    def any_of(condition: ColumnElement[bool]) -> ColumnElement[int]:
        return func.max(case((condition, 1), else_=0))

    named = any_of(s.c.kind != ACCESS_LOG)
    answered = any_of(
        (s.c.kind == ACCESS_LOG) & or_(v.c.status_class.like("2%"), v.c.status_class.like("3%"))
    )
    people = any_of(v.c.agent == Asker.PEOPLE)
    elsewhere = any_of(v.c.unit.in_(BY_OTHERS) & (v.c.amount > 0) & (v.c.agent == ""))
    low = func.lower(p.c.spelling)
    asset = any_of(or_(*(low.like(sign) for sign in ASSET_SIGNS)))
    query = (
        select(v.c.spelling, named, answered, people, elsewhere)
        .join(s, s.c.id == v.c.source)
        .join(p, p.c.id == v.c.spelling)
    )
    query = query.where(s.c.withdrawn.is_(False))
    if only is not None:
        query = query.where(only)
    in_doubt = query.group_by(v.c.spelling).having(or_(and_(named == 0, answered == 0), asset == 1))
    return {r[0]: SpellingFacts(*map(bool, r[1:])) for r in connection.execute(in_doubt)}


def reclassify(step: Step, source: int, placer: Classifier) -> None:
    """Look again at all that a source named, which began or ceased to count."""
    connection, p, v = step.connection, schema.spellings, schema.evidence
    touched = (
        select(p.c.id, p.c.entry)
        .join(v, v.c.spelling == p.c.id)
        .where(v.c.source == source)
        .subquery()
    )
    its_entries = select(touched.c.entry).where(touched.c.entry.is_not(None))
    doubtful = doubted(connection, p.c.entry.in_(its_entries))
    _part(step, doubtful, placer)
    aside = and_(p.c.id.in_(select(touched.c.id)), p.c.entry.is_(None), p.c.key != "")
    _join_shown(step, aside, placer)
    join_entries(step)


def _part(step: Step, doubtful: dict[int, SpellingFacts], placer: Classifier) -> None:
    """Set aside the spellings of entries that nothing shows to be pages any more."""
    connection, p, a = step.connection, schema.spellings, schema.answers
    places: dict[int, list[tuple[int, Classified]]] = {}
    shown: set[int] = set()
    for row in _rows(connection, doubtful):
        place = placer.seen(placer.stored(row[1]), doubtful[row[0]])
        if place.doubt:
            places.setdefault(row[2], []).append((row[0], place))
        else:
            shown.add(row[2])
    for entries in batches(places.keys() - shown, _AT_ONCE):
        v, s = schema.evidence, schema.sources
        counted = (
            select(p.c.entry, p.c.id).join(v, v.c.spelling == p.c.id).join(s, s.c.id == v.c.source)
        )
        counted = counted.where(p.c.entry.in_(entries), s.c.withdrawn.is_(False)).distinct()
        shown |= {entry for entry, number in connection.execute(counted) if number not in doubtful}
        shown |= set(connection.scalars(select(a.c.entry).where(a.c.entry.in_(entries))))
    rows = [
        {"number": number, "its_class": place.doubt, "its_key": place.key}
        for entry, named in places.items()
        if entry not in shown
        for number, place in named
    ]
    if rows:
        step.entries |= places.keys() - shown
        connection.execute(
            text(
                "UPDATE spellings SET entry = NULL, aside = :its_class, key = :its_key WHERE id = "
                ":number"
            ),
            rows,
        )


def _join_shown(step: Step, aside: ColumnElement[bool], placer: Classifier) -> None:
    """Make entries of addresses set aside that something shows to be pages now."""
    connection = step.connection
    p, v, s = schema.spellings, schema.evidence, schema.sources
    doubtful = doubted(connection, aside)
    counts = exists().where(v.c.spelling == p.c.id, v.c.source == s.c.id, s.c.withdrawn.is_(False))
    rows = list(connection.execute(select(p.c.id, p.c.spelling).where(aside, counts)))
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
    for number, place in places.items():
        values = {"entry": made[place.site, place.key], "aside": "", "key": ""}
        connection.execute(update(p).where(p.c.id == number).values(**values))


def _rows(connection: Connection, numbers: Iterable[int]) -> Iterator[tuple[int, str, int]]:
    """Number, spelling and entry of spellings."""
    p = schema.spellings
    for some in batches(numbers, _AT_ONCE):
        for row in connection.execute(
            select(p.c.id, p.c.spelling, p.c.entry).where(p.c.id.in_(some))
        ):
            yield row[0], row[1], row[2]
