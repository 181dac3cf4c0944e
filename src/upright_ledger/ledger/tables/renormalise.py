"""Refolding: every stored spelling finds its entry anew under another policy; answers follow."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator
from dataclasses import dataclass, field
from typing import Any

from upright_ledger.core.inventory.answer import AnsweredBy
from upright_ledger.core.inventory.normalisation import FoldingPolicy
from upright_ledger.core.inventory.placing.classification import (
    Classified,
    Classifier,
    SpellingFacts,
)
from upright_ledger.ledger.clock import now
from upright_ledger.ledger.db.connection import Connection
from upright_ledger.ledger.db.journal import Step
from upright_ledger.ledger.db.policies import stored_policy
from upright_ledger.ledger.db.rows import next_id
from upright_ledger.ledger.db.shapes import these_rows
from upright_ledger.ledger.tables.reclassify import doubted

_CHUNK = 50_000
_NOTHING: frozenset[str] = frozenset()
_ENTRY = ("id", "site", "key", "policy", "legacy_url")
_RANK = {
    AnsweredBy.PERSON: 0,
    AnsweredBy.MATCH: 2,
}  # whose answer stands where several entries become one; imports are between


@dataclass
class Refolded:
    """What a refold changed. moved: entry → the entries its spellings belong to now; only entries
    that changed.
    """

    spellings: int = 0
    changed: int = 0
    made: int = 0
    split: int = 0
    conflicts: int = 0
    moved: dict[int, set[int]] = field(default_factory=dict)


def refold(step: Step, placer: Classifier) -> Refolded:
    """Put a new policy in force, move every spelling to its entry under it, and let the answers
    follow.
    """
    number = next_number(step.connection)
    _, before = stored_policy(step.connection)
    step.put("policies", {"number": number, "settings": placer.policy.as_dict(), "since": now()})
    result = rederive(step.connection, placer, number, before)
    _carry_answers(step, result)
    return result


def next_number(connection: Connection) -> int:
    """The number of the next policy."""
    return stored_policy(connection)[0] + 1


def rederive(
    connection: Connection, placer: Classifier, number: int, before: FoldingPolicy
) -> Refolded:
    """Find the entry of every spelling under the placer's policy, and move those that belong
    elsewhere.

    before: the policy under which they stand. Entries keep their numbers: one whose spellings all
    left stays, empty, and is used again when they come back.
    """
    result = Refolded()
    told = connection.rows('SELECT site, "key", id FROM entries')
    entries = {(site, key): entry for site, key, entry in told}
    following = next_id(connection, "entries")
    were: dict[int, set[int]] = defaultdict(set)
    changes: list[tuple[Any, ...]] = []
    classes = _Classes(connection, placer, before)
    pages: set[int] = set()  # entries that have a spelling which is a page's
    waiting: list[tuple[tuple[Any, ...], Classified]] = []
    for chunk in _spellings(connection):
        fresh: list[tuple[Any, ...]] = []
        for row in chunk:
            result.spellings += 1
            place = classes.place(row)
            if place.doubt:
                waiting.append((row, place))
                continue
            its_entry = None
            if not place.aside:
                its_entry = entries.get((place.site, place.key))
                if its_entry is None:
                    its_entry = entries[place.site, place.key] = following
                    fresh.append((following, place.site, place.key, number, place.legacy_url))
                    following += 1
                pages.add(its_entry)
            _move(row, place, its_entry, were, changes)
        connection.load("entries", _ENTRY, fresh)
        result.made += len(fresh)
    alone = _answered_alone(connection, were)
    for ident, site, legacy_url in alone:
        key, _, its_url = placer.refolded(site, legacy_url)
        if (site, key) not in entries:
            entries[site, key] = following
            connection.load("entries", _ENTRY, [(following, site, key, number, its_url)])
            following += 1
        were[ident].add(entries[site, key])
        pages.add(entries[site, key])
    for row, place in waiting:
        its_entry = entries.get((place.site, place.waits_for))
        _move(row, place, its_entry if its_entry in pages else None, were, changes)
    _write(connection, changes)
    result.changed = len(changes)
    result.moved = {old: new for old, new in were.items() if new != {old}}
    return result


def _move(
    row: tuple[Any, ...],
    place: Classified,
    its_entry: int | None,
    were: dict[int, set[int]],
    changes: list[tuple[Any, ...]],
) -> None:
    """Note what changes of a spelling: (site, entry, variant, aside, key, id)."""
    ident, site, _, entry, variant, aside, key = row
    if entry is not None and its_entry is not None:
        were[entry].add(its_entry)
    its_aside = "" if its_entry is not None else place.aside or place.doubt
    its_key = place.waits_for if its_aside else ""
    if (entry, variant, aside, site, key) != (
        its_entry,
        place.variant,
        its_aside,
        place.site,
        its_key,
    ):
        changes.append((place.site, its_entry, place.variant, its_aside, its_key, ident))


class _Classes:
    """Which stored spellings are pages' under a policy, by all that the sources that count say."""

    def __init__(self, connection: Connection, placer: Classifier, before: FoldingPolicy) -> None:
        self._placer = placer
        self._same_classes = before.take_back == placer.policy.take_back
        self._before = Classifier(placer.sites, before)
        self._doubted = doubted(connection)

    def place(self, row: tuple[Any, ...]) -> Classified:
        """Where a spelling belongs."""
        ident, site, spelling, entry = row[:4]
        known = self._doubted.get(ident)
        if site and entry is not None and known is None and self._same_classes:
            key, variant, legacy_url = self._placer.refolded(site, spelling)
            return Classified(site, spelling, key, variant, legacy_url, "", _NOTHING)
        place = self._placer.stored(spelling)
        if place.aside and place.site and entry is not None and self._before.stored(spelling).aside:
            # Somebody answered it all the same, and it stays an entry.
            return Classified(
                place.site, spelling, *self._placer.refolded(place.site, spelling), "", _NOTHING
            )
        return self._placer.seen(
            place, known or SpellingFacts(named=True, answered=True, people=True)
        )


def _answered_alone(
    connection: Connection, seen: dict[int, set[int]]
) -> list[tuple[int, str, str]]:
    """Entries (number, site, legacy URL) with an answer that no spelling was seen for."""
    query = (
        "SELECT e.id, e.site, e.legacy_url FROM answers a JOIN entries e ON e.id = a.entry "
        "ORDER BY e.id"
    )
    return [row for row in connection.rows(query) if row[0] not in seen]


def _spellings(connection: Connection) -> Iterator[list[tuple[Any, ...]]]:
    """All spellings, in portions: each is read whole before any is changed."""
    query = (
        'SELECT id, site, spelling, entry, variant, aside, "key" FROM spellings WHERE id > :last '
        f"ORDER BY id LIMIT {_CHUNK}"
    )
    last = 0
    while rows := connection.rows(query, last=last):
        yield rows
        last = rows[-1][0]


def _write(connection: Connection, changes: list[tuple[Any, ...]]) -> None:
    """Change spellings: (site, entry, variant, aside, key, id)."""
    names = ("site", "entry", "variant", "aside", "key")
    connection.change("spellings", ("id",), names, changes)


def _carry_answers(step: Step, result: Refolded) -> None:
    """Answers follow their spellings: entries that become one keep the best answer and contest the
    others; an entry that is split gives each part a copy.
    """
    answers = {row["entry"]: row for row in these_rows(step.connection, "answers")}
    claims = these_rows(step.connection, "claims")
    came_from: dict[int, set[int]] = defaultdict(set)
    for old, targets in result.moved.items():
        for new in targets:
            came_from[new].add(old)
    left = {old for old, targets in result.moved.items() if old not in targets}
    result.split = sum(1 for targets in result.moved.values() if len(targets) > 1)
    rows, contested = [], [claim for claim in claims if claim["entry"] not in left]
    for new, olds in came_from.items():
        standing = [answers[new]] if new in answers and new not in left else []
        given = [
            _copied(answers[old], new, result.moved[old])
            for old in sorted(olds - {new})
            if old in answers
        ]
        offers = sorted([*standing, *given], key=lambda o: _RANK.get(o["by"], 1))
        if not offers:
            continue
        rows.append(offers[0])
        others = [
            o for n, o in enumerate(offers) if not any(_same(o, before) for before in offers[:n])
        ][1:]
        result.conflicts += bool(others)
        contested += [_claim(new, o) for o in others]
    contested += [
        {**claim, "entry": new}
        for claim in claims
        if claim["entry"] in left
        for new in result.moved[claim["entry"]]
    ]
    contested = _numbered(contested)
    if contested != claims:
        step.remove("claims", claims)
        step.put_many("claims", contested)
    step.remove("answers", [{"entry": old} for old in left if old in answers])
    step.put_many("answers", rows)


def _copied(answer: dict[str, Any], entry: int, targets: set[int]) -> dict[str, Any]:
    """An answer for another entry. Where its own was split, the copy says that it is inherited."""
    inherited = len(targets) > 1
    return {
        **answer,
        "entry": entry,
        "inherited": inherited,
        "old": "" if inherited else answer["old"],
    }


def _same(one: dict[str, Any], other: dict[str, Any]) -> bool:
    return all(one[k] == other[k] for k in ("kind", "status", "destination"))


def _claim(entry: int, answer: dict[str, Any]) -> dict[str, Any]:
    kept = ("status", "destination", "old", "host_given", "where")
    return {"entry": entry, **{k: answer[k] for k in kept}}


def _numbered(claims: list[dict[str, Any]]) -> list[dict[str, Any]]:
    """Claims with numbers that count up within each entry."""
    counts: dict[int, int] = defaultdict(int)
    rows = []
    for claim in claims:
        counts[claim["entry"]] += 1
        rows.append({**claim, "number": counts[claim["entry"]]})
    return rows
