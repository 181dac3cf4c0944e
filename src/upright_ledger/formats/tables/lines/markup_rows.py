"""Tables of wikis and of text processors as rows: MediaWiki, Jira, DokuWiki, AsciiDoc,
reStructuredText's lists, LaTeX.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Iterator, Sequence
from typing import NamedTuple

from upright_ledger.formats.tables.cells import Row, tells_address
from upright_ledger.formats.tables.meanings.address_cells import linked_address

_CELL = r"((?:\[[^\[\]\n]*\]|\\.|[^{0}\\\[]|[\\\[])*+)(?:[{0}]+|\Z)"
_BETWEEN_BARS, _BETWEEN_ROOFS = (re.compile(_CELL.replace("{0}", s)) for s in ("|", "|^"))
"""A cell up to what parts it from the next, and no link has between its words and its address."""
_DOUBLED = re.compile(r"!!|\|\|")
_ATTRIBUTES = re.compile(r"\A(?:\s*+[\w-]++\s*+=\s*+(?:\"[^\"]*+\"|[\w%-]++))++\s*+\|(?!\|)")
_ASCIIDOC_CELL = re.compile(r"(?:^|(?<=\s))(?:\d[\d.+*]*)?[<^>.]*[aehlmsd]?\|")
_ASCIIDOC_LINK = re.compile(r"\A\s*(https?://[^\s\[\]]+)\[[^\[\]]*\]\s*\Z")
_OF_ITEM = re.compile(r"\s*+(\*)?\s*+- ?(.*)")
_RULES = re.compile(
    r"\\(?:hline|toprule|midrule|bottomrule|end(?:first|last)?(?:head|foot)|cline\{[^}]*\}|"
    r"cmidrule(?:\([^)]*\))?\{[^}]*\})"
)
_ESCAPED = re.compile(r"\\([&%$#_{}])")
_COMMAND = re.compile(r"\\text(?:bf|it|tt|sf)\{([^{}]*)\}")
_LONGEST = 1 << 16  # characters of a row

Rows = Callable[[Iterable[tuple[int, str]]], Iterator[Row]]


class _Markup(NamedTuple):
    """How tables are written: what some lines are then, and what reads them."""

    tell: Sequence[re.Pattern[str]]
    rows: Rows


def markup_rows_of(lines: Sequence[str]) -> Rows | None:
    """What reads the tables of a text that begins with these lines; None where it has none of a
    wiki or a text processor. Lines outside of tables are rows of one cell.
    """
    for markup in _MARKUPS:
        if all(any(map(sign.match, lines)) for sign in markup.tell):
            return markup.rows
    return None


def are_markup_rows(lines: Sequence[str]) -> bool:
    """Whether lines are such tables of addresses, and name few outside of them."""
    rows_of = markup_rows_of(lines)
    told = [cells for _, cells in rows_of(enumerate(lines, 1))] if rows_of is not None else []
    rows = sum(len(cells) > 1 and any(map(tells_address, cells)) for cells in told)
    others = sum(len(cells) == 1 and "://" in cells[0] for cells in told)
    return rows > max(1, others * 2)


def _of_cells(number: int, cells: Iterable[str]) -> Row:
    told = [linked_address(" ".join(cell.split())) for cell in cells]
    return number, told if any(told) else []


def _mediawiki(lines: Iterable[tuple[int, str]]) -> Iterator[Row]:
    cells: list[str] = []
    inside = False
    for number, line in lines:
        text = line.strip()
        if text.startswith("{|"):
            inside = True
        elif not inside:
            yield number, [text] if text else []
        elif text.startswith(("|-", "|}", "|+")):
            if cells:
                yield _of_cells(number - 1, cells)
            cells, inside = [], not text.startswith("|}")
        elif text[:1] in {"|", "!"}:
            cells += (_ATTRIBUTES.sub("", cell) for cell in _DOUBLED.split(text[1:]))
        elif cells and len(cells[-1]) < _LONGEST:
            cells[-1] += f" {text}"
    if cells:
        yield _of_cells(number, cells)


def _between(signs: str, cell: re.Pattern[str]) -> Rows:
    """Reads rows that begin with a sign that stands between cells."""

    def rows(lines: Iterable[tuple[int, str]]) -> Iterator[Row]:
        for number, line in lines:
            text = line.strip()
            if text[:1] in signs:
                cells = cell.findall(text.lstrip(signs))
                while cells and not cells[-1]:  # behind the last sign
                    cells.pop()
                yield _of_cells(number, cells)
            else:
                yield number, [text] if text else []

    return rows


def _asciidoc(lines: Iterable[tuple[int, str]]) -> Iterator[Row]:
    cells: list[str] = []
    inside, width = False, 0
    for number, line in lines:
        text = line.strip()
        if text.startswith("|==="):
            if cells:
                yield _of_cells(number, cells)
            cells, inside, width = [], not inside, 0
        elif not inside:
            yield number, [text] if text else []
        elif not text:
            width = width or len(cells)
        elif len(told := _ASCIIDOC_CELL.split(text)) > 1:
            width = width or (len(told) - 1 if len(told) > 2 else 0)
            cells += (_ASCIIDOC_LINK.sub(r"\1", cell) for cell in told[1:])
        elif cells and len(cells[-1]) < _LONGEST:
            cells[-1] += f" {text}"
        whole = len(cells) // width * width if width else 0
        for at in range(0, whole, width or 1):
            yield _of_cells(number, cells[at : at + width])
        cells = cells[whole:]


def _listed(lines: Iterable[tuple[int, str]]) -> Iterator[Row]:
    cells: list[str] = []
    at = 0
    for number, line in lines:
        item = _OF_ITEM.fullmatch(line.rstrip())
        if item is None or item[1]:
            if cells:
                yield _of_cells(at, cells)
            cells, at = [], number
        if item is not None:
            cells.append(item[2])
        elif line.strip():
            yield number, [line.strip()]
    if cells:
        yield _of_cells(at, cells)


def _latex(lines: Iterable[tuple[int, str]]) -> Iterator[Row]:
    held = ""
    for number, line in lines:
        text = _RULES.sub("", line.split(" %", 1)[0]).strip()
        if text.startswith(("\\begin{", "\\end{", "%", "\\caption", "\\label", "\\centering")):
            held = ""
            continue
        held = f"{held} {text}".strip()
        if text.endswith("\\\\") or "&" not in held or len(held) > _LONGEST:
            cells = re.split(r"(?<!\\)&", held.removesuffix("\\\\"))
            held = ""
            yield _of_cells(number, (_ESCAPED.sub(r"\1", _COMMAND.sub(r"\1", c)) for c in cells))


_MARKUPS = (
    _Markup([re.compile(r"\s*\{\|")], _mediawiki),
    _Markup([re.compile(r"\s*\|===+\s*\Z")], _asciidoc),
    _Markup([re.compile(r"\s*\\begin\{(?:tabular|longtable|tabularx)\*?\}")], _latex),
    _Markup([re.compile(r"\s*\.\. list-table::")], _listed),
    _Markup(
        [re.compile(r"\s*\|\|[^|]+\|\|"), re.compile(r"\s*\|[^|].*\|\s*\Z")],
        _between("|", _BETWEEN_BARS),
    ),
    _Markup(
        [re.compile(r"\s*\^[^^]+\^"), re.compile(r"\s*\|[^|].*\|\s*\Z")],
        _between("|^", _BETWEEN_ROOFS),
    ),
)
