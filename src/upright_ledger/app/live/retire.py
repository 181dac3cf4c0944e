"""Retiring: how each rule is used, and which ones nobody needs any more."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass
from typing import Any

from upright_ledger.app.live.fix_times import load_fixes
from upright_ledger.app.move_state import MoveState
from upright_ledger.core.inventory.answer import AnsweredBy, AnswerKind, usual
from upright_ledger.core.inventory.entry import Entry
from upright_ledger.core.monitoring.deploy_days import is_after, span_of
from upright_ledger.core.monitoring.failure_account import LogCount
from upright_ledger.core.monitoring.retirement import Use, why_kept, window
from upright_ledger.core.rules.templates.template_index import TemplateRule
from upright_ledger.errors import UsageError
from upright_ledger.ledger.clock import now
from upright_ledger.ledger.tables.answers import of_person, post_answers
from upright_ledger.ledger.tables.failures import requests_by_day, told_of
from upright_ledger.ledger.tables.sources import links_are_known
from upright_ledger.ledger.tables.templates import remove_template

EXAMPLES = 3


@dataclass(frozen=True, slots=True)
class RuleUse:
    """One rule with its use. kept: why it stays, or empty where it may be retired. entries: those
    that it answers, or with templates may answer; template: its source, or empty for an exact rule.
    examples: addresses for which people asked since it is live, the most wanted first.
    """

    legacy_url: str
    status: int
    destination: str
    entries: tuple[Entry, ...]
    use: Use
    kept: str
    template: str = ""
    site: str = ""
    examples: tuple[str, ...] = ()

    def as_dict(self) -> dict[str, Any]:
        """As data."""
        return {
            "legacy_url": self.legacy_url,
            "status": self.status,
            "destination": self.destination,
            "kind": "template" if self.template else "exact",
            **self.use._asdict(),
            "kept": self.kept,
            "examples": list(self.examples),
        }


@dataclass
class Retiring:
    """All rules of a ledger, templates among them. first, last: the time looked at; covered: the
    share of its days of which there are logs; retired: how many were. links_known: whether
    anything tells which addresses others link to.
    """

    first: str
    last: str
    covered: float
    rules: list[RuleUse]
    retired: int = 0
    links_known: bool = True

    @property
    def proposed(self) -> list[RuleUse]:
        """Those that may be retired, the least asked for first."""
        return [r for r in self.rules if not r.kept]

    @property
    def by_use(self) -> list[RuleUse]:
        """All of them that are live, those first for which people asked most since then."""
        live = (r for r in self.rules if r.use.live)
        return sorted(live, key=lambda r: (-r.use.since, -r.use.bots, r.legacy_url))

    @property
    def kept(self) -> Counter[str]:
        """Why the others stay → how many."""
        return Counter(r.kept for r in self.rules if r.kept)

    def as_dict(self) -> dict[str, Any]:
        """As data."""
        return {
            "first": self.first, "last": self.last, "covered": round(self.covered, 3),
            "proposed": [r.as_dict() for r in self.proposed],
            "kept": dict(self.kept), "bots": sum(r.use.bots for r in self.proposed),
            "retired": self.retired, "links_known": self.links_known,
            "rules": [r.as_dict() for r in self.rules],
        }  # fmt: skip


def retire(move: MoveState, days: int, *, accept: bool = False) -> Retiring:
    """Look at how rules were used within some days up to the newest one in the logs. accept: retire
    those that nobody uses, as one undoable step: their entries are ignored from then on, and keep
    what they were answered with in their note.

    Raises UsageError where no log was gathered.
    """
    entries = [e for e in move.entries if e.answer.has_rule]
    fixes = load_fixes(move.ledger)
    with move.ledger.reading() as connection:
        logged, links_known = requests_by_day(connection), links_are_known(connection)
        told = told_of(connection, {e.id for e in entries})
    if not logged:
        raise UsageError(
            "no log was gathered, so nobody knows which rules are used", "upright triage access.log"
        )
    span = span_of({day: sum(classes.values()) for day, classes in logged.items()}, now()[:10])
    first, last = window(span.last, days)
    covered = sum(1 for day in logged if first <= day <= last) / days
    live = {e.id: fixes.of(e).live for e in entries}
    uses = {e.id: _use(e, told.get(e.id, ()), live[e.id], first) for e in entries}

    def asked(of: Iterable[Entry]) -> tuple[str, ...]:
        """The addresses for which people asked most."""
        every = Counter[str]()
        for entry in of:
            every.update(_asked(told.get(entry.id, ()), live[entry.id]))
        ranked = sorted(every.items(), key=lambda item: (-item[1], item[0]))
        return tuple(url for url, _ in ranked[:EXAMPLES])

    found = [
        RuleUse(
            e.legacy_url,
            e.answer.status,
            e.answer.destination,
            (e,),
            uses[e.id],
            why_kept(uses[e.id], first, covered),
            examples=asked((e,)),
        )
        for e in entries
        if e.by != AnsweredBy.TEMPLATE
    ]
    found += [
        _of_template(t, entries, uses, fixes.template_live, first, covered, asked)
        for t in move.given.templates
        if t.status
    ]
    found.sort(key=lambda r: (bool(r.kept), r.use.bots, r.use.last, r.legacy_url))
    result = Retiring(first, last, covered, found, links_known=links_known)
    if accept and result.proposed:
        with move.ledger.step("retire", f"unused for {days} days up to {last}") as step:
            exact = [r.entries[0] for r in result.proposed if not r.template]
            postings = [of_person(e, usual(AnswerKind.IGNORE), note=_note(e)) for e in exact]
            result.retired = len(post_answers(step, postings, from_evidence=True))
            for rule in result.proposed:
                if rule.template:
                    remove_template(step, rule.site, rule.template)
                    result.retired += 1
            step.summary = f"{result.retired:,} rules retired"
    return result


def _use(entry: Entry, told: Iterable[LogCount], live: str, first: str) -> Use:
    """How an entry's rule was used since it is live. live: that time, or empty."""
    people = bots = since = 0.0
    last = ""
    for t in told:
        if not is_after(t.day, live):
            continue
        if t.people:
            last = max(last, t.day[:10])
            since += t.requests
        if t.day[:10] >= first:
            people, bots = people + t.requests * t.people, bots + t.requests * (not t.people)
    e = entry.evidence
    return Use(people, bots, last, e.links, e.clicks, e.impressions, live[:10], since)


def _asked(told: Iterable[LogCount], live: str) -> Counter[str]:
    """Spelling → requests by people, since a rule is live."""
    found = Counter[str]()
    for t in told:
        if t.people and is_after(t.day, live):
            found[t.spelling] += int(t.requests)
    return found


def _of_template(
    template: TemplateRule,
    entries: Iterable[Entry],
    uses: Mapping[int, Use],
    live: str,
    first: str,
    covered: float,
    asked: Callable[[Iterable[Entry]], tuple[str, ...]],
) -> RuleUse:
    """A template with the use of all entries that it answers."""
    own = tuple(
        e for e in entries if e.by == AnsweredBy.TEMPLATE and e.where == template.legacy_url
    )
    of = [uses[e.id] for e in own]
    use = Use(
        sum(u.people for u in of),
        sum(u.bots for u in of),
        max((u.last for u in of), default=""),
        sum(u.links for u in of),
        sum(u.clicks for u in of),
        sum(u.impressions for u in of),
        live[:10],
        sum(u.since for u in of),
    )
    kept = why_kept(use, first, covered)
    return RuleUse(
        template.legacy_url,
        template.status,
        template.destination,
        own,
        use,
        kept,
        template.source.text,
        template.site,
        asked(own),
    )


def _note(entry: Entry) -> str:
    goal = f" to {entry.answer.destination}" if entry.answer.destination else ""
    return f"retired {now()[:10]}: was {entry.answer.status}{goal}"
