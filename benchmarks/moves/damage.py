"""What happens to the words of pages on their way from one site to the other."""

from __future__ import annotations

import random
from collections.abc import Callable

from moves.words import FILLERS, misspelt


class Damage:
    """What happens to the words of a section's pages on their way; drawn once a section."""

    def __init__(
        self,
        chance: random.Random,
        some_word: Callable[[], str],
        *,
        mild: bool = False,
        titled: bool = False,
    ) -> None:
        self.r = chance
        self.some_word = some_word
        self.titled = titled
        share = 0.3 if mild else 1.0
        self.cut = chance.choice([0, 0, 0, 3, 4])  # old slugs end after so many words
        self.fillers = chance.random() < 0.3
        self.rates = {
            name: chance.choice([0.0, 0.0, 0.05, 0.2]) * share
            for name in (
                "typo",
                "plural",
                "order",
                "other",
                "more",
                "fewer",
                "abbreviated",
                "joined",
            )
        }

    def happens(self, name: str) -> bool:
        return self.r.random() < self.rates[name]

    def old_words(self, words: list[str]) -> list[str]:
        out = list(words)
        if self.fillers:
            out = [
                x
                for w in out
                for x in ((self.r.choice(FILLERS), w) if self.r.random() < 0.3 else (w,))
            ]
        if self.cut:
            out = out[: self.cut]
        if self.happens("typo"):
            at = self.r.randrange(len(out))
            out[at] = misspelt(self.r, out[at])
        if self.happens("abbreviated"):
            at = self.r.randrange(len(out))
            out[at] = out[at][: max(3, len(out[at]) * 2 // 3)]
        if self.happens("joined"):
            out = ["".join(out)]
        return out

    def new_words(self, words: list[str]) -> list[str]:
        out = list(words)
        if self.happens("plural"):
            at = self.r.randrange(len(out))
            out[at] = out[at][:-1] if out[at].endswith("s") else out[at] + "s"
        if self.happens("order"):
            self.r.shuffle(out)
        if self.happens("other"):
            out[self.r.randrange(len(out))] = self.some_word()
        if self.happens("more"):
            out.insert(self.r.randint(0, len(out)), self.some_word())
        if self.happens("fewer") and len(out) > 2:
            del out[self.r.randrange(len(out))]
        return out

    def new_title(self, words: list[str]) -> list[str]:
        return [*words, self.some_word()] if self.r.random() < self.rates["more"] else words

    def other_page(self, words: list[str]) -> list[str]:
        """A page of the same kind that is another page."""
        out = list(words)
        for at in self.r.sample(range(len(out)), max(1, len(out) // 2)):
            out[at] = self.some_word()
        return out
