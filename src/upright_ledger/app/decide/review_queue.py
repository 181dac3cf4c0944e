"""The review queue: open entries one after the other, the most valuable first, each answer posted
at once.
"""

from __future__ import annotations

import json
from collections import Counter
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from functools import cached_property

from upright_ledger.app.decide.decide import read_new
from upright_ledger.app.decide.entries import EntryLine, Filters, list_entries
from upright_ledger.app.journal import undo
from upright_ledger.app.move_state import MoveState
from upright_ledger.core.inventory.advice import advice
from upright_ledger.core.inventory.answer import AnswerKind, Decision, usual
from upright_ledger.core.url.tokens import tokens
from upright_ledger.core.word import Word
from upright_ledger.errors import UsageError
from upright_ledger.formats.files.atomic import json_bytes, write_whole
from upright_ledger.ledger.store import Ledger
from upright_ledger.ledger.tables.answers import answers_of, of_person, post_answers
from upright_ledger.ledger.tables.proposals import StoredProposal, load_proposals
from upright_ledger.ledger.tables.stock import Destination


class CardKind(Word):
    """What an answer is given to: the entry that is shown, or all open ones of its family or
    section.
    """

    ENTRY = "entry"
    FAMILY = "family"
    SECTION = "section"


SKIPPED_FILE = "review-skipped.json"
_MOST_FOUND = 9


@dataclass(frozen=True, slots=True)
class Candidate:
    """A destination on offer. confidence: 0 for a fallback. title: of the page, or empty."""

    url: str
    title: str
    confidence: float
    reasons: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class Card:
    """All there is to see of one entry. family_open, section_open: open entries beside it, itself
    among them.
    """

    line: EntryLine
    candidates: Sequence[Candidate]
    advice: str
    family_open: int
    section_open: int


@dataclass
class _Done:
    """What one answer changed: the step that posted it, and the lines it took from the queue."""

    step: int
    lines: list[EntryLine]


class Queue:
    """A walk through the open entries of a ledger that fit. All that is decided is in the ledger at
    once: leaving loses nothing.

    waiting: the lines to come, those skipped in earlier sittings at the end. answered: entries
    answered in this sitting.
    """

    def __init__(self, ledger: Ledger, filters: Filters) -> None:
        self.ledger = ledger
        self.answered = 0
        move = MoveState(ledger)
        with ledger.reading() as connection:
            self._proposals = load_proposals(connection)
        self._pages = {d.url: d for d in move.stock.values()}
        self._done: list[_Done] = []
        self._skipped = dict.fromkeys(self._read_skipped())
        lines = [
            x for x in list_entries(move, filters).lines if x.entry.answer.kind == AnswerKind.OPEN
        ]
        self.waiting = sorted(
            lines, key=lambda x: x.entry.legacy_url in self._skipped
        )  # stable: by value within
        self._open = Counter(group for line in lines for group in _groups(line))

    def _read_skipped(self) -> list[str]:
        try:
            found = json.loads((self.ledger.folder / SKIPPED_FILE).read_text(encoding="utf-8"))
        except FileNotFoundError:
            return []
        except ValueError:
            raise UsageError(
                f"{SKIPPED_FILE} is damaged", "delete it: it only holds which entries were skipped"
            ) from None
        return [str(url) for url in found] if isinstance(found, list) else []

    def card(self) -> Card | None:
        """The entry to decide on; None when no open one is left."""
        if not self.waiting:
            return None
        line = self.waiting[0]
        offered = self._proposals.get(line.entry.id, [])
        is_fallback = any(p.is_fallback for p in offered)
        said = advice(
            line.entry.evidence,
            has_proposal=bool(offered) and not is_fallback,
            has_fallback=is_fallback,
        )
        return Card(
            line,
            [self._candidate(p) for p in offered],
            said,
            *(self._open[g] for g in _groups(line)),
        )

    def _candidate(self, proposal: StoredProposal) -> Candidate:
        page = self._pages.get(proposal.destination)
        return Candidate(
            proposal.destination, page.title if page else "", proposal.confidence, proposal.reasons
        )

    def search(self, text: str) -> list[Candidate]:
        """Pages of the stock whose address or title holds all words of a text, or begins them so;
        the shortest first.
        """
        wanted = tokens(text)
        if not wanted:
            return []
        found = []
        for page, words in self._words:
            if all(any(w.startswith(t) for w in words) for t in wanted):
                found.append(page)
        found.sort(key=lambda d: (len(d.url), d.url))
        return [Candidate(d.url, d.title, 0.0, ()) for d in found[:_MOST_FOUND]]

    @cached_property
    def _words(self) -> list[tuple[Destination, list[str]]]:
        """The pages of the stock with the words of their addresses and titles."""
        return [(d, tokens(f"{d.url.partition('://')[2]} {d.title}")) for d in self._pages.values()]

    def pick(self, candidate: Candidate, *, temporary: bool, scope: str) -> int:
        """Answer with a destination. Of a family or section each entry gets this one. Returns how
        many were answered.
        """
        return self._answer(
            usual(AnswerKind.TEMPORARY if temporary else AnswerKind.MOVE, candidate.url), scope
        )

    def accept_each(self, scope: str) -> int:
        """Answer every entry of a family or section with its own best proposal; those without one
        stay open.
        """
        chosen = []
        for line in self._in_scope(scope):
            best = next(
                (p for p in self._proposals.get(line.entry.id, ()) if not p.is_fallback), None
            )
            if best is not None:
                chosen.append((line, usual(AnswerKind.MOVE, best.destination)))
        return self._post(chosen)

    def typed(self, text: str, *, temporary: bool, scope: str) -> int:
        """Answer with an address as somebody types it. Raises NotAnAddressError."""
        return self.pick(
            Candidate(read_new(self.ledger, text), "", 0.0, ()), temporary=temporary, scope=scope
        )

    def say(self, kind: AnswerKind, scope: str) -> int:
        """Answer gone, keep, wanted or ignore."""
        return self._answer(usual(kind), scope)

    def skip(self) -> None:
        """Leave the entry open and put it at the end, in later sittings, too."""
        line = self.waiting.pop(0)
        self.waiting.append(line)
        self._skipped[line.entry.legacy_url] = None
        write_whole(self.ledger.folder / SKIPPED_FILE, json_bytes(list(self._skipped)))

    def undo(self) -> int:
        """Take back the last answer of this sitting. Returns how many entries are open again; 0
        when there is none.
        """
        if not self._done:
            return 0
        last = self._done[-1]
        undo(self.ledger, target=last.step)  # may be refused: then the answer stays in the list
        self._done.pop()
        self.waiting = [*last.lines, *self.waiting]
        self._open.update(group for line in last.lines for group in _groups(line))
        self.answered -= len(last.lines)
        return len(last.lines)

    def _in_scope(self, scope: str) -> list[EntryLine]:
        shown = self.waiting[0]
        if scope == CardKind.ENTRY:
            return [shown]
        at = (CardKind.FAMILY, CardKind.SECTION).index(scope)
        return [x for x in self.waiting if _groups(x)[at] == _groups(shown)[at]]

    def _answer(self, answer: Decision, scope: str) -> int:
        return self._post([(line, answer) for line in self._in_scope(scope)])

    def _post(self, chosen: Iterable[tuple[EntryLine, Decision]]) -> int:
        """Post answers as one step, but for entries that somebody else answered meanwhile: they
        only leave the queue.
        """
        chosen = list(chosen)
        if not chosen:
            return 0
        with self.ledger.step("review", "") as step:
            taken = answers_of(step.connection, [line.entry.id for line, _ in chosen])
            free = [
                (line, a)
                for line, a in chosen
                if taken.get(line.entry.id, Decision(AnswerKind.OPEN)).kind == AnswerKind.OPEN
            ]
            post_answers(step, [of_person(x.entry, a) for x, a in free])
            first = chosen[0][0].entry.legacy_url
            step.summary = f"{first}: {chosen[0][1].kind}" + (
                f" and {len(free) - 1:,} more" if len(free) > 1 else ""
            )
            number = step.id
        lines = [line for line, _ in chosen]
        gone = {id(line) for line in lines}
        self.waiting = [x for x in self.waiting if id(x) not in gone]
        self._open.subtract(group for line in lines for group in _groups(line))
        if free:
            self._done.append(_Done(number, [line for line, _ in free]))
        self.answered += len(free)
        return len(free)


def _groups(line: EntryLine) -> tuple[tuple[str, ...], tuple[str, ...]]:
    """The family and the section of an entry; one without is a group of its own."""
    url = line.entry.legacy_url
    return (
        (CardKind.FAMILY, line.entry.site, line.family) if line.family else (CardKind.FAMILY, url),
        (CardKind.SECTION, line.section) if line.section else (CardKind.SECTION, url),
    )
