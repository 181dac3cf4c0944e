"""Texts with URLs: one a line, or amid other words."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Mapping, Sequence
from itertools import chain, islice
from pathlib import Path

from upright_ledger.core.inventory.evidence import Figure
from upright_ledger.core.inventory.noise import AsideClass
from upright_ledger.core.inventory.units import LISTED
from upright_ledger.core.url.repair import is_sound, mend
from upright_ledger.formats.files.text import MAX_LINE, open_text, text_lines
from upright_ledger.formats.lists.file_list import paths_of_files
from upright_ledger.formats.records import (
    BLOCK,
    FEW,
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
    r"^(?:h\S?\S?ps?\s?:?\s?/|/|\?|[A-Za-z0-9-]+(?:\.[A-Za-z0-9-]+)+(?:[:/?#]|$))", re.IGNORECASE
)
_AMID = re.compile(
    r"(?:https?:(?:\\?/){1,2}|www\.[a-z0-9.-]{1,250}(?::\d{1,5})?/)"
    r"(?:[^\s<>\"\u201c\u201d`{}|^\\]|\\/)+",
    re.IGNORECASE,
)
_LABEL = re.compile(r"(?<=[^=&?\[])\[[^\[\]]*\Z|(?<=[\w/])\[[^\[\]=]+\]\Z")
"""What markup writes behind an address: its words, of which the first one, or the only one, is
taken for a part of it.
"""
_CLOSED = re.compile(r"\A([^\[\]]*(?:\[[^\[\]]*\][^\[\]]*)*)\].*")
"""A bracket that ends what began before the address, as in [url=…]words[/url]."""
_FRAMED = re.compile(r"<[^<>\s]*>\s*\S")
"""An address between brackets, and something behind it."""
_SENTENCE = re.compile(r"[.,;:!?)] ")
# What stands behind an address and is no part of it, as the second word of a name may be: another
# address, a figure or a status, what is far off, an arrow.
_MORE = re.compile(r"[^\S\n]{2}|\t| (?:https?://|/|\d+(?: |\Z)|\(\d[\d.,]*\)\Z|[-=]+>|[|\u2192])")
_WORDS_BEHIND = re.compile(r"https?://\S+(?: \S+)* [^\s/.=&?%]+ [^\s/.=&?%]+\Z", re.IGNORECASE)
"""An address and words that go on as no address does."""
_NAMED = re.compile(
    r"(?:(?<![\w\"'-])[\"']?(?:url|uri|path|href|link|loc|permalink|page|from|source|src|old|"
    r"origin|route|alias)[\"']?\s*[:=]\s*|^\s*[-*+]\s+)"
    r"(?:[\"'](/[^\"'\s]*)[\"']|(/[^\s,;\"'}\]]*)(?=\s*(?:[,;}\]#]|$)))",
    re.IGNORECASE,
)
"""A path where settings and scripts name one, or that is an item of a list."""
_LISTED_TOGETHER = re.compile(
    r"(?<![\w\"'-])[\"']?(?:urls?|uris?|paths?|links?|pages?|routes?|alias(?:es)?|"
    r"(?:redirect_?)?from|sources?|old_?(?:urls?|paths?))[\"']?\s*[:=]\s*\[([^\[\]]*)\]",
    re.IGNORECASE,
)
"""Where they name several in one line."""
_ONE_OF_SEVERAL = re.compile(r"(?:\A|,)\s*(?:[\"'](/[^\"'\s]*)[\"']|(/[^\s,;\"']*))\s*(?=,|\Z)")
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
        whole: Iterator[tuple[int, str]] = chain(first, lines)
        outside: list[Reject] = []
        as_path = paths_of_files(path, filled, options.around.document_root)
        if as_path is not None:
            whole = _of_files(whole, as_path, outside)
        is_list = as_path is not None or sum(map(_is_bare, filled)) * 2 >= len(filled)
        while block := list(islice(whole, BLOCK)):
            yield from _of_block(block, pattern, is_list=is_list)
        yield from outside


def _of_files(
    lines: Iterator[tuple[int, str]], as_path: Callable[[str], str], outside: list[Reject]
) -> Iterator[tuple[int, str]]:
    """The files of a list as paths. outside: gets those that are no part of the site."""
    for number, line in lines:
        text = line.strip()
        found = as_path(text) if text else ""
        if text and not found:
            outside.append(Reject(number, "its file does not lie below the site's root", text))
        else:
            yield number, found


def _of_block(
    block: Sequence[tuple[int, str]], pattern: re.Pattern[str], *, is_list: bool
) -> Iterator[Item | RecordBlock]:
    """What lines say: whole ones together, as far as they go."""
    texts = [line.strip() for _, line in block]
    said: dict[int, Item] = {}
    start = 0
    for row in _doubtful(block, texts):
        item = _whole_line(*block[row])
        if item is not None:
            said[row] = item
            continue
        if row > start:
            yield _together(block[start:row], texts[start:row], said, start)
        yield from _amid(*block[row], pattern, is_list=is_list)
        start = row + 1
    if start < len(block):
        yield _together(block[start:], texts[start:], said, start)


def _doubtful(block: Sequence[tuple[int, str]], texts: Sequence[str]) -> list[int]:
    """The rows in which an address may be damaged, or something else stands."""
    if len(texts) <= FEW:
        return [n for n, text in enumerate(texts) if not _is_sound(block[n][1], text)]
    from upright_ledger.core.inventory.placing.text_columns import are_sound

    sound = are_sound(texts)
    return [n for n, (_, line) in enumerate(block) if not sound[n] or len(line) > MAX_LINE]


def _together(
    block: Sequence[tuple[int, str]], texts: Sequence[str], said: Mapping[int, Item], start: int
) -> RecordBlock:
    """Lines as columns: no more is told than addresses. said: by their rows from `start` on, what
    those say that are no sound address.
    """
    odd = {row - start: item for row, item in said.items() if row >= start}
    urls = list(texts)
    for row, item in odd.items():
        urls[row] = item.url if isinstance(item, Record) and not item.mends else ""

    def item_at(row: int) -> Item:
        return odd.get(row) or Record(block[row][0], texts[row], figures=_LISTED)

    nothing = [""] * len(urls)
    numbers = [number for number, _ in block]
    return RecordBlock(item_at, numbers, urls, {}, [0] * len(urls), *[nothing] * 6)


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
    if _is_sound(line, text):
        return Record(number, text, figures=_LISTED)
    if not text or text.startswith(("#", "// ")) or (number == 1 and is_header_word(text)):
        return Aside(number, AsideClass.BLANK, line[:500])
    if len(line) > MAX_LINE:
        return Reject(number, f"longer than {MAX_LINE:,} characters", line[:500])
    if _is_bare(text):
        url = mend(line)
        return _record(number, 1, url.text, url.mends, url.day)
    return None


def _is_sound(line: str, text: str) -> bool:
    return is_sound(text) and len(line) <= MAX_LINE


def _is_bare(text: str) -> bool:
    """Whether a whole line is one address, though perhaps a damaged one with blanks inside."""
    if " " in text and (
        not text.lower().startswith(("http", "/", "<http"))
        or _SENTENCE.search(text)
        or _MORE.search(text)
        or _WORDS_BEHIND.match(text)
    ):
        return False
    if (text.startswith("\\") and "{" in text) or "](" in text or _FRAMED.match(text):
        return False  # a command of a text processor, a link, or a statement about an address
    return _URL_START.match(mend(text).text) is not None and len(_AMID.findall(text)) < 2


def _amid_words(hosts: frozenset[str]) -> re.Pattern[str]:
    """What a URL among words looks like: with a scheme or www, or on one of the old hosts."""
    if not hosts:
        return _AMID
    named = "|".join(re.escape(h) for h in sorted(hosts, key=len, reverse=True))
    return re.compile(rf"{_AMID.pattern}|(?<![\w.@/-])(?:{named})/[^\s<>\"`{{}}|^]*", re.IGNORECASE)


def _amid(number: int, line: str, pattern: re.Pattern[str], *, is_list: bool) -> Iterator[Item]:
    """The URLs among the words of a line. The line counts once, with the first of them."""
    found = [text for told in pattern.findall(line) if (text := _meant(told, line))] or [
        text for match in _paths_named(line) if not _PATTERN.search(text := match[1] or match[2])
    ]
    if not found and is_list:
        yield Reject(number, "no URL or path is on this line", line[:2000])
    elif not found:
        yield Aside(number, AsideClass.PROSE)
    for n, text in enumerate(found):
        bare = _LABEL.sub("", _CLOSED.sub(r"\1", text))
        url = mend(bare.replace("\\/", "/"))  # as scripts and JSON write them
        yield _record(number, int(n == 0), url.text, url.mends, url.day)


def _paths_named(line: str) -> Iterator[re.Match[str]]:
    """The paths of a line that settings and scripts name so."""
    several = _LISTED_TOGETHER.finditer(line)
    together = [path for told in several for path in _ONE_OF_SEVERAL.finditer(told[1])]
    yield from together or _NAMED.finditer(line)


def _meant(text: str, line: str) -> str:
    """An address without the marks of an expression around it; empty where that means many."""
    if f"^{text}" not in line:
        return text
    return "" if _PATTERN.search(text) else text.removesuffix("$")


def _record(number: int, lines: int, text: str, mends: tuple[str, ...], day: str) -> Record:
    return Record(number, text, lines, figures=_LISTED, mends=mends, day=day)
