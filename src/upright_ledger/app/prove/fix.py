"""Mending what `check` finds and what can be mended without asking: chains, closing slashes, rules
onto themselves.
"""

from __future__ import annotations

from dataclasses import dataclass

from upright_ledger.app.move_state import MoveState
from upright_ledger.core.inventory.answer import AnsweredBy, AnswerKind, Decision, usual
from upright_ledger.core.inventory.entry import Entry
from upright_ledger.core.rules.finding import FindingKind
from upright_ledger.core.url.address import parse_address
from upright_ledger.core.url.destination import page_key, slash_twin
from upright_ledger.core.url.request_target import toggle_slash
from upright_ledger.ledger.store import Ledger
from upright_ledger.ledger.tables.answers import BY_CHECK, of_person, post_answers

MENDABLE = frozenset(
    {
        FindingKind.CHAIN,
        FindingKind.SLASH_MISMATCH,
        FindingKind.REDIRECTING_DESTINATION,
        FindingKind.SELF,
    }
)
"""Kinds of findings that have one right mend."""

_MOST_STEPS = 20


@dataclass(frozen=True, slots=True)
class Mend:
    """One answer that is changed: what it was, what it is, and the kinds of findings that this
    settles.
    """

    entry: Entry
    before: Decision
    after: Decision
    kinds: tuple[str, ...]


def fix(ledger: Ledger) -> list[Mend]:
    """Post the mends of all findings that have one, as one step; loops and contested answers wait
    for a person.
    """
    move = MoveState(ledger)
    found: dict[str, set[str]] = {}
    for finding in move.compiled.findings:
        found.setdefault(finding.legacy_url, set()).add(finding.kind)
    mends = []
    for legacy_url, key in move.worked_out.answers if found else ():
        kinds = found.get(legacy_url, set())
        if not kinds & MENDABLE or kinds & {FindingKind.LOOP, FindingKind.CONFLICT}:
            continue
        entry = move.by_key.get(key)
        if entry is None or entry.by == AnsweredBy.TEMPLATE:
            continue
        after = usual(AnswerKind.KEEP) if FindingKind.SELF in kinds else _mended(entry.answer, move)
        if after != entry.answer:
            mends.append(Mend(entry, entry.answer, after, tuple(sorted(kinds & MENDABLE))))
    unique = {m.entry.id: m for m in mends}
    if unique:
        with ledger.step("check", "mended by --fix") as step:
            posted = post_answers(
                step, [of_person(m.entry, m.after, BY_CHECK) for m in unique.values()]
            )
            unique = {p.entry: unique[p.entry] for p in posted}
            step.summary = f"{len(unique):,} answers mended"
    return list(unique.values())


def _mended(answer: Decision, move: MoveState) -> Decision:
    """An answer that leads to where its chain ends, in the form in which the site has that page."""
    destination = answer.destination
    for _ in range(_MOST_STEPS):
        following = _next(destination, move)
        if following is None:
            return answer._replace(destination=destination)
        if following == AnswerKind.GONE:
            return usual(AnswerKind.GONE)
        destination = following
    return answer


def _next(destination: str, move: MoveState) -> str | None:
    """Where a destination leads on to: a destination, GONE, or None where it is the end."""
    address = parse_address(destination)
    entry = move.entry_of(address)
    if entry is not None and entry.answer.kind == AnswerKind.GONE:
        return AnswerKind.GONE
    if entry is not None and entry.answer.destination and entry.answer.destination != destination:
        return entry.answer.destination
    if settled := move.around.canonicalised(address):
        return settled
    page = move.stock.get(page_key(address))
    if page is not None and 300 <= page.status < 400 and page.redirects_to:
        there = parse_address(page.redirects_to, page.url)
        return there.text if move.sites.is_new(there) else None
    twin = move.stock.get(slash_twin(page_key(address)))
    if page is None and twin is not None and twin.status < 300:
        return address._replace(path=toggle_slash(address.path)).text
    return None
