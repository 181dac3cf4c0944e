"""The address that a cell tells, among what people, spreadsheets and text processors write around
it.
"""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Sequence
from operator import itemgetter

from upright_ledger.formats.tables.cells import begins_a_sum, looks_like_address

_LINK = re.compile(r'=\w+\(\s*"([^"]+)"\s*(?:[;,].*)?\)\s*\Z', re.DOTALL)
_OPEN_LINKS, _CLOSE_LINKS = frozenset("=[<\\`"), frozenset("])")
_MARKED = re.compile(
    r"\[[^\[\]]*\]"
    r"\(\s*<?(?P<of_markdown>[^\s<>()]+(?:\([^\s()]*\))?)>?(?:\s+[\"'].*[\"'])?\s*\)|"
    r"\[\[(?P<of_wiki>[^\[\]|]+)(?:\|[^\[\]]*)?\]\]|"
    r"\[(?P<in_brackets>https?://[^\s\[\]|]+)(?:\s[^\[\]]*)?\]|"
    r"\[[^\[\]|]*\|(?P<behind_words>[^\[\]|]+)\]|"
    r"(?P<before_words>https?://[^\s\[\]?]+)\[[^\[\]]*\]|"
    r"\\(?:url|href)\{(?P<of_latex>[^{}]*)\}(?:\{[^{}]*\})?|"
    r"url\(\s*[\"']?(?P<of_style>[^\s\"'()]+)[\"']?\s*\)|"
    r"<a\s[^<>]*?href\s*=\s*[\"'](?P<of_html>[^\"'<>]+)[\"'][^<>]*>[^<>]*</a>|"
    r"`[^`<>]*<(?P<of_rst>[^`<>\s]+)>`_{0,2}",
    re.IGNORECASE,
)
"""A link as Markdown, wikis, AsciiDoc, LaTeX, style sheets, HTML and reStructuredText write it."""
_ASKED = re.compile(
    r"(?:GET|HEAD|POST|PUT|PATCH|DELETE|OPTIONS)\s+(?:(?P<line>(?:https?:/)?/.*?)\s+HTTP/[\d.]+|"
    r"(?P<target>(?:https?:/)?/\S*))",
    re.IGNORECASE,
)
_WORDS_AND = re.compile(
    r"[^/?#&=%\s][^/?#&=%]*(?:\((?P<inner>https?://[^\s()]+)\)|\s(?P<told>https?://\S+))",
    re.IGNORECASE,
)
"""What holds signs of an address is no word before one."""
_AND_REMARK = re.compile(
    r"(?P<arrow>\S++(?: \S++)*?)\s+(?:[-=\u2013]+>|[\u2192\u21d2\u00bb\u203a])(?:\s.*)?|"
    r"(?P<aside>https?://\S+)\s+"
    r"\((?:[1-5]\d\d|(?=[^)]{0,80}[^\W\d])[^()/?#&=%]{1,80} [^()/?#&=%]{1,80})\)",
    re.IGNORECASE,
)
"""Behind an arrow stands what became of it. In round brackets, several words or a status do not
end the name of a file.
"""
_REMARK = re.compile(r" (?:[(\[{<|*#\u2013\u2014]|- )(?!.*\.\w{2,5}\Z)")
_FURTHER = re.compile(r"(?:\s|\A)https?://", re.IGNORECASE)
_JOINED = re.compile(r"(?<!=)https?://[^\s?]+[,;|]https?://", re.IGNORECASE)
_OPEN_END = re.compile(r"[/?&=_-]\Z")
_GOES_ON = re.compile(r"(?![(\[]|\d+\Z)\S+\Z")
_ODD = re.compile(r"[\s,;|\])`]|\A[=<\[\\]")
"""Without any of these nothing stands around an address, and no second one beside it."""
_FEWEST = 3
"""Cells that end alike before their end is taken for a remark."""


def linked_address(cell: str) -> str:
    """The address in a cell that is a spreadsheet's formula for a link, =HYPERLINK("…";"…") in
    whatever language, or a link as pages, wikis and text processors write it; other cells as they
    are.
    """
    if cell[:1] not in _OPEN_LINKS and cell[-1:] not in _CLOSE_LINKS:
        return cell
    match = _LINK.match(cell) or _MARKED.fullmatch(cell)
    address = match[match.lastgroup or 1].strip() if match else ""
    return address if match and (match.re is _LINK or looks_like_address(address)) else cell


def told_address(cell: str, remark: str = "", *, alone: bool = False) -> str:
    """The address in a cell of addresses (trimmed), as in "• http://…", "GET /page HTTP/1.1" and
    "http://… → 404"; other cells, and those that name a sum, as they are.

    remark: with which cells of this column end; see `common_remark`. alone: nothing else stands in
    the row, so that words around an address may be a note.
    """
    if _ODD.search(cell) is None:
        return cell
    if "\n" in cell:
        cell = _of_one_line(cell)
    if remark:
        cell = cell.removesuffix(remark)
    if (linked := linked_address(cell)) != cell or " " not in cell or alone:
        return linked
    return _without_words(cell)


def names_address(cell: str) -> bool:
    """Whether a cell holds an address, whatever is written around it."""
    return looks_like_address(told_address(cell.strip()))


def holds_several(cell: str) -> bool:
    """Whether several whole addresses stand in a cell, with blanks, commas or line breaks between
    them.
    """
    if cell.count("://") < 2:
        return False
    return len(_FURTHER.findall(cell)) > 1 or _JOINED.match(cell) is not None


def fault_of(cell: str) -> str:
    """Why it cannot be told which address a cell of addresses means, or an empty text."""
    if _ODD.search(cell) is None:
        return ""
    if holds_several(cell):
        return "its URL cell holds several addresses"
    if "\n" in cell and is_torn(cell):
        return "a line break in its URL cell: whether the address goes on behind it is not known"
    return ""


def is_torn(cell: str) -> bool:
    """Whether a line break stands in a cell where an address may go on behind it, or end."""
    lines = cell.splitlines()
    return len(lines) > 1 and looks_like_address(lines[0]) and _goes_on(lines)


def common_remark(cells: Sequence[str]) -> str:
    """What stands, after a blank, behind most of several addresses; or an empty text."""
    parts = [cell.partition(" ") for cell in {*cells}]
    told = [blank + end for address, blank, end in parts if looks_like_address(address)]
    ends = Counter(told)
    end, often = max(ends.items(), key=itemgetter(1), default=("", 0))
    return end if often >= _FEWEST and often * 2 > len(told) and _REMARK.match(end) else ""


def _without_words(cell: str) -> str:
    """An address without the method, the words or the remark around it."""
    if asked := _ASKED.fullmatch(cell):
        return asked[asked.lastgroup or 0]
    if begins_a_sum(cell):
        return cell
    found = _WORDS_AND.fullmatch(cell) or _AND_REMARK.fullmatch(cell)
    address = found[found.lastgroup or 0] if found else cell
    return address if looks_like_address(address) and not holds_several(cell) else cell


def _of_one_line(cell: str) -> str:
    """Of a cell of several lines the one that is an address, where one alone is; one that was
    broken where it can only go on, whole again.
    """
    lines = [line.strip() for line in cell.splitlines()]
    found = [line for line in lines if looks_like_address(line)]
    if len(found) != 1:
        return cell
    if found[0] != lines[0] or not _goes_on(lines):
        return found[0]
    return "".join(lines) if all(map(_OPEN_END.search, lines[:-1])) else cell


def _goes_on(lines: Sequence[str]) -> bool:
    """Whether all further lines may be parts of the address that the first one begins."""
    return all(map(_GOES_ON.match, lines[1:]))
