"""News: what changed since it was last said, and how to say it in a message."""

from __future__ import annotations

from collections import Counter
from collections.abc import Collection, Mapping, Sequence
from typing import Literal, NamedTuple

from upright_ledger.core.monitoring.failure_account import FailureState
from upright_ledger.core.word import Word


class NewsKind(Word):
    """What changed since it was last said."""

    NEWLY = "fails newly"
    AGAIN = "fails again"
    MORE = "fails much more"
    WRONGLY = "answers wrongly"
    DUE = "is due"
    SILENT = "is silent"
    HEARD = "is heard again"
    MENDED = "is mended"
    LINKED = "has new links to mend"
    UNLINKED = "has no links to mend any more"


WRONG: Literal["wrong"] = "wrong"
"""The state of an answered entry that was asked, and is not answered as it should be."""

DUE: Literal["due"] = "due"
"""The state of an entry whose answer is to be looked at again since a day that has come."""

SILENT: Literal["silent"] = "silent"
"""The state of a log that stopped growing, or of a site that stopped answering."""

LINKED: Literal["linked"] = "linked"
"""The state of an address to which links lead that are to be mended."""

UNLINKED: Literal["unlinked"] = "unlinked"
"""The state of an address to which no such link leads any more."""

_MUCH_MORE = 3.0
_WORTH_SAYING = 10.0  # further requests
_LISTED = 20


class Item(NamedTuple):
    """What is known of one entry now. came: from where, in words; page: to which it leads, or is
    proposed to lead, or empty. A log or a site is no entry, and has the number 0.
    """

    entry: int
    url: str
    state: FailureState | Literal["wrong", "due", "silent", "linked", "unlinked"]
    lost: float
    why: str = ""
    came: str = ""
    page: str = ""


class News(NamedTuple):
    """One thing that changed."""

    kind: NewsKind
    item: Item


def is_worth_saying(item: Item, before: Mapping[int, tuple[str, float]], least: float) -> bool:
    """Whether an item is said at all: what fails and was not said before only from so many lost
    requests on.
    """
    return item.state != FailureState.NEW or item.entry in before or item.lost >= least


def news(items: Sequence[Item], before: Mapping[int, tuple[str, float]]) -> list[News]:
    """What changed, the gravest first. before: entry → what was said of it last."""
    found = []
    for item in items:
        state, lost = before.get(item.entry, ("", 0.0))
        kind: NewsKind | None = None
        if item.state == FailureState.RECURRING and state != FailureState.RECURRING:
            kind = NewsKind.AGAIN
        elif item.state == FailureState.NEW and not state and item.lost:
            kind = NewsKind.NEWLY
        elif (
            item.state in {FailureState.NEW, FailureState.RECURRING}
            and item.lost >= max(_MUCH_MORE * lost, lost + _WORTH_SAYING)
            and state
        ):
            kind = NewsKind.MORE
        elif item.state == WRONG and state != WRONG:
            kind = NewsKind.WRONGLY
        elif item.state == DUE and state != DUE:
            kind = NewsKind.DUE
        elif item.state == FailureState.PROVEN and state not in {"", DUE, FailureState.PROVEN}:
            kind = NewsKind.MENDED
        if kind:
            found.append(News(kind, item))
    order = {
        NewsKind.AGAIN: 0,
        NewsKind.WRONGLY: 1,
        NewsKind.NEWLY: 2,
        NewsKind.MORE: 3,
        NewsKind.DUE: 4,
        NewsKind.MENDED: 5,
    }
    return sorted(found, key=lambda n: (order[n.kind], -n.item.lost, n.item.url))


def silences(items: Sequence[Item], before: Collection[str]) -> list[News]:
    """What is silent since, and what is heard again. items: of logs and sites, silent or not.
    before: names of those that were said to be silent.
    """
    silent = [i for i in items if i.state == SILENT and i.url not in before]
    heard = [i for i in items if i.state != SILENT and i.url in before]
    return [News(NewsKind.SILENT, i) for i in silent] + [News(NewsKind.HEARD, i) for i in heard]


def subject_of(name: str, found: Sequence[News]) -> str:
    """The subject of a message."""
    counts = Counter(n.kind for n in found)
    linked, unlinked = counts[NewsKind.LINKED], counts[NewsKind.UNLINKED]
    if linked or unlinked:
        told = (
            f"{linked:,} {'addresses have' if linked > 1 else 'address has'} new links to mend"
            if linked
            else f"links to {unlinked:,} {'addresses' if unlinked > 1 else 'address'} are mended"
        )
        return f"{name}: {told}"
    words = {
        NewsKind.AGAIN: "again",
        NewsKind.WRONGLY: "wrongly",
        NewsKind.NEWLY: "newly",
        NewsKind.MORE: "much more",
    }
    failing = [f"{counts[kind]:,} {word}" for kind, word in words.items() if counts[kind]]
    told = (
        f"addresses fail: {', '.join(failing)}"
        if failing
        else f"{counts[NewsKind.DUE]:,} answers to look at again"
        if counts[NewsKind.DUE]
        else f"{counts[NewsKind.MENDED]:,} addresses are mended"
    )
    if counts[NewsKind.SILENT]:
        silent = f"nothing is heard of {_plain(next(n.item.url for n in found))}"
        told = f"{silent}; {told}" if failing or counts[NewsKind.MENDED] else silent
    elif counts[NewsKind.HEARD] == len(found) > 0:
        told = f"{_plain(found[0].item.url)} is heard again"
    return f"{name}: {told}"


def body_of(found: Sequence[News], read: str, shown: str = "upright triage") -> str:
    """The text of a message. read: what was read, in words; shown: the command that shows all."""
    lines = [read, ""]
    for kind in dict.fromkeys(n.kind for n in found):
        some = [n.item for n in found if n.kind == kind]
        one, many = _NOUNS.get(kind, ("address", "addresses"))
        lines.append(
            f"{len(some):,} {one if len(some) == 1 else many} {_VERBS[kind][len(some) > 1]}:"
        )
        for item in some[:_LISTED]:
            lines.append(f"  {_plain(item.url)}")
            details = [
                d
                for d in (
                    f"{item.lost:,.0f} requests by people" if item.lost else "",
                    item.why,
                    item.came,
                )
                if d
            ]
            lines += [f"    {'; '.join(map(_plain, details))}"] if details else []
            lines += [f"    {_TO[kind]} {_plain(item.page)}"] if item.page and kind in _TO else []
        if len(some) > _LISTED:
            lines.append(f"  and {len(some) - _LISTED:,} more")
        lines.append("")
    lines.append(f"{shown} shows all of it.")
    return "\n".join(lines) + "\n"


_NOUNS = {
    NewsKind.SILENT: ("log or site", "logs or sites"),
    NewsKind.HEARD: ("log or site", "logs or sites"),
}
_TO = {
    NewsKind.NEWLY: "proposed:",
    NewsKind.MORE: "proposed:",
    NewsKind.AGAIN: "leads to",
    NewsKind.WRONGLY: "leads to",
    NewsKind.LINKED: "to put there:",
}
_VERBS = {
    NewsKind.SILENT: ("is silent", "are silent"),
    NewsKind.HEARD: ("is heard again", "are heard again"),
    NewsKind.AGAIN: ("fails again after its fix", "fail again after their fix"),
    NewsKind.WRONGLY: ("is not answered as it should be", "are not answered as they should be"),
    NewsKind.NEWLY: ("fails, and nobody has answered it", "fail, and nobody has answered them"),
    NewsKind.MORE: ("fails much more often than was said", "fail much more often than was said"),
    NewsKind.DUE: (
        "has an answer to look at again: its day has come",
        "have an answer to look at again: its day has come",
    ),
    NewsKind.MENDED: (
        "is mended: asked for, and answered rightly",
        "are mended: asked for, and answered rightly",
    ),
    NewsKind.LINKED: ("has new links to mend", "have new links to mend"),
    NewsKind.UNLINKED: ("has no links to mend any more", "have no links to mend any more"),
}


def _plain(text: str) -> str:
    """A text without anything that could steer a terminal or a mail reader."""
    return "".join(c if c.isprintable() else "?" for c in text)[:500]
