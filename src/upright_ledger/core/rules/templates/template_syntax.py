"""Template rules: our small grammar of paths with captures, and what it matches.

    /journal/{year|digits}/{slug}.html     captures of one path segment, some narrowed
    /old-shop/{+rest}                      the rest of the path, slashes included
    /catalogue.php{?item}                  the value of a query parameter

Every match is unique: no two readings of one path give different captures. A capture that is
copied into the destination takes letters, digits and "._~-" alone, and is copied as it stands. One
that is not copied may be wide: it takes escapes and all other characters, too.
"""

from __future__ import annotations

import re
from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, replace
from functools import cached_property, lru_cache

from upright_ledger.core.url.destination import is_safe_destination
from upright_ledger.core.url.request_target import (
    canonical_path,
    lower_path,
    names_file,
    reject_reason,
)
from upright_ledger.core.word import Word


class CaptureKind(Word):
    """What a capture of a template takes."""

    SEGMENT = "segment"
    DIGITS = "digits"
    WORD = "word"
    LIST = "list"
    REST = "rest"


MOST_CAPTURES = 9
"""More than nine captures have no name in some servers."""

SAFE = "A-Za-z0-9._~-"
"""What a capture may be made of, as the inside of a character class."""

_CLASSES = {CaptureKind.DIGITS: "0-9", CaptureKind.WORD: "A-Za-z0-9"}
# all but "." and ".."
_NO_DOTS = rf"(?:[A-Za-z0-9_~-][{SAFE}]*|[.](?:[A-Za-z0-9_~-][{SAFE}]*|[.][{SAFE}]+))"
# The same with escapes and all that may stand in a segment; an escaped dot is a dot.
_ANY = "[^/%?]*(?:%[0-9A-Fa-f][0-9A-Fa-f][^/%?]*)*"
_MORE = f"(?:[^/%?]|%[0-9A-Fa-f][0-9A-Fa-f]){_ANY}"
_OTHER = "(?:[^./%?]|%(?:[013-9A-Fa-f][0-9A-Fa-f]|2[0-9A-DFa-df]))"
_DOT = "(?:[.]|%2[Ee])"
_NO_DOTS_WIDE = f"(?:{_OTHER}{_ANY}|{_DOT}(?:{_OTHER}{_ANY}|{_DOT}{_MORE}))"
_NAME = re.compile(r"[a-z][a-z0-9_]{0,30}\Z")
_VALUE = re.compile(rf"[{SAFE}]+\Z")
_HOLE = re.compile(r"\{([^{}]*)\}")
_PLAIN = frozenset("ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789_/~%-,;:@=!&'")


class TemplateError(ValueError):
    """The text is no template; the message says why, in a few words."""


@dataclass(frozen=True, slots=True)
class Capture:
    """A changing part. kind: one of SEGMENT, DIGITS, WORD, LIST, REST; values: of a LIST; wide: of
    a SEGMENT or REST, whether it takes escapes and other characters as well.
    """

    name: str
    kind: CaptureKind = CaptureKind.SEGMENT
    values: tuple[str, ...] = ()
    wide: bool = False

    def regex(self, *, fold: bool = False, spelled: bool = False) -> str:
        """What it matches, without a group around it; `fold`: list values in any letter case (see
        `Source.regex`).
        """
        if self.kind in _CLASSES:
            return f"[{_CLASSES[self.kind]}]+"
        if self.kind == CaptureKind.LIST:
            ordered = sorted(self.values, key=lambda v: (-len(v), v))
            mode = "(?i:" if fold and not spelled else "(?:"
            return mode + "|".join(escaped(v, fold=fold and spelled) for v in ordered) + ")"
        segment = _NO_DOTS_WIDE if self.wide else _NO_DOTS
        return f"(?:{segment}/)*{segment}/?" if self.kind == CaptureKind.REST else segment

    def may_hold(self, char: str) -> bool:
        """Whether a character can stand in it. Of a rest, which ends a path, nobody asks."""
        if self.kind == CaptureKind.LIST:
            return any(char.lower() in v.lower() for v in self.values)
        return re.fullmatch(f"[{_CLASSES.get(self.kind, SAFE)}]", char) is not None

    @property
    def text(self) -> str:
        if self.kind == CaptureKind.REST:
            return f"{{+{self.name}}}"
        narrow = (
            ",".join(self.values)
            if self.kind == CaptureKind.LIST
            else ""
            if self.kind == CaptureKind.SEGMENT
            else self.kind
        )
        return f"{{{self.name}{'|' if narrow else ''}{narrow}}}"


class _Escapes(dict[int, str]):
    """What stands for a character in a regular expression."""

    def __init__(self, *, fold: bool) -> None:
        self._fold = fold

    def __missing__(self, code: int) -> str:
        char = chr(code)
        if self._fold and char.isalpha() and char.isascii():
            text = f"[{char.upper()}{char.lower()}]"
        elif char in _PLAIN:
            text = char
        else:
            text = f"[{char}]" if char not in "\\^]" else f"\\{char}"
        self[code] = text
        return text


_ESCAPES = {fold: _Escapes(fold=fold) for fold in (False, True)}


def escaped(text: str, *, fold: bool = False) -> str:
    """A text as a regular expression that every engine reads alike; `fold`: its ASCII letters in
    either case.
    """
    return text.translate(_ESCAPES[fold])


@dataclass(frozen=True)
class Source:
    """A template as read. parts: literal texts (canonical spelling) and captures in turn; params:
    of the query.
    """

    parts: tuple[str | Capture, ...]
    params: tuple[Capture, ...] = ()

    @cached_property
    def captures(self) -> tuple[Capture, ...]:
        """Of the path, in order."""
        return tuple(p for p in self.parts if isinstance(p, Capture))

    @cached_property
    def path(self) -> str:
        """The path as it is written."""
        return "".join(p if isinstance(p, str) else p.text for p in self.parts)

    @cached_property
    def text(self) -> str:
        return self.path + "".join("{?" + p.text[1:] for p in self.params)

    @cached_property
    def head(self) -> str:
        """The literal text before the first capture; a path begins with a slash, so it is never
        empty.
        """
        return str(self.parts[0])

    @cached_property
    def literal(self) -> int:
        """How many characters of the path are literal: more make it more specific."""
        return sum(len(p) for p in self.parts if isinstance(p, str))

    def widened(self, copied: Collection[str]) -> Source:
        """The same with wide captures, as far as none of the path is copied from them: a rest that
        is not, and whole segments, or the one changing part of a segment, where nothing is.
        """
        nothing = not any(c.name in copied for c in self.captures)
        parts: list[str | Capture] = []
        for n, part in enumerate(self.parts):
            if isinstance(part, Capture):
                rest = part.kind == CaptureKind.REST
                alone = part.kind == CaptureKind.SEGMENT and self._is_alone(n)
                wide = (rest and part.name not in copied) or (alone and nothing)
                parts.append(replace(part, wide=wide))
            else:
                parts.append(part)
        return Source(tuple(parts), self.params)

    def _is_alone(self, n: int) -> bool:
        """Whether a capture is the only one of its segment."""
        before, after = self.parts[:n], self.parts[n + 1 :]
        return (len(before) < 2 or "/" in str(before[-1])) and (
            len(after) < 2 or "/" in str(after[0])
        )

    @cached_property
    def wide(self) -> bool:
        """Whether some capture takes more than what could be copied."""
        return any(c.wide for c in self.captures)

    @property
    def rank(self) -> tuple[int, str]:
        """Its place among others: the longest literal text first, ties by source text."""
        return -self.literal, self.path

    @cached_property
    def takes_slash(self) -> bool:
        """Whether it answers its path with a closing slash, too, as exact rules do."""
        last = self.parts[-1]
        if isinstance(last, Capture):
            return last.kind != CaptureKind.REST
        return last != "/" and not names_file("/x" + last.rpartition("/")[2])

    def regex(self, *, fold: bool, slash: str = "any", spelled: bool = False) -> str:
        """The whole path, each capture in a group. slash: "any", "bare" or "slashed" (see
        `TemplateRule`).

        spelled: letter case by classes, for engines whose own folding goes beyond ASCII; else by
        `(?i:…)`.
        """
        out = []
        for part in self.parts:
            if isinstance(part, Capture):
                out.append(f"({part.regex(fold=fold, spelled=spelled)})")
            elif fold and not spelled and any(c.isalpha() for c in part):
                out.append(f"(?i:{escaped(part)})")
            else:
                out.append(escaped(part, fold=fold))
        end = {"any": "/?" if self.takes_slash else "", "bare": "", "slashed": "/"}[slash]
        return "".join(out) + end


def read_source(text: str, *, fold: bool) -> Source:
    """Read a template's path and parameters, its literals in canonical spelling. Raises
    TemplateError.
    """
    return _read_source(text, fold)


@lru_cache(maxsize=1 << 14)
def _read_source(text: str, fold: bool) -> Source:
    path = text
    params: list[Capture] = []
    while match := re.search(r"\{\?([^{}]*)\}\Z", path):
        params.insert(0, _capture(match[1]))
        path = path[: match.start()]
    if not path.startswith("/"):
        raise TemplateError("its path does not begin with a slash")
    parts: list[str | Capture] = []
    for n, piece in enumerate(_HOLE.split(path)):
        if n % 2:
            parts.append(_capture(piece))
        elif piece:
            if re.search(r"[{}?#]", piece):
                raise TemplateError("a brace, ? or # stands alone in it")
            parts.append(piece)
    parts = _canonical(parts, fold)
    _check_parts(parts)
    names = [p.name for p in (*parts, *params) if isinstance(p, Capture)]
    if len(set(names)) < len(names):
        raise TemplateError("two captures have one name")
    if len(names) > MOST_CAPTURES:
        raise TemplateError(f"it has more than {MOST_CAPTURES} captures")
    if not names:
        raise TemplateError("it holds no capture such as {name}")
    if any(p.kind == CaptureKind.REST for p in params):
        raise TemplateError("a parameter cannot be a rest")
    return Source(tuple(parts), tuple(sorted(params, key=lambda c: c.name)))


def _capture(text: str) -> Capture:
    name, bar, narrow = text.partition("|")
    rest = name.startswith("+")
    name = name.removeprefix("+")
    if not _NAME.match(name):
        raise TemplateError(
            f"{name!r} is no name of a capture: lower-case letters, digits and _ are"
        )
    if rest:
        if bar:
            raise TemplateError("a rest cannot be narrowed")
        return Capture(name, CaptureKind.REST)
    if not bar:
        return Capture(name)
    if narrow in {CaptureKind.DIGITS, CaptureKind.WORD}:
        return Capture(name, CaptureKind(narrow))
    values = tuple(dict.fromkeys(narrow.split(",")))
    if any(not _VALUE.match(v) or v in {".", ".."} for v in values):
        raise TemplateError(f"{narrow!r} is neither digits nor word nor a list of plain values")
    return Capture(name, CaptureKind.LIST, tuple(sorted(values)))


def _canonical(parts: Sequence[str | Capture], fold: bool) -> list[str | Capture]:
    """The literals as servers see them; a closing slash is taken off, as with exact rules."""
    # Captures stand as one plain letter while the whole is brought into form, so that nothing
    # merges across them.
    mark = "\x01"
    whole = "".join(p if isinstance(p, str) else mark for p in parts)
    if "//" in whole or re.search(r"/\.{1,2}(?:/|\Z)", whole):
        raise TemplateError("its path holds a doubled slash or a dot segment")
    if whole != "/" and whole.endswith("/"):
        whole = whole[:-1]
    if reason := reject_reason(
        canonical_path(whole.replace(mark, "x")) if "%" not in whole else whole.replace(mark, "x")
    ):
        raise TemplateError(reason)
    texts = [canonical_path(f"/x{t}x")[2:-1] for t in whole.split(mark)]
    if fold:
        texts = [lower_path(f"/{t}")[1:] for t in texts]
    captures = [p for p in parts if isinstance(p, Capture)]
    out: list[str | Capture] = []
    for n, literal in enumerate(texts):
        if n:
            out.append(captures[n - 1])
        if literal:
            out.append(literal)
    return out


def _check_parts(parts: Sequence[str | Capture]) -> None:
    """Refuse what could be read in two ways."""
    for n, part in enumerate(parts):
        if not isinstance(part, Capture):
            continue
        following = parts[n + 1] if n + 1 < len(parts) else None
        if isinstance(following, Capture):
            raise TemplateError("two captures touch each other")
        if part.kind == CaptureKind.REST:
            if following is not None:
                raise TemplateError("a rest stands before the end")
            if n == 0 or not str(parts[n - 1]).endswith("/"):
                raise TemplateError("a rest begins within a segment")
            continue
        another = n + 2 < len(parts) and following is not None and "/" not in following
        if another and following is not None and part.may_hold(following[0]):
            raise TemplateError(
                f"{part.text} may itself hold the {following[0]!r} that follows it: narrow it"
            )


@dataclass(frozen=True)
class Goal:
    """A destination with captures put in. pieces: texts and names of captures in turn, beginning
    with a text.
    """

    pieces: tuple[str, ...]

    @property
    def head(self) -> str:
        """What stands before the first capture."""
        return self.pieces[0]

    @property
    def names(self) -> tuple[str, ...]:
        return self.pieces[1::2]

    @property
    def text(self) -> str:
        return "".join(f"{{{p}}}" if n % 2 else p for n, p in enumerate(self.pieces))

    def fill(self, values: Mapping[str, str]) -> str:
        return "".join([values[p] if n % 2 else p for n, p in enumerate(self.pieces)])


@lru_cache(maxsize=1 << 14)
def read_goal(text: str) -> Goal:
    """Read an absolute destination with captures, safe to be written. Raises TemplateError."""
    pieces = _HOLE.split(text)
    names = pieces[1::2]
    if any(not _NAME.match(n) for n in names):
        raise TemplateError("a destination takes captures by their bare names, as in {slug}")
    if len(set(names)) < len(names):
        raise TemplateError("a capture stands twice in the destination")
    if not re.match(r"https?://[^/]+/", pieces[0]):
        raise TemplateError("the destination's scheme and host are not literal")
    if not is_safe_destination("x".join(pieces)) or (
        "#" in "".join(pieces[:-1]) and len(pieces) > 1
    ):
        raise TemplateError("the destination holds characters that cannot be written safely")
    if re.search(
        r"/\.{0,2}/|/\.{1,2}\Z|//", "x".join(pieces).partition("://")[2].partition("?")[0]
    ):
        raise TemplateError("the destination's path holds an empty or dot segment")
    return Goal(tuple(pieces))
