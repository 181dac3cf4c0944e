"""A ledger as plain dictionaries: what is named, asked for, answered and taken back. Nothing of the
product, and only what its users are told.
"""

from __future__ import annotations

import copy
import re
from collections import Counter
from dataclasses import dataclass, field
from typing import NamedTuple


class Told(NamedTuple):
    """An answer: its kind and the path on the new site, empty where there is none."""

    kind: str
    goal: str = ""


OPEN = Told("open")


@dataclass
class Books:
    """What stands at one time. answers: key → answer; templates: source → answer; contested: keys
    for which two answers stand.
    """

    exact: bool = False
    significant: str | None = None
    sources: dict[str, Counter[str]] = field(default_factory=dict)
    hits: dict[str, Counter[str]] = field(default_factory=dict)
    answers: dict[str, Told] = field(default_factory=dict)
    templates: dict[str, Told] = field(default_factory=dict)
    pages: set[str] = field(default_factory=set)
    contested: set[str] = field(default_factory=set)

    def key(self, address: str) -> str:
        """The entry of an address: letters folded, parameters kept by the settings, in order."""
        path, _, query = address.partition("?")
        path = path if self.exact else path.lower()
        kept = [p for p in query.split("&") if p]
        if path == "/c.php" and self.significant is not None:
            kept = [p for p in kept if p.partition("=")[0] == self.significant]
        return path + ("?" + "&".join(sorted(kept)) if kept else "")

    def named(self) -> set[str]:
        """The entries that a source names, or that have an answer."""
        told = {self.key(a) for urls in (*self.sources.values(), *self.hits.values()) for a in urls}
        return told | set(self.answers)

    def answer(self, key: str) -> Told:
        """An entry's own answer, or that of the template it fits."""
        if key in self.answers:
            return self.answers[key]
        for source, told in self.templates.items():
            if match := re.fullmatch(source.replace("{x}", "([A-Za-z0-9._~-]+)"), key):
                return Told(told.kind, told.goal.replace("{x}", match[1]))
        return OPEN

    def requests(self) -> Counter[str]:
        """Key → how often people asked for it."""
        found: Counter[str] = Counter()
        for asked in self.hits.values():
            for address, times in asked.items():
                found[self.key(address)] += times
        return found

    def family(self) -> set[str]:
        """The numbered pages, if they are a family."""
        found = {k for k in self.named() if re.fullmatch(r"/p[0-9]+\.html", k)}
        return found if len(found) >= 3 else set()


@dataclass
class LedgerModel:
    """The books, all spellings that were ever seen of each, and the steps that stand."""

    now: Books = field(default_factory=Books)
    seen: dict[str, set[str]] = field(default_factory=dict)
    steps: list[tuple[int, Books]] = field(default_factory=list)
    undone: tuple[int, Books] | None = None

    def before(self) -> Books:
        return copy.deepcopy(self.now)

    def posted(self, step: int, before: Books) -> None:
        """A step was written: it can be taken back."""
        self.steps.append((step, before))
        self.undone = None

    def see(self, address: str) -> None:
        """An address belongs to an entry from now on."""
        self.seen.setdefault(self.now.key(address), set()).add(address)

    def decide(self, address: str, told: Told) -> None:
        key = self.now.key(address)
        self.seen.setdefault(key, {address})
        self.now.answers[key] = told
        self.now.contested.discard(key)

    def match(self) -> None:
        """Open entries that are pages of the new site."""
        for key in self.now.named():
            if self.now.answer(key) == OPEN and key in self.now.pages:
                self.now.answers[key] = Told("move", key)

    def fold(self, **changes: object) -> dict[str, set[Told]]:
        """Fold anew: each spelling takes the answer of its entry along. Returns what is claimed of
        entries that come together with different answers.
        """
        old, answers = self.seen, self.now.answers
        for name, value in changes.items():
            setattr(self.now, name, value)
        self.seen, claims = {}, {}
        for key, spellings in old.items():
            for address in spellings:
                new = self.now.key(address)
                self.seen.setdefault(new, set()).add(address)
                if key in answers:
                    claims.setdefault(new, set()).add(answers[key])
        self.now.answers = {key: min(told) for key, told in claims.items()}
        return {key: told for key, told in claims.items() if len(told) > 1}

    def take_back(self) -> int:
        """Take the last step back; its number."""
        step, before = self.steps.pop()
        self.undone = (step, self.now)
        self._to(before)
        return step

    def take_back_the_undo(self) -> int:
        """Take the last step up again; its number."""
        assert self.undone is not None
        step, books = self.undone
        self.steps.append((step, self.before()))
        self._to(books)
        self.undone = None
        return step

    def _to(self, books: Books) -> None:
        """What stood then stands again; spellings that were seen since are still known."""
        known = {a for spellings in self.seen.values() for a in spellings}
        self.now = copy.deepcopy(books)
        self.seen = {}
        for address in known:
            self.see(address)
