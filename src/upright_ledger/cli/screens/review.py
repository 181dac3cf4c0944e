"""The review in a terminal: one entry a screen, one key a decision."""

from __future__ import annotations

from contextlib import suppress

import click
from rich.console import Console
from rich.text import Text

from upright_ledger.app.decide.review_queue import Candidate, Card, CardKind, Queue
from upright_ledger.cli.terminal import output
from upright_ledger.cli.terminal.keys import END, Keys
from upright_ledger.core.inventory.answer import AnswerKind
from upright_ledger.core.url.address import NotAnAddressError
from upright_ledger.errors import UprightError

KINDS = {"g": AnswerKind.GONE, "k": AnswerKind.KEEP, "w": AnswerKind.WANTED, "i": AnswerKind.IGNORE}
ACCEPT = ("\r", "\n", "y")
LEAVE = ("q", END)
_DIGITS = frozenset("0123456789")

HELP = (
    ("Enter, 1", "accept the first candidate", "2 3", "pick another one"),
    ("/", "search the new pages", "t", "type an address"),
    ("g", "gone: 410, no successor", "k", "keep: the address lives on"),
    ("w", "wanted: to be written first", "i", "ignore: noise, no rule"),
    ("p", "temporary (302) instead", "a", "accept each one's own first candidate"),
    ("f", "for the whole family", "s", "for the whole section"),
    ("n", "skip", "u", "undo"),
    ("q", "leave; it goes on here next time", "", ""),
)


class Screen:
    """Draws cards and turns keys into decisions."""

    def __init__(self, queue: Queue) -> None:
        self._queue = queue
        self._out = output.console()
        self._keys = Keys()
        self._scope = CardKind.ENTRY
        self._temporary = False
        self._said = ""

    def run(self) -> None:
        """Go on until nobody wants to, or nothing is open. An interruption is leaving: what was
        decided is in the ledger.
        """
        with suppress(KeyboardInterrupt), self._keys.held():
            while (card := self._queue.card()) is not None:
                self._draw(card)
                key = self._keys.next()
                if key in LEAVE:
                    break
                try:
                    self._said = self._act(key, card)
                except NotAnAddressError as error:
                    self._said = f"not posted: {error}"
                except UprightError as error:
                    self._said = f"not posted: {error.message}"
        self._queue.leave()
        self._out.clear()

    def _act(self, key: str, card: Card) -> str:
        """Do what a key says; returns the sentence to show above the next card."""
        queue = self._queue
        if key in "fs":
            return self._toggle(CardKind.FAMILY if key == "f" else CardKind.SECTION, card)
        if key == "p":
            self._temporary = not self._temporary
            return ""
        if key == "n":
            queue.skip()
            return self._settled("skipped")
        if key == "u":
            count = queue.undo()
            return self._settled(
                f"taken back: {output.plural(count, 'entry is', 'entries are')} open again"
                if count
                else "nothing to take back"
            )
        if key in KINDS:
            return self._posted(queue.say(KINDS[key], self._scope), KINDS[key])
        if key == "a":
            return self._posted(queue.accept_each(self._scope), "move")
        if key == "/":
            return self._search()
        if key == "t":
            return self._type()
        number = 1 if key in ACCEPT else int(key) if key in _DIGITS else 0
        if 0 < number <= len(card.candidates):
            return self._pick(card.candidates[number - 1])
        return "there is no such candidate" if number else f"{key!r} means nothing here"

    def _toggle(self, scope: CardKind, card: Card) -> str:
        count, name = (
            (card.family_open, card.line.family)
            if scope == CardKind.FAMILY
            else (card.section_open, card.line.section)
        )
        if not name:
            return f"this entry belongs to no {scope}"
        self._scope = CardKind.ENTRY if self._scope == scope else scope
        return (
            f"the next answer is for all {count:,} open entries of {name}"
            if self._scope == scope
            else ""
        )

    def _pick(self, candidate: Candidate) -> str:
        count = self._queue.pick(candidate, temporary=self._temporary, scope=self._scope)
        return self._posted(count, "temporary" if self._temporary else "move")

    def _posted(self, count: int, kind: str) -> str:
        if not count:
            return self._settled(
                "nothing was posted: it has no candidate, or somebody else answered meanwhile"
            )
        return self._settled(f"{kind}: {output.plural(count, 'entry', 'entries')}")

    def _settled(self, said: str) -> str:
        self._scope, self._temporary = CardKind.ENTRY, False
        return said

    def _type(self) -> str:
        text = self._ask("address on the new site")
        if not text:
            return ""
        candidate, missing = self._queue.typed(text)
        if missing is not None:
            self._line("  ", f"{candidate.url} is no page in stock.", "")
            keys = "y keeps it as it is given, any other key goes back"
            if missing.nearest:
                self._line("  1  ", missing.nearest, "")
                keys = f"1 takes this page, {keys}"
            self._out.print(Text(keys, style=output.FAINT))
            key = self._keys.next()
            if key == "1" and missing.nearest:
                candidate, _ = self._queue.typed(missing.nearest)
            elif key != "y":
                return ""
        return self._pick(candidate)

    def _search(self) -> str:
        text = self._ask("words of the page")
        found = self._queue.search(text)
        if not found:
            return "no page holds these words" if text else ""
        for n, candidate in enumerate(found, 1):
            self._line(f"  {n}  ", candidate.url, candidate.title)
        self._out.print(Text("a number picks, any other key goes back", style=output.FAINT))
        key = self._keys.next()
        if key in _DIGITS and 0 < int(key) <= len(found):
            return self._pick(found[int(key) - 1])
        return ""

    def _ask(self, what: str) -> str:
        with self._keys.released():
            try:
                return str(click.prompt(what, default="", show_default=False)).strip()
            except click.Abort:
                return ""

    def _draw(self, card: Card) -> None:
        out, entry = self._out, card.line.entry
        out.clear()
        queue = self._queue
        out.print(
            Text(
                f"{queue.open:,} {queue.left}, {queue.answered:,} answered in this sitting",
                style=output.FAINT,
            )
        )
        out.print(Text(output.clean(self._said), style=output.DOUBTFUL))
        out.print(Text(output.clean(entry.legacy_url), style="bold"), soft_wrap=True)
        for title in entry.titles[:2]:
            out.print(Text(f"  “{output.clean(title)}”"))
        evidence = entry.evidence
        facts = [f"value {output.number(evidence.value)}"]
        for name, figure in (
            ("hits", evidence.hits),
            ("visits", evidence.visits),
            ("clicks", evidence.clicks),
            ("links", evidence.links),
        ):
            if figure:
                facts.append(f"{name} {output.number(figure)}")
        facts += [f"last seen {entry.last_seen}"] if entry.last_seen else []
        out.print(Text("  " + ", ".join(facts)))
        for name, text, count in (
            ("family", card.line.family, card.family_open),
            ("section", card.line.section, card.section_open),
        ):
            if text:
                out.print(Text(f"  {name} {output.clean(text)}, {count:,} open"))
        out.print()
        for n, candidate in enumerate(card.candidates, 1):
            mark = f"{candidate.confidence:.2f}" if candidate.confidence else " –  "
            self._line(f"  {n}  {mark}  ", candidate.url, candidate.title)
            out.print(
                Text(" " * 11 + output.clean("; ".join(candidate.reasons)), style=output.FAINT)
            )
        if card.advice:
            out.print(Text(f"  {card.advice}"))
        out.print()
        self._what_keys_do(out)

    def _line(self, mark: str, url: str, title: str) -> None:
        self._out.print(Text(mark + output.clean(url)), soft_wrap=True)
        if title:
            self._out.print(
                Text(" " * len(mark) + f"“{output.clean(title)}”"),
                overflow="ellipsis",
                no_wrap=True,
            )

    def _what_keys_do(self, out: Console) -> None:
        for left, meaning, right, other in HELP:
            out.print(
                Text(f"  {left:<10}{meaning:<31}{right:<5}{other}".rstrip(), style=output.FAINT),
                no_wrap=True,
                overflow="ellipsis",
            )
        chosen = {
            CardKind.ENTRY: "this entry",
            CardKind.FAMILY: "its whole family",
            CardKind.SECTION: "its whole section",
        }[self._scope]
        status = "temporary (302)" if self._temporary else "move (301)"
        out.print(Text(f"\nA pick is a {status} for {chosen}."))
