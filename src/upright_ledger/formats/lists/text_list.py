"""Texts with URLs: one a line, or amid other words."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from itertools import chain, islice
from pathlib import Path

from upright_ledger.core.inventory.evidence import Figure
from upright_ledger.core.inventory.noise import AsideClass
from upright_ledger.core.inventory.units import LISTED
from upright_ledger.core.url.repair import is_sound, mend
from upright_ledger.formats.files.text import MAX_LINE, open_text, text_lines
from upright_ledger.formats.records import (
    BLOCK,
    Aside,
    Item,
    Reading,
    ReadOptions,
    Record,
    RecordBlock,
    Reject,
)
from upright_ledger.formats.tables.column_names import is_header_word

_URL_START = re.compile(
    r"^(?:h\S?\S?ps?:?/|/|\?|[A-Za-z0-9-]+(?:\.[A-Za-z0-9-]+)+(?:[:/?#]|$))", re.IGNORECASE
)
_AMID = re.compile(
    r"(?:https?:(?:\\?/){1,2}|www\.[a-z0-9.-]{1,250}(?::\d{1,5})?/)"
    r"(?:[^\s<>\"\u201c\u201d`{}|^\\]|\\/)+",
    re.IGNORECASE,
)
_SENTENCE = re.compile(r"[.,;:!?)] ")
# What stands behind an address and is no part of it, as the second word of a name may be: another
# address, a figure or a status, what is far off, an arrow.
_MORE = re.compile(r"[^\S\n]{2}|\t| (?:https?://|/|\d+(?: |\Z)|[-=]+>|[|\u2192])")
_WORDS_BEHIND = re.compile(r"https?://\S+(?: \S+)* [^\s/.=&?%]+ [^\s/.=&?%]+\Z", re.IGNORECASE)
"""An address and words that go on as no address does."""
_NAMED = re.compile(
    r"(?:(?<![\w\"'-])[\"']?(?:url|uri|path|href|link|loc|permalink|page|from|source|src|old|"
    r"origin|route|alias)[\"']?\s*[:=]\s*|^\s*[-*+]\s+)"
    r"(?:[\"'](/[^\"'\s]*)[\"']|(/[^\s,;\"'}\]]*)(?=\s*(?:[,;}\]#]|$)))",
    re.IGNORECASE,
)
"""A path where settings and scripts name one, or that is an item of a list."""
_PATTERN = re.compile(r"[*(){}\[\]|^\\]|/:[A-Za-z]")
"""What stands in a path that means many."""
_SAMPLE = 200
_LISTED = (Figure(LISTED, 1.0),)


def read_text_list(path: Path, options: ReadOptions) -> Reading:
    """A text: every line is a URL, or URLs are picked from among its words."""
    return Reading(_items(path, options))


def _items(path: Path, options: ReadOptions) -> Iterator[Item | RecordBlock]:
    with open_text(path, options.encoding) as file:
        lines = _unfolded(text_lines(file))
        first = list(islice(lines, _SAMPLE))
        filled = [line.strip() for _, line in first if line.strip() and not line.startswith("#")]
        pattern = _amid_words(options.hosts)
        is_list = sum(map(_is_bare, filled)) * 2 >= len(filled)
        rows: list[Item] = []
        for number, line in chain(first, lines):
            if (item := _whole_line(number, line)) is not None:
                rows.append(item)
            if rows and (item is None or len(rows) == BLOCK):
                yield _block(rows)
                rows = []
            if item is None:
                yield from _amid(number, line, pattern, is_list=is_list)
        if rows:
            yield _block(rows)


def _unfolded(lines: Iterator[tuple[int, str]]) -> Iterator[tuple[int, str]]:
    """Lines, those of a calendar or a card whole again that were folded (RFC 5545, section 3.1)."""
    held = next(lines, None)
    if held is None or not held[1].startswith("BEGIN:V"):
        yield from (held, *lines) if held is not None else lines
        return
    for number, line in lines:
        if line[:1] in {" ", "\t"} and len(held[1]) < MAX_LINE:
            held = (held[0], held[1].rstrip("\r\n") + line[1:])
        else:
            yield held
            held = (number, line)
    yield held


def _whole_line(number: int, line: str) -> Item | None:
    """What a line says; None where addresses may stand among its words."""
    text = line.strip()
    if is_sound(text) and len(line) <= MAX_LINE:
        return Record(number, text, figures=_LISTED)
    if not text or text.startswith(("#", "// ")) or (number == 1 and is_header_word(text)):
        return Aside(number, AsideClass.BLANK, line[:500])
    if len(line) > MAX_LINE:
        return Reject(number, f"longer than {MAX_LINE:,} characters", line[:500])
    if _is_bare(text):
        url = mend(line)
        return _record(number, 1, url.text, url.mends, url.day)
    return None


def _block(rows: Sequence[Item]) -> RecordBlock:
    """Lines as columns: no more is told than addresses."""
    nothing = [""] * len(rows)
    return RecordBlock(
        rows.__getitem__,
        [row.line for row in rows],
        [row.url if isinstance(row, Record) and not row.mends else "" for row in rows],
        {},
        [0] * len(rows),
        *[nothing] * 6,
    )


def _is_bare(text: str) -> bool:
    """Whether a whole line is one address, though perhaps a damaged one with blanks inside."""
    if " " in text and (
        not text.lower().startswith(("http", "/", "<http"))
        or _SENTENCE.search(text)
        or _MORE.search(text)
        or _WORDS_BEHIND.match(text)
    ):
        return False
    if text.startswith("\\") and "{" in text:
        return False  # a command of a text processor
    return _URL_START.match(mend(text).text) is not None and len(_AMID.findall(text)) < 2


def _amid_words(hosts: frozenset[str]) -> re.Pattern[str]:
    """What a URL among words looks like: with a scheme or www, or on one of the old hosts."""
    if not hosts:
        return _AMID
    named = "|".join(re.escape(h) for h in sorted(hosts, key=len, reverse=True))
    return re.compile(rf"{_AMID.pattern}|(?<![\w.@/-])(?:{named})/[^\s<>\"`{{}}|^]*", re.IGNORECASE)


def _amid(number: int, line: str, pattern: re.Pattern[str], *, is_list: bool) -> Iterator[Item]:
    """The URLs among the words of a line. The line counts once, with the first of them."""
    found = pattern.findall(line) or [
        text for match in _NAMED.finditer(line) if not _PATTERN.search(text := match[1] or match[2])
    ]
    if not found and is_list:
        yield Reject(number, "no URL or path is on this line", line[:2000])
    elif not found:
        yield Aside(number, AsideClass.PROSE)
    for n, text in enumerate(found):
        url = mend(text.replace("\\/", "/"))  # as scripts and JSON write them
        yield _record(number, int(n == 0), url.text, url.mends, url.day)


def _record(number: int, lines: int, text: str, mends: tuple[str, ...], day: str) -> Record:
    return Record(number, text, lines, figures=_LISTED, mends=mends, day=day)
