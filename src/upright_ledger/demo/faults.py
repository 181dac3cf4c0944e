"""The earlier move's rule list, with faults planted in it, and the corrections that settle them.

`found_as` is the kind `check` must give, `seen_as` the verdict a replay gives where that list is
served as it stands.
"""

from __future__ import annotations

import random
from dataclasses import dataclass, field

from upright_ledger.demo.site import NEW, OLD, Museum, NewPage


@dataclass(frozen=True, slots=True)
class PlantedFault:
    """One planted fault: where, what it is, how it shows, and the right destination (empty: none
    needed).
    """

    legacy_url: str
    found_as: str
    seen_as: str
    right: str


@dataclass
class EarlierMove:
    """The rule list (old, new, status), the planted faults, and corrections (old, new, status)."""

    rules: list[tuple[str, str, int]] = field(default_factory=list)
    faults: list[PlantedFault] = field(default_factory=list)
    corrections: list[tuple[str, str, int]] = field(default_factory=list)


@dataclass
class _Planter:
    museum: Museum
    words: random.Random
    move: EarlierMove = field(default_factory=EarlierMove)
    used: set[str] = field(default_factory=set)

    def path(self, page: str, folder: str = "museum") -> str:
        """Where the site before last had what is now at a page."""
        return f"/{folder}{page.removesuffix('/')}.htm"

    def page(self) -> str:
        """The path of a sound page of the new site, a fresh one each time; home pages and files are
        left out.
        """
        while True:
            new = self.words.choice(self.museum.new)
            url = new.url
            if (
                new.status == 200
                and url.endswith("/")
                and url != f"{NEW}/"
                and "/de/" not in url
                and "/makers/" not in url
                and url not in self.used
            ):
                self.used.add(url)
                return url.removeprefix(NEW)

    def move_of_a_page(self) -> tuple[str, str]:
        """An address of the site before last, and the page that it should lead to."""
        right = self.page()
        return self.path(right), right

    def rule(self, old: str, new: str, status: int = 301) -> None:
        self.move.rules.append((old, new, status))

    def fault(self, old: str, kind: str, verdict: str, right: str) -> None:
        self.move.faults.append(PlantedFault(OLD + old, kind, verdict, NEW + right))
        self.move.corrections.append((old, right, 301))


def plant(museum: Museum, words: random.Random) -> EarlierMove:
    """Write the earlier move's list. Some new pages that faults need (dead, redirecting) join the
    museum.
    """
    p = _Planter(museum, words)
    for _ in range(260):
        p.rule(*p.move_of_a_page())
    _chains_and_loops(p)
    _contested(p)
    _destinations(p)
    words.shuffle(p.move.rules)
    _wrong_one_first(p.move)
    return p.move


def _chains_and_loops(p: _Planter) -> None:
    for _ in range(24):
        first, right = p.move_of_a_page()
        second = p.path(right, "museum/2009")
        p.rule(first, second)
        p.rule(second, right)
        p.fault(first, "chain", "chain", right)
    for length in (2, 2, 2, 3, 3):
        ring = [p.move_of_a_page() for _ in range(length)]
        for n, (old, right) in enumerate(ring):
            p.rule(old, ring[(n + 1) % length][0])
            p.fault(old, "loop", "loop", right)
    for _ in range(5):
        old, right = p.move_of_a_page()
        p.rule(old, old)
        p.fault(old, "self", "loop", right)


def _contested(p: _Planter) -> None:
    for _ in range(8):
        old, right = p.move_of_a_page()
        wrong = p.page()
        p.rule(old, wrong)
        p.rule(old, right)
        p.fault(old, "conflict", "wrong-destination", right)
    for _ in range(12):
        old, right = p.move_of_a_page()
        p.rule(old, right, 302)
        p.fault(old, "temporary", "wrong-status", right)
    for _ in range(30):
        old, right = p.move_of_a_page()
        p.rule(old, "/")
        p.fault(old, "home-fallback", "home-fallback", right)


def _destinations(p: _Planter) -> None:
    for _ in range(40):
        old, right = p.move_of_a_page()
        p.rule(old, right.removesuffix("/"))
        p.fault(old, "slash-mismatch", "slash-mismatch", right)
    for n in range(9):
        old, right = p.move_of_a_page()
        p.rule(old, f"/exhibitions/cancelled-{n + 1}/")
        p.fault(old, "unknown-destination", "dead-end", right)
    for n in range(7):
        (old, right), dead = p.move_of_a_page(), f"/stories/withdrawn-{n + 1}/"
        p.museum.new.append(NewPage(NEW + dead, "", 404))
        p.rule(old, dead)
        p.fault(old, "dead-destination", "dead-end", right)
    for n in range(6):
        (old, right), moving = p.move_of_a_page(), f"/stories/renamed-{n + 1}/"
        p.museum.new.append(NewPage(NEW + moving, "", 301, NEW + right))
        p.rule(old, moving)
        p.fault(old, "redirecting-destination", "chain", right)


def _wrong_one_first(move: EarlierMove) -> None:
    """Servers take the first of two rules: see to it that the wrong one comes first."""
    right = {
        f.legacy_url.removeprefix(OLD): f.right.removeprefix(NEW)
        for f in move.faults
        if f.found_as == "conflict"
    }
    move.rules.sort(key=lambda rule: rule[0] in right and rule[1] == right[rule[0]])
