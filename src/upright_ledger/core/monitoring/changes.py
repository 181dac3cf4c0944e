"""News: what changed since it was last said, and how to say it in a message."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
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
    MENDED = "is mended"


WRONG: Literal["wrong"] = "wrong"
"""The state of an answered entry that was asked, and is not answered as it should be."""

DUE: Literal["due"] = "due"
"""The state of an entry whose answer is to be looked at again since a day that has come."""

_MUCH_MORE = 3.0
_WORTH_SAYING = 10.0  # further requests
_LISTED = 20


class Item(NamedTuple):
    """What is known of one entry now. came: from where, in words."""

    entry: int
    url: str
    state: FailureState | Literal["wrong", "due"]
    lost: float
    why: str = ""
    came: str = ""


class News(NamedTuple):
    """One thing that changed."""

    kind: NewsKind
    item: Item


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


def subject_of(name: str, found: Sequence[News]) -> str:
    """The subject of a message."""
    counts = {
        kind: sum(1 for n in found if n.kind == kind)
        for kind in (
            NewsKind.AGAIN,
            NewsKind.WRONGLY,
            NewsKind.NEWLY,
            NewsKind.MORE,
            NewsKind.DUE,
            NewsKind.MENDED,
        )
    }
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
    return f"{name}: {told}"


def body_of(found: Sequence[News], read: str) -> str:
    """The text of a message. read: what was read, in words."""
    lines = [read, ""]
    for kind in dict.fromkeys(n.kind for n in found):
        some = [n.item for n in found if n.kind == kind]
        lines.append(
            f"{len(some):,} {'address' if len(some) == 1 else 'addresses'} "
            f"{_VERBS[kind][len(some) > 1]}:"
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
        if len(some) > _LISTED:
            lines.append(f"  and {len(some) - _LISTED:,} more")
        lines.append("")
    lines.append("upright triage shows all of it.")
    return "\n".join(lines) + "\n"


_VERBS = {
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
}


def _plain(text: str) -> str:
    """A text without anything that could steer a terminal or a mail reader."""
    return "".join(c if c.isprintable() else "?" for c in text)[:500]
