"""The review queue: open entries one after the other, the most valuable first, each answer posted
at once.
"""

from __future__ import annotations

import json
import platform
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from functools import cached_property

from upright_ledger.app.decide.decide import read_new
from upright_ledger.app.decide.entries import EntryLine, entry_lines
from upright_ledger.app.decide.second_looks import Unstocked, not_in_stock
from upright_ledger.app.journal import undo
from upright_ledger.core.inventory.advice import advice
from upright_ledger.core.inventory.answer import AnswerKind, Decision, usual
from upright_ledger.core.url.address import address_of
from upright_ledger.core.url.destination import page_key
from upright_ledger.core.url.tokens import tokens
from upright_ledger.core.word import Word
from upright_ledger.errors import UsageError
from upright_ledger.formats.files.atomic import json_bytes, write_whole
from upright_ledger.ledger.db.connection import Connection
from upright_ledger.ledger.lending import give_back, lend, lent_to_others
from upright_ledger.ledger.lines.listing import Filters, count_fitting, find_entries, numbers_of
from upright_ledger.ledger.store import Ledger
from upright_ledger.ledger.tables.answers import answers_of, of_person, post_answers
from upright_ledger.ledger.tables.entries import load_entries
from upright_ledger.ledger.tables.proposals import StoredProposal, proposals_of
from upright_ledger.ledger.tables.sources import links_are_known
from upright_ledger.ledger.tables.stock import Destination, load_stock, stocked_as


class CardKind(Word):
    """What an answer is given to: the entry that is shown, or all open ones of its family or
    section.
    """

    ENTRY = "entry"
    FAMILY = "family"
    SECTION = "section"


SKIPPED_FILE = "review-skipped.json"
_MOST_FOUND = 9
_GROUPS = (CardKind.FAMILY, CardKind.SECTION)


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
    """What one answer changed: the step that posted it, and the entries it took from the queue."""

    step: int
    entries: list[int]


class Queue:
    """A walk through the open entries of a ledger that fit. All that is decided is in the ledger at
    once: leaving loses nothing.

    answered: entries answered in this sitting. left: what the others are, in words. with_others:
    open entries that somebody else is looking at, as far as it came to them.
    """

    left = "open"

    def __init__(self, ledger: Ledger, filters: Filters) -> None:
        self.ledger = ledger
        self.answered = 0
        self.with_others = frozenset[int]()
        self._open = replace(filters, answer=AnswerKind.OPEN)
        self._shown: EntryLine | None = None
        self._first: list[int] = []  # what was taken back, to be shown again
        self._done: list[_Done] = []
        self._skipped = dict.fromkeys(self._read_skipped())
        with ledger.reading() as connection:
            self._skipped_before = numbers_of(connection, self._skipped)
            self._links_known = links_are_known(connection)
            # The same person goes on where a window was closed.
            self._holder = f"{connection.author()} {platform.node()}"
        self._skipped_now: list[int] = []

    @property
    def open(self) -> int:
        """How many entries are open that fit."""
        with self.ledger.reading() as connection:
            return count_fitting(connection, self._open)

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
        number = self._lent()
        if number is None:
            self._shown = None
            return None
        line = self._shown = entry_lines(self.ledger, [number])[0]
        with self.ledger.reading() as connection:
            offered = proposals_of(connection, [number]).get(number, [])
            beside = [count_fitting(connection, self._group(line, scope)) for scope in _GROUPS]
        is_fallback = any(p.is_fallback for p in offered)
        said = advice(
            line.entry.evidence,
            has_proposal=bool(offered) and not is_fallback,
            has_fallback=is_fallback,
            links_known=self._links_known,
        )
        return Card(line, [self._candidate(p) for p in offered], said, *beside)

    def leave(self) -> None:
        """Give back what is shown to whoever reviews next."""
        self.ledger.note(lambda connection: give_back(connection, self._holder))

    def _lent(self) -> int | None:
        """The next entry that nobody else is looking at; it is lent for some minutes."""
        lent: list[int] = []

        def ask(connection: Connection) -> None:
            self.with_others = lent_to_others(connection, self._holder)
            while (number := self._next()) is not None:
                if lend(connection, number, self._holder):
                    lent.append(number)
                    give_back(connection, self._holder, keep=number)
                    return
                self.with_others |= {number}

        asked = self.ledger.note(ask)
        # Where nothing can be written now, nobody can answer now either.
        return next(iter(lent), None) if asked else self._next()

    def _next(self) -> int | None:
        """The first of what was taken back, of those that were never skipped, of those that were in
        earlier sittings, and in this one.
        """
        now = frozenset(self._skipped_now)
        before = frozenset(self._skipped_before) - now
        return (
            self._first_of(self._first)
            or self._best(replace(self._open, without=now | before | self.with_others))
            or (self._best(self._among(before - self.with_others)) if before else None)
            or self._first_of(self._skipped_now)
        )

    def _best(self, filters: Filters) -> int | None:
        with self.ledger.reading() as connection:
            return next(iter(find_entries(connection, filters, limit=1)), None)

    def _first_of(self, numbers: Sequence[int]) -> int | None:
        """The first of these that is still open."""
        free = (n for n in numbers if n not in self.with_others)
        return next((n for n in free if self._best(self._among([n]))), None)

    def _among(self, numbers: Iterable[int]) -> Filters:
        """Open entries among some of those that fit."""
        these = frozenset(numbers)
        fitting = self._open.numbers
        return replace(self._open, numbers=these if fitting is None else these & fitting)

    def _group(self, line: EntryLine, scope: str) -> Filters:
        """The open entries of the family or section of one; one without is a group of its own."""
        if scope == CardKind.FAMILY and line.family:
            return replace(self._open, family=line.family, site=line.entry.site)
        if scope == CardKind.SECTION and line.section:
            return replace(self._open, section=line.section)
        return self._among([line.entry.id])

    def _candidate(self, proposal: StoredProposal) -> Candidate:
        url = proposal.destination
        with self.ledger.reading() as connection:
            page = stocked_as(connection, page_key(address_of(url)))
        title = page.title if page is not None and page.url == url else ""
        return Candidate(url, title, proposal.confidence, proposal.reasons)

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
        with self.ledger.reading() as connection:
            pages = load_stock(connection).values()
        return [(d, tokens(f"{d.url.partition('://')[2]} {d.title}")) for d in pages]

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
        numbers = self._in_scope(scope)
        with self.ledger.reading() as connection:
            offered = proposals_of(connection, numbers)
        chosen = []
        for number in numbers:
            best = next((p for p in offered.get(number, ()) if not p.is_fallback), None)
            if best is not None:
                chosen.append((number, usual(AnswerKind.MOVE, best.destination)))
        return self._post(chosen)

    def typed(self, text: str) -> tuple[Candidate, Unstocked | None]:
        """An address as somebody types it, and what there is to say where it is no page in stock.
        Raises NotAnAddressError.
        """
        candidate = Candidate(read_new(self.ledger, text), "", 0.0, ())
        with self.ledger.reading() as connection:
            missing = not_in_stock(connection, self.ledger.settings, [candidate.url])
        return candidate, missing[0] if missing else None

    def say(self, kind: AnswerKind, scope: str) -> int:
        """Answer gone, keep, wanted or ignore."""
        return self._answer(usual(kind), scope)

    def skip(self) -> None:
        """Leave the entry open and put it at the end, in later sittings, too."""
        entry = self._of_card().entry
        self._first = [n for n in self._first if n != entry.id]
        self._skipped_now = [*(n for n in self._skipped_now if n != entry.id), entry.id]
        self._skipped[entry.legacy_url] = None
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
        self._first = last.entries + self._first
        self._give_back(last.entries)
        self.answered -= len(last.entries)
        return len(last.entries)

    def _of_card(self) -> EntryLine:
        if self._shown is None:
            raise UsageError("no entry is shown", "nothing is open any more")
        return self._shown

    def _in_scope(self, scope: str) -> list[int]:
        line = self._of_card()
        if scope == CardKind.ENTRY:
            return [line.entry.id]
        with self.ledger.reading() as connection:
            return find_entries(connection, self._group(line, scope))

    def _answer(self, answer: Decision, scope: str) -> int:
        return self._post([(number, answer) for number in self._in_scope(scope)])

    def _post(self, chosen: Sequence[tuple[int, Decision]]) -> int:
        """Post answers as one step, but for entries that somebody else answered meanwhile: they
        only leave the queue.
        """
        if not chosen:
            return 0
        numbers = [number for number, _ in chosen]
        with self.ledger.reading() as connection:
            entries = {e.id: e for e in load_entries(connection, numbers)}
        with self.ledger.step("review", "") as step:
            taken = answers_of(step.connection, numbers)
            free = [(n, a) for n, a in chosen if self._is_free(n, taken)]
            post_answers(step, [of_person(entries[n], a) for n, a in free])
            first = entries[numbers[0]].legacy_url
            step.summary = f"{first}: {chosen[0][1].kind}" + (
                f" and {len(free) - 1:,} more" if len(free) > 1 else ""
            )
        if free:
            self._done.append(_Done(step.id, [n for n, _ in free]))
        self.answered += len(free)
        self._take(numbers)
        return len(free)

    def _take(self, numbers: Sequence[int]) -> None:
        """What is answered is not open any more, and leaves the queue by that."""

    def _give_back(self, numbers: Sequence[int]) -> None:
        """What is taken back is open again."""

    def _is_free(self, number: int, taken: Mapping[int, Decision]) -> bool:
        """Whether nobody else answered an entry meanwhile."""
        return number not in taken or taken[number].kind == AnswerKind.OPEN
