"""Two surveys of one site: what vanished, what appeared, and what is the same page under another address."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable
from typing import NamedTuple

from upright_ledger.core.audits.site import Line, Site
from upright_ledger.core.surveying import ANSWERED, FAILING, MOVED

_LEAST_TEXT = 120  # letters; shorter texts tell no pages apart

GONE, LED, ASTRAY = "gone", "led there", "led elsewhere"
"""What became of the old address of a page that was renamed: it fails, it redirects to the new one, or to another page."""


class Renaming(NamedTuple):
    """A page that has another address now. state: one of the above; inbound: pages that linked to the old address."""

    old: str
    new: str
    title: str
    state: str
    inbound: int


class Renamed(NamedTuple):
    """What changed between two surveys. vanished, appeared: addresses of pages without a counterpart."""

    renamings: list[Renaming]
    vanished: list[str]
    appeared: list[str]


def compare(before: Site, after: Site) -> Renamed:
    """Lay two surveys side by side. A page is known by its title and text, or by its title, where no other page that vanished or appeared has them."""
    old, new = _pages(before), _pages(after)
    vanished = [url for url in old if url not in new]
    appeared = [url for url in new if url not in old]
    renamings: list[Renaming] = []
    for marks in (_by_text, _by_title):
        found = _matched(vanished, appeared, old, new, marks)
        renamings += [Renaming(a, b, new[b].title, _state(a, b, after), before.inbound[a]) for a, b in found.items()]
        vanished = [url for url in vanished if url not in found]
        appeared = [url for url in appeared if url not in set(found.values())]
    order = {GONE: 0, ASTRAY: 1, LED: 2}
    renamings.sort(key=lambda r: (order[r.state], -r.inbound, r.old))
    return Renamed(renamings, sorted(vanished), sorted(appeared))


def _pages(site: Site) -> dict[str, Line]:
    return {url: line for url, line in site.lines.items() if line.is_page and line.outcome == ANSWERED}


def _by_text(line: Line) -> str:
    return f"{line.title}\n{line.digest}" if line.digest and line.letters >= _LEAST_TEXT else ""


def _by_title(line: Line) -> str:
    return line.title


def _matched(
    vanished: list[str], appeared: list[str], old: dict[str, Line], new: dict[str, Line], mark: Callable[[Line], str]
) -> dict[str, str]:
    """Vanished address → the appeared one with its mark, where each is the only one of its kind that has it."""
    before: dict[str, list[str]] = defaultdict(list)
    now: dict[str, list[str]] = defaultdict(list)
    for url in vanished:
        before[mark(old[url])].append(url)
    for url in appeared:
        now[mark(new[url])].append(url)
    return {urls[0]: now[text][0] for text, urls in before.items() if text and len(urls) == 1 == len(now.get(text, ()))}


def _state(old: str, new: str, after: Site) -> str:
    line = after.lines.get(old)
    if line is None or line.outcome == FAILING:
        return GONE
    return LED if line.outcome == MOVED and after.final(old)[0] == new else ASTRAY
