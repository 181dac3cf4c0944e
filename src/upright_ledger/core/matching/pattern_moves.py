"""Correspondences: how the families of one site moved to those of the other, read off from pairs
that are known.
"""

from __future__ import annotations

import re
from collections import Counter, defaultdict
from collections.abc import Sequence
from dataclasses import dataclass

from upright_ledger.core.inventory.url_patterns import templates

FEWEST = 5
"""Pairs that make a correspondence."""

_CARRIED = 0.9  # of the pairs in which a changing part is the same on both sides
_CHANGING = re.compile(r"\{(\w+)\}")


@dataclass(frozen=True, slots=True)
class Correspondence:
    """Most of one family went to one family of the new site. old, new: their templates; parts of
    one name are carried over.

    pairs: how many went this way; of: how many of the old family are known to have moved.
    """

    old: str
    new: str
    pairs: int
    of: int


def correspondences(pairs: Sequence[tuple[str, str]]) -> list[Correspondence]:
    """What pairs of (old path and query, new path and query) have in common, the largest first."""
    old_family = templates(sorted({old for old, _ in pairs}))
    new_family = templates(sorted({new for _, new in pairs}))
    groups: dict[tuple[str, str], list[tuple[str, str]]] = defaultdict(list)
    known = Counter(old_family[old] for old, _ in pairs if old in old_family)
    for old, new in pairs:
        if old in old_family:
            groups[old_family[old], new_family.get(new, new)].append((old, new))
    found = [
        Correspondence(old, _carried(old, new, members), len(members), known[old])
        for (old, new), members in groups.items()
        if len(members) >= FEWEST and 2 * len(members) > known[old]
    ]
    return sorted(found, key=lambda c: (-c.pairs, c.old, c.new))


def moves_alike(pairs: Sequence[tuple[str, str]]) -> str:
    """The template of the new paths by which all pairs of (old path, new path) of one family went,
    each changing part of it carried over from the old one; empty where there is none.
    """
    found = correspondences(pairs)
    if not found or found[0].pairs < len(pairs) or "{…}" in found[0].new:
        return ""
    old, new = _pattern(found[0].old), found[0].new
    names = _CHANGING.findall(found[0].old)
    for here, there in pairs:
        match = old.fullmatch(here) if old is not None else None
        if match is None:
            return ""
        told = dict(zip(names, match.groups(), strict=True))
        if _CHANGING.sub(lambda m, told=told: told[m[1]], new) != there:  # type: ignore[misc]
            return ""
    return new


def _carried(old: str, new: str, members: Sequence[tuple[str, str]]) -> str:
    """The new template, its changing parts named after those of the old one that they repeat, or
    "…" where they repeat none.
    """
    here, there = _pattern(old), _pattern(new)
    if here is None or there is None:
        return new
    names, parts = _CHANGING.findall(old), len(_CHANGING.findall(new))
    counts = [Counter[int]() for _ in range(parts)]
    for one, other in members:
        left, right = here.fullmatch(one), there.fullmatch(other)
        if left is not None and right is not None:
            for n, text in enumerate(right.groups()):
                counts[n].update(
                    m
                    for m, given in enumerate(left.groups())
                    if given.casefold() == text.casefold()
                )
    told = []
    for count in counts:
        best = min(count, key=lambda m: (-count[m], m), default=None)
        carried = best is not None and count[best] >= _CARRIED * len(members)
        told.append(f"{{{names[best]}}}" if carried and best is not None else "{…}")
    fill = iter(told)
    return _CHANGING.sub(lambda _: next(fill), new)


def _pattern(template: str) -> re.Pattern[str] | None:
    """What the members of a family look like; None where two changing parts touch."""
    if "}{" in template:
        return None
    literals = _CHANGING.split(template)[::2]
    return re.compile("([^/?&=]+)".join(map(re.escape, literals)), re.IGNORECASE)
