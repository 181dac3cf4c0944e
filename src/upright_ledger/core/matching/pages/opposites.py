"""Words that contradict each other in the names of two pages: direction, negation, sort."""

from __future__ import annotations

OPPOSITES = (
    ("to", "from"), ("in", "out"), ("on", "off"), ("add", "remove"), ("is", "not"), ("get", "set"),
    ("read", "write"), ("open", "close"), ("start", "stop"), ("start", "end"), ("before", "after"),
    ("import", "export"), ("enable", "disable"), ("min", "max"), ("first", "last"),
    ("left", "right"), ("create", "delete"), ("login", "logout"), ("install", "uninstall"),
    ("encode", "decode"), ("pack", "unpack"), ("buy", "sell"), ("men", "women"), ("old", "new"),
    ("with", "without"), ("mit", "ohne"), ("vor", "nach"), ("ein", "aus"), ("an", "ab"),
    ("herren", "damen"), ("avec", "sans"), ("avant", "apres"), ("con", "sin"),
    ("previous", "next"), ("up", "down"),
)  # fmt: skip

_OPPOSITES_OF = {
    word: tuple(b if word == a else a for a, b in OPPOSITES if word in {a, b})
    for pair in OPPOSITES
    for word in pair
}


_OPPOSABLE = frozenset(_OPPOSITES_OF)


def opposable(words: tuple[str, ...]) -> frozenset[str]:
    """Those of a name's words that have an opposite."""
    return frozenset() if _OPPOSABLE.isdisjoint(words) else _OPPOSABLE.intersection(words)


def are_opposed(one: frozenset[str], other: frozenset[str]) -> bool:
    """Whether a name says the opposite of another. one, other: see `opposable`."""
    return any(
        b in other and b not in one and a not in other for a in one for b in _OPPOSITES_OF[a]
    )
