"""Answers and the claims that contest them."""

from __future__ import annotations

import json
from collections import defaultdict
from collections.abc import Iterable, Mapping, Sequence
from operator import itemgetter
from typing import Any, NamedTuple

from upright_ledger.core.inventory.answer import AnsweredBy, AnswerKind, Claim, Decision
from upright_ledger.core.inventory.entry import Entry
from upright_ledger.core.url.query import QueryPolicy
from upright_ledger.errors import RefusedError
from upright_ledger.ledger.clock import today
from upright_ledger.ledger.db.connection import Connection, batches, in_numbers
from upright_ledger.ledger.db.journal import Step
from upright_ledger.ledger.db.shapes import unpacked
from upright_ledger.ledger.tables.proposals import StoredProposal, proposals_of

BY = (
    AnsweredBy.PERSON,
    AnsweredBy.MATCH,
    AnsweredBy.IMPORT,
    AnsweredBy.TEMPLATE,
    AnsweredBy.RULE,
    AnsweredBy.STOCK,
)
"""What gives answers."""


class Found(NamedTuple):
    """How an answer was found, where it is a proposal: its confidence (0 to 1), its reasons, and
    the destination that came next.
    """

    confidence: float | None = None
    reasons: str = ""
    runner_up: str = ""


def found_as(proposals: Sequence[StoredProposal], destination: str) -> Found:
    """How a destination was found, by the proposals for its entry."""
    chosen = next((p for p in proposals if p.destination == destination), None)
    if chosen is None or chosen.is_fallback:
        return Found()
    others = [
        p.destination for p in proposals if p.destination != destination and not p.is_fallback
    ]
    return Found(chosen.confidence, "; ".join(chosen.reasons), others[0] if others else "")


class Posting(NamedTuple):
    """An answer to be posted for an entry. old: the address as it was given with the answer. found:
    how it was found; where that is not said, as the proposals for its entry tell. until: the day on
    which it is to be looked at again (YYYY-MM-DD), or empty.
    """

    entry: int
    answer: Decision
    by: AnsweredBy
    old: str
    host_given: bool = True
    where: str = ""
    note: str = ""
    query: QueryPolicy = QueryPolicy.CARRY_TRACKING
    found: Found | None = None
    until: str = ""


ALL_OF = "all of "
"""With which the place of an answer begins that many entries got at once."""
_BY_HAND = (
    'SELECT entry FROM answers WHERE "by" = :person AND "where" NOT LIKE :many AND "where" <> :fix'
)
BY_CHECK = "check --fix"


def by_hand(connection: Connection) -> set[int]:
    """Entries that a person answered one by one."""
    asked = {"person": AnsweredBy.PERSON, "many": f"{ALL_OF}%", "fix": BY_CHECK}
    return set(connection.column(_BY_HAND, **asked))


def of_person(
    entry: Entry, answer: Decision, where: str = "", note: str = "", until: str = ""
) -> Posting:
    """An answer that a person gives to an entry, its address as it was written before."""
    return Posting(
        entry.id,
        answer,
        AnsweredBy.PERSON,
        entry.old or entry.legacy_url,
        entry.host_given,
        where,
        note,
        until=until,
    )


def post_answers(
    step: Step, postings: Iterable[Posting], *, from_evidence: bool = False
) -> list[Posting]:
    """Put answers in place of whatever the entries had, and settle claims that contested them;
    returns what was posted.

    Entries that somebody else answered after they were read are left alone (`Step.meanwhile`);
    where answers were worked out from evidence, those that were seen anew, too. Raises RefusedError
    where all entries were folded anew since.
    """
    wanted = list(postings)
    changed, seen = changed_meanwhile(step)
    postings = [
        p for p in wanted if p.entry not in changed and not (from_evidence and p.entry in seen)
    ]
    step.meanwhile += len(wanted) - len(postings)
    untold = [p.entry for p in postings if p.found is None and p.answer.destination]
    offered, before = proposals_of(step.connection, untold), _found_before(step.connection, untold)
    who, days = step.connection.author(), _days_that_stay(step.connection, postings)
    nothing = Found()
    found = [
        p.found
        or before.get((p.entry, p.answer.destination))
        or (found_as(offered[p.entry], p.answer.destination) if p.entry in offered else nothing)
        for p in postings
    ]
    rows = [
        {
            "entry": p.entry,
            "kind": p.answer.kind,
            "status": p.answer.status,
            "destination": p.answer.destination,
            "query": p.query,
            "by": p.by,
            "old": p.old,
            "host_given": p.host_given,
            "where": p.where,
            "note": p.note,
            "inherited": False,
            "author": who,
            "confidence": f.confidence,
            "reasons": f.reasons,
            "runner_up": f.runner_up,
            "until": p.until or days.get(p.entry, ""),
        }
        for p, f in zip(postings, found, strict=True)
    ]
    rows.sort(key=itemgetter("entry"))  # a table is filled several times faster in its order
    step.put_many("answers", rows)
    contested = load_claims(step.connection)
    gone = [
        {"entry": p.entry, "number": c.number} for p in postings for c in contested.get(p.entry, ())
    ]
    if gone:
        step.remove("claims", gone)
    return postings


def _days_that_stay(connection: Connection, postings: Iterable[Posting]) -> dict[int, str]:
    """Entry → the day of its answer, where the same is posted again by anything but a person, who
    looked at it.
    """
    standing = {d.entry: d for d in dated_answers(connection)}
    return {
        p.entry: standing[p.entry].day
        for p in (postings if standing else ())
        if p.entry in standing
        and p.by != AnsweredBy.PERSON
        and standing[p.entry].answer == p.answer
    }


class DatedAnswer(NamedTuple):
    """An answer that is to be looked at again on a day (YYYY-MM-DD). legacy_url: of the entry; old:
    as it was written with the answer.
    """

    entry: int
    legacy_url: str
    old: str
    answer: Decision
    day: str

    @property
    def is_due(self) -> bool:
        """Whether the day has come."""
        return self.day <= today()


def dated_answers(connection: Connection) -> list[DatedAnswer]:
    """The answers that are to be looked at again, those of the earliest days first."""
    query = (
        "SELECT a.entry, e.legacy_url, a.old, a.kind, a.status, a.destination, a.until "
        "FROM answers a JOIN entries e ON e.id = a.entry WHERE a.until <> '' "
        "ORDER BY a.until, e.legacy_url"
    )
    return [
        DatedAnswer(entry, url, old, Decision(AnswerKind(kind), status, destination), day)
        for entry, url, old, kind, status, destination, day in connection.rows(query)
    ]


def changed_meanwhile(step: Step) -> tuple[set[int], set[int]]:
    """Entries that were answered, and entries of which something was seen, after that was read
    which a step goes by.
    """
    if step.since is None:
        return set(), set()
    connection, since = step.connection, {"since": step.since, "now": step.id}
    changed = (
        "SELECT row_key FROM changes WHERE table_name = :table AND step > :since AND step < :now"
    )
    if connection.value(f"{changed} LIMIT 1", table="policies", **since) is not None:
        raise RefusedError(
            "all entries were folded anew while this was worked out",
            "run it again; nothing was changed",
        )
    answered, sources = (
        {int(json.loads(key)[0]) for key in connection.column(changed, table=table, **since)}
        for table in ("answers", "sources")
    )
    added = "SELECT id FROM sources WHERE step > :since AND step < :now"
    sources |= set(connection.column(added, **since))
    seen = (
        "SELECT DISTINCT p.entry FROM evidence v JOIN spellings p ON p.id = v.spelling "
        "WHERE p.entry IS NOT NULL AND v.source IN "
    )
    return answered, set(connection.column(seen + in_numbers(sources)))


_MANY = 1_000


def _found_before(connection: Connection, entries: Iterable[int]) -> dict[tuple[int, str], Found]:
    """(entry, destination) → how that was found, of answers that stand and were proposals."""
    query = (
        "SELECT entry, destination, confidence, reasons, runner_up FROM answers "
        "WHERE confidence IS NOT NULL AND entry IN "
    )
    found: dict[tuple[int, str], Found] = {}
    entries = list(entries)
    any_found = "SELECT 1 FROM answers WHERE confidence IS NOT NULL LIMIT 1"
    if len(entries) > _MANY and connection.value(any_found) is None:
        return found
    for some in batches(entries, 500):
        for entry, destination, *how in connection.rows(query + in_numbers(some)):
            found[entry, destination] = Found(*how)
    return found


def post_claims(step: Step, postings: Iterable[Posting]) -> None:
    """Keep further answers beside the ones in place: they are conflicts."""
    taken: dict[int, int] = {}
    rows = []
    for p in postings:
        taken[p.entry] = taken.get(p.entry, 0) + 1
        rows.append(
            {
                "entry": p.entry,
                "number": taken[p.entry],
                "status": p.answer.status,
                "destination": p.answer.destination,
                "old": p.old,
                "host_given": p.host_given,
                "where": p.where,
            },
        )
    step.put_many("claims", rows)


def load_claims(connection: Connection) -> Mapping[int, list[Claim]]:
    """Entry → the claims that contest its answer."""
    found: dict[int, list[Claim]] = defaultdict(list)
    query = (
        'SELECT entry, number, old, status, destination, host_given, "where" FROM claims '
        "ORDER BY entry, number"
    )
    for entry, number, old, status, destination, host_given, where in connection.rows(query):
        claim = Claim(number, old, status, destination, bool(host_given), where)
        found[entry].append(claim)
    return found


def load_answers(connection: Connection) -> dict[int, Decision]:
    """Entry → its answer, for those that have one."""
    return _answers(connection.rows(_ANSWERS))


def answers_of(connection: Connection, entries: Sequence[int]) -> dict[int, Decision]:
    """The answers of some entries, for those that have one."""
    found: dict[int, Decision] = {}
    for some in batches(entries, 500):
        found |= _answers(connection.rows(f"{_ANSWERS} WHERE entry IN {in_numbers(some)}"))
    return found


_ANSWERS = "SELECT entry, kind, status, destination FROM answers"


def _answers(rows: Iterable[tuple[int, str, int, str]]) -> dict[int, Decision]:
    return {
        entry: Decision(AnswerKind(kind), status, destination)
        for entry, kind, status, destination in rows
    }


def load_sample(connection: Connection) -> list[tuple[float, bool]]:
    """The accepted proposals that a person looked at as a random sample: (confidence, whether it
    was right).
    """
    query = f"""
        SELECT "where" FROM answers WHERE "where" LIKE '{AnsweredBy.SAMPLED} %' ORDER BY entry
    """
    rows = connection.column(query)
    return [
        (float(confidence), verdict == "right:")
        for _, confidence, verdict, *_ in map(str.split, rows)
    ]


def sampled(confidence: float, *, right: bool, where: str) -> str:
    """What an answer's `where` says of a reviewed sample; see `load_sample`."""
    return f"{AnsweredBy.SAMPLED} {confidence:.4f} {'right' if right else 'wrong'}: {where}"


class Standing(NamedTuple):
    """An answer as a person gave it. until: the day on which it is to be looked at again, or
    empty.
    """

    answer: Decision
    note: str = ""
    until: str = ""


def answers_before(connection: Connection, step: int) -> dict[int, Standing]:
    """Entry → its answer as it stood when `step` was the last, for those that changed since."""
    query = (
        "SELECT row_key, before FROM changes WHERE table_name = 'answers' AND step > :step "
        "ORDER BY step"
    )
    found: dict[int, Standing] = {}
    for key, before in connection.rows(query, step=step):
        (entry,) = json.loads(key)
        was = unpacked(before) or _NOTHING
        answer = Decision(AnswerKind(was["kind"]), was["status"], was["destination"])
        found.setdefault(entry, Standing(answer, was["note"], was.get("until", "")))
    return found


_NOTHING: Mapping[str, Any] = {"kind": AnswerKind.OPEN, "status": 0, "destination": "", "note": ""}
