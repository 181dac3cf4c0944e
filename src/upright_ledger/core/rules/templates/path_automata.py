"""Patterns: the paths that a template, an exact path or a destination can be, and whether two of
them can be the same.

A pattern is a small automaton over ASCII: state n has arrows (characters as a bit mask, next
state). Two patterns share a path where a walk through both at once ends in both; the walk found
first is a shortest such path.
"""

from __future__ import annotations

from collections import deque
from collections.abc import Sequence
from dataclasses import dataclass, field
from functools import lru_cache

from upright_ledger.core.rules.templates.template_syntax import Capture, CaptureKind, Source

Mask = int

_DIGIT = "0123456789"
_LETTER = "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ"
_PREFERRED = _LETTER[:26] + _DIGIT + _LETTER[26:] + "-_~./"
OTHER_LETTERS = ("q7" + _PREFERRED, "7q" + _PREFERRED, "_z" + _PREFERRED)
"""Other preferences: what one address cannot show, since an earlier rule takes it, another one
may.
"""


def mask_of(characters: str) -> Mask:
    """Characters as bits."""
    mask = 0
    for c in characters:
        mask |= 1 << ord(c)
    return mask


_DOT = mask_of(".")
_SLASH = mask_of("/")
_WORD = mask_of(_LETTER + _DIGIT)
_PLAIN = mask_of(_LETTER + _DIGIT + "_~-")
_SAFE = _PLAIN | _DOT
_HEX = mask_of("0123456789abcdefABCDEF")
# What may stand in a segment besides escapes (see `reject_reason`).
_VISIBLE = mask_of("".join(chr(n) for n in range(33, 127) if chr(n) not in "/%?#\\"))


@dataclass(slots=True)
class Pattern:
    """An automaton. arrows: of each state, in turn; ends: states in which a path may stop. State 0
    is the beginning.
    """

    arrows: list[list[tuple[Mask, int]]] = field(default_factory=lambda: [[]])
    ends: set[int] = field(default_factory=set)

    def state(self) -> int:
        self.arrows.append([])
        return len(self.arrows) - 1

    def accepts(self, text: str) -> bool:
        """Whether a path fits."""
        here = {0}
        for char in text:
            bit = 1 << ord(char) if ord(char) < 128 else 0
            here = {to for at in here for mask, to in self.arrows[at] if mask & bit}
        return bool(here & self.ends)


Part = str | Capture


def pattern_of(parts: Sequence[Part], *, fold: bool, slash: str = "none") -> Pattern:
    """The pattern of literal texts and captures in turn. slash: "any" allows one more slash at the
    end, "slashed" asks for it.
    """
    pattern = Pattern()
    here = {0}
    for part in parts:
        here = (
            _literal(pattern, here, part, fold)
            if isinstance(part, str)
            else _capture(pattern, here, part, fold)
        )
    if slash in {"any", "slashed"}:
        closed = _step(pattern, here, _SLASH)
        here = {closed} if slash == "slashed" else here | {closed}
    pattern.ends = here
    return pattern


@lru_cache(maxsize=1 << 14)
def source_pattern(source: Source, fold: bool, slash: str) -> Pattern:
    """What a template's source answers."""
    wanted = (
        ("any" if source.takes_slash else "none")
        if slash == "any"
        else {"bare": "none"}.get(slash, slash)
    )
    return pattern_of(source.parts, fold=fold, slash=wanted)


def _step(pattern: Pattern, here: set[int], mask: Mask, to: int | None = None) -> int:
    target = pattern.state() if to is None else to
    for at in here:
        pattern.arrows[at].append((mask, target))
    return target


def _letter(char: str, fold: bool) -> Mask:
    return mask_of(char.lower() + char.upper()) if fold and char.isascii() else mask_of(char)


def _literal(pattern: Pattern, here: set[int], text: str, fold: bool) -> set[int]:
    for char in text:
        here = {_step(pattern, here, _letter(char, fold))}
    return here


def _capture(pattern: Pattern, here: set[int], capture: Capture, fold: bool) -> set[int]:
    if capture.kind in {CaptureKind.DIGITS, CaptureKind.WORD}:
        mask = mask_of(_DIGIT) if capture.kind == CaptureKind.DIGITS else _WORD
        inside = _step(pattern, here, mask)
        pattern.arrows[inside].append((mask, inside))
        return {inside}
    if capture.kind == CaptureKind.LIST:
        return set().union(*(_literal(pattern, here, v, fold) for v in capture.values))
    segment = _wide_segment if capture.wide else _segment
    ends = segment(pattern, here)
    if capture.kind == CaptureKind.REST:
        slash = _step(pattern, ends, _SLASH)
        again = segment(pattern, {slash})
        _step(pattern, again, _SLASH, slash)
        return ends | again | {slash}
    return ends


def _segment(pattern: Pattern, here: set[int]) -> set[int]:
    """One segment of safe characters that is neither "." nor ".."."""
    good = _step(pattern, here, _PLAIN)
    pattern.arrows[good].append((_SAFE, good))
    dot = _step(pattern, here, _DOT)
    pattern.arrows[dot].append((_PLAIN, good))
    two = _step(pattern, {dot}, _DOT)
    pattern.arrows[two].append((_SAFE, good))
    return {good}


def _wide_segment(pattern: Pattern, here: set[int]) -> set[int]:
    """One segment of visible characters and escapes that is neither "." nor "..", however its dots
    are written.
    """
    good = _step(pattern, here, _VISIBLE & ~_DOT)
    pattern.arrows[good].append((_VISIBLE, good))
    _escape(pattern, {good}, good)
    dot = _step(pattern, here, _DOT)
    two = _step(pattern, {dot}, _DOT)
    pattern.arrows[dot].append((_VISIBLE & ~_DOT, good))
    pattern.arrows[two].append((_VISIBLE, good))
    _escape(pattern, {two}, good)
    for start, of_dot in ((here, dot), ({dot}, two)):
        # An escape here may be one of a dot, which counts as one.
        percent = _step(pattern, start, mask_of("%"))
        second = _step(pattern, {percent}, mask_of("2"))
        other = _step(pattern, {percent}, _HEX & ~mask_of("2"))
        pattern.arrows[second].append((mask_of("eE"), of_dot))
        pattern.arrows[second].append((_HEX & ~mask_of("eE"), good))
        pattern.arrows[other].append((_HEX, good))
    return {good}


def _escape(pattern: Pattern, here: set[int], to: int) -> None:
    percent = _step(pattern, here, mask_of("%"))
    first = _step(pattern, {percent}, _HEX)
    pattern.arrows[first].append((_HEX, to))


def may_begin_alike(one: str, other: str) -> bool:
    """Whether paths with these literal beginnings can be the same, whatever their letter case:
    asked before `common_path`.
    """
    first, second = one.lower(), other.lower()
    return first.startswith(second) or second.startswith(first)


def common_path(one: Pattern, other: Pattern, letters: str = _PREFERRED) -> str | None:
    """A shortest path that fits both, made of plain letters where it can be; None where there is
    none. letters: those taken first.
    """
    start = (0, 0)
    before: dict[tuple[int, int], tuple[tuple[int, int], Mask]] = {}
    queue = deque([start])
    seen = {start}
    while queue:
        at = queue.popleft()
        if at[0] in one.ends and at[1] in other.ends:
            return _spelled(before, at, letters)
        for mask, to in one.arrows[at[0]]:
            for mask2, to2 in other.arrows[at[1]]:
                both = mask & mask2
                if both and (to, to2) not in seen:
                    seen.add((to, to2))
                    before[to, to2] = (at, both)
                    queue.append((to, to2))
    return None


def common_paths(one: Pattern, other: Pattern, *, fold: bool, most: int) -> list[str] | None:
    """All paths that fit both, or None where they are more than `most` or without end. fold: a
    letter in both cases counts once.
    """
    arrows: dict[tuple[int, int], list[tuple[Mask, tuple[int, int]]]] = {}
    into: dict[tuple[int, int], list[tuple[int, int]]] = {}
    queue = deque([(0, 0)])
    while queue:
        at = queue.popleft()
        if at in arrows:
            continue
        steps = (
            (m & m2, (to, to2)) for m, to in one.arrows[at[0]] for m2, to2 in other.arrows[at[1]]
        )
        arrows[at] = [(both, to) for both, to in steps if both]
        for _, to in arrows[at]:
            into.setdefault(to, []).append(at)
            queue.append(to)
    live: set[tuple[int, int]] = set()
    queue.extend(at for at in arrows if at[0] in one.ends and at[1] in other.ends)
    while queue:
        at = queue.popleft()
        if at not in live:
            live.add(at)
            queue.extend(into.get(at, ()))
    found: set[str] = set()
    waiting = [((0, 0), "", 0)]
    while waiting:
        at, text, length = waiting.pop()
        if at not in live:
            continue
        if length > len(live) or len(found) + len(waiting) > 4 * most:
            return None  # longer than there are states: it goes in circles
        if at[0] in one.ends and at[1] in other.ends:
            found.add(text)
        for mask, to in arrows[at]:
            waiting += [(to, text + c, length + 1) for c in _letters(mask, fold=fold)]
    return sorted(found) if len(found) <= most else None


def _letters(mask: Mask, *, fold: bool) -> list[str]:
    letters = [chr(n) for n in range(128) if mask >> n & 1]
    return [c for c in letters if not (fold and c.isupper() and c.lower() in letters)]


def _spelled(
    before: dict[tuple[int, int], tuple[tuple[int, int], Mask]], at: tuple[int, int], letters: str
) -> str:
    out = []
    while at in before:
        at, mask = before[at]
        out.append(next((c for c in letters if mask >> ord(c) & 1), chr(mask.bit_length() - 1)))
    return "".join(reversed(out))


def image_parts(pieces: Sequence[str], captures: Sequence[Capture]) -> list[Part]:
    """The parts of a destination's path: texts, and the captures that are put in. pieces: texts and
    names in turn.
    """
    named = {c.name: c for c in captures}
    parts: list[Part] = []
    for n, piece in enumerate(pieces):
        if n % 2:
            parts.append(named[piece])
        elif piece:
            parts.append(piece)
    return parts
