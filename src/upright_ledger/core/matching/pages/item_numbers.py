"""How item numbers changed on their way: a prefix or a suffix that came or went, or a check digit.

It is learned from pairs that are known, or whose titles agree, and both sides are then brought to
what they have in common.
"""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Collection, Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from difflib import SequenceMatcher
from functools import cached_property
from typing import Protocol

_FEWEST, _FEWEST_DIGITS = 3, 8
"""Pairs that must agree; and those where only the number of signs that are added is the same."""
_SHARE = 0.85
"""Of the pairs whose numbers look so."""
_SHORTEST = 3  # signs of a number


NUMBER = "{number}"
"""What stands for the number in a form such as "SW-{number}"."""


@dataclass(frozen=True)
class ToldNumbers:
    """What is said outright of how numbers changed. table: old number → new one; old, new: forms of
    numbers, such as "SW-{number}", or empty.
    """

    table: Mapping[str, str] = field(default_factory=dict)
    old: str = NUMBER
    new: str = NUMBER

    @cached_property
    def _form(self) -> re.Pattern[str]:
        before, _, after = self.old.partition(NUMBER)
        return re.compile(
            rf"{re.escape(before)}([0-9A-Za-z._-]+){re.escape(after)}\Z", re.IGNORECASE
        )

    @cached_property
    def _by_code(self) -> dict[str, str]:
        return {bare_code(old): new for old, new in self.table.items()}

    def new_numbers(self, items: Collection[str], written: Iterable[str]) -> tuple[str, ...]:
        """What an old page's numbers are on the new site. items: its item numbers; written: what
        may be one in its address.
        """
        found: dict[str, None] = {}
        for text in (*items, *written) if self.table else ():
            if (new := self._by_code.get(bare_code(text))) is not None:
                found[new] = None
        if self.old != self.new:
            found |= {
                self.new.replace(NUMBER, match[1]): None
                for t in items
                if (match := self._form.match(t))
            }
        return tuple(found)


def bare_code(text: str) -> str:
    """A number without what stands between its letters and digits, in small letters."""
    return "".join(c for c in text.lower() if c.isalnum())


@dataclass(frozen=True, slots=True)
class Numbering:
    """One way of numbering: what stands before and after the part that both sites share. head:
    literal; tail: literal, or so many signs of any sort (a check digit).
    """

    head: str = ""
    tail: str | int = ""

    def core(self, code: str) -> str:
        """What both sites share of a number; empty where it does not look so."""
        if not code.startswith(self.head):
            return ""
        rest = code[len(self.head) :]
        if isinstance(self.tail, int):
            return rest[: -self.tail] if len(rest) > self.tail else ""
        return rest.removesuffix(self.tail) if rest.endswith(self.tail) else ""


@dataclass(frozen=True, slots=True)
class Renumbering:
    """How the numbers of two sites correspond. held: in so many of `seen` known cases."""

    old: Numbering
    new: Numbering
    held: int
    seen: int

    @property
    def words(self) -> str:
        """What is done to a number, and how often that was seen."""
        cases = f"in {self.held:,} of {self.seen:,} known cases"
        said = []
        for before, after, where in (
            (self.old.head, self.new.head, "before"),
            (self.old.tail, self.new.tail, "after"),
        ):
            if after:
                what = f"“{after.upper()}”" if isinstance(after, str) else _signs(after)
                said.append(f"{what} put {where} the number")
            if before:
                what = f"“{before.upper()}”" if isinstance(before, str) else _signs(before)
                said.append(f"{what} taken off {where} the number")
        return f"{' and '.join(said)} {cases}"


def _signs(count: int) -> str:
    return "a sign" if count == 1 else f"{count} signs"


def learn_renumbering(
    pairs: Iterable[tuple[Collection[str], Collection[str]]],
) -> Renumbering | None:
    """How numbers changed, by pairs of pages (their numbers, in small letters, without what stands
    between letters and digits); None where they stayed, or no way holds.
    """
    told = [(a, b) for a, b in pairs if a and b]
    # Most numbers stay: these are counted together.
    others = [(a, b) for a, b in told if len(a) > 1 or tuple(a) != tuple(b)]
    exact: Counter[tuple[Numbering, Numbering]] = Counter({_AS_IT_WAS: len(told) - len(others)})
    by_length: Counter[tuple[Numbering, Numbering]] = Counter()
    for olds, news in others:
        found = {_change(a, b) for a in olds for b in news} - {None}
        for change in found:
            if change is not None:
                exact[change] += 1
        by_length.update(
            {(_any_tail(c[0]), _any_tail(c[1])) for c in found if c is not None} - set(found)
        )
    for counts, fewest in ((exact, _FEWEST), (by_length, _FEWEST_DIGITS)):
        for (old, new), held in counts.most_common(1):
            seen = sum(
                1 for olds, news in told if any(map(old.core, olds)) and any(map(new.core, news))
            )
            telling = _is_telling(old) or _is_telling(new)
            if held >= fewest and held >= _SHARE * (seen if telling else len(told)):
                return None if (old, new) == _AS_IT_WAS else Renumbering(old, new, held, seen)
    return None


_AS_IT_WAS = Numbering(), Numbering()


def _is_telling(numbering: Numbering) -> bool:
    """Whether what stands around a number is no chance: a digit at its end may be any."""
    tail = numbering.tail if isinstance(numbering.tail, str) else ""
    return len(numbering.head) > 1 or len(tail) > 1 or (numbering.head + tail).isalpha()


def _change(old: str, new: str) -> tuple[Numbering, Numbering] | None:
    """What stands around the part that two numbers share; None where that is too little."""
    if old == new:
        return _AS_IT_WAS
    same = SequenceMatcher(None, old, new, autojunk=False).find_longest_match()
    core = old[same.a : same.a + same.size]
    if (
        len(core) < _SHORTEST
        or 2 * len(core) < min(len(old), len(new))
        or not any(map(str.isdigit, core))
    ):
        return None
    return (
        Numbering(old[: same.a], old[same.a + same.size :]),
        Numbering(new[: same.b], new[same.b + same.size :]),
    )


def _any_tail(numbering: Numbering) -> Numbering:
    tail = numbering.tail
    return Numbering(numbering.head, len(tail) or "" if isinstance(tail, str) else tail)


class Numbered(Protocol):
    """A page with numbers. heading: its title without what many pages of its site end in; items:
    its item numbers; spelled: the words of its name, in small letters.
    """

    heading: str
    items: frozenset[str]
    spelled: tuple[str, ...]

    @property
    def codes(self) -> frozenset[str]:
        """Its item numbers, or what may be one in its address."""
        ...

    def number_as(self, numbering: Numbering) -> None:
        """Put what both sites share of an item number in its place."""
        ...

    def take_number(self, code: str) -> None:
        """Take what stands in its address for its item number."""
        ...


def renumber(left: Sequence[Numbered], right: Sequence[Numbered], taught: Mapping[int, int]) -> str:
    """Bring the item numbers of both sites to what they share, where pages that are known to be the
    same, or that alone have one title, show how they changed; in words, or empty. taught: old page
    → new page.
    """
    titles = Counter(p.heading for p in left), Counter(p.heading for p in right)
    named = {p.heading: p for p in right if p.heading and titles[1][p.heading] == 1}
    pairs = [(left[a], right[b]) for a, b in taught.items()]
    pairs += [
        (p, named[p.heading])
        for n, p in enumerate(left)
        if n not in taught and p.heading in named and titles[0][p.heading] == 1
    ]
    if not any(p.items for p in (*left, *right)):
        return _renumber_addresses(left, right, pairs)
    found = learn_renumbering((a.codes, b.codes) for a, b in pairs if a.items or b.items)
    return _apply(found, left, right)


def _apply(found: Renumbering | None, left: Sequence[Numbered], right: Sequence[Numbered]) -> str:
    if found is None:
        return ""
    for pages, numbering in ((left, found.old), (right, found.new)):
        for page in pages:
            page.number_as(numbering)
    return found.words


def _renumber_addresses(
    left: Sequence[Numbered],
    right: Sequence[Numbered],
    pairs: Sequence[tuple[Numbered, Numbered]],
) -> str:
    """As `renumber`, where nothing but addresses holds numbers: what stands at an end of a name may
    be one, and is taken for it only where enough pairs show how it changed.
    """
    told = [
        (a, b, _runs(one).isdisjoint(_runs(other)))
        for one, other in pairs
        if (a := code_in(one)) and (b := code_in(other))
    ]
    if len(told) < _FEWEST_DIGITS or 2 * len(told) < len(pairs):
        return ""
    found = learn_renumbering(((a,), (b,)) for a, b, _ in told)
    same = sum(a == b for a, b, _ in told)
    regrouped = sum(a == b and apart for a, b, apart in told)
    if found is None and regrouped < _SHARE * len(told):
        return ""
    for page in (*left, *right):
        if code := code_in(page):
            page.take_number(code)
    if found is not None:
        return _apply(found, left, right)
    return f"the number is grouped in another way in {same:,} of {len(told):,} known cases"


def _runs(page: Numbered) -> frozenset[str]:
    return frozenset(word for word in page.spelled if word.isdigit())


def code_in(page: Numbered) -> str:
    """What may be an item number in the name of a page: the longest run of words with digits, and
    of short ones beside them, at one of its ends; empty where it holds too few digits.
    """
    best = ""
    for words in (page.spelled, page.spelled[::-1]):
        run = []
        for word in words:
            if not (_has_digit(word) or (len(word) <= _SHORTEST and word.isascii())):
                break
            run.append(word)
        while run and not _has_digit(run[-1]):
            run.pop()  # a short word that no digit follows is one of the name
        if not run:
            continue
        code = "".join(run if words is page.spelled else reversed(run))
        if sum(map(str.isdigit, code)) >= _SHORTEST and len(code) > len(best):
            best = code
    return best


def _has_digit(word: str) -> bool:
    return not word.isalpha() and any(map(str.isdigit, word))
