"""Tables as programs print them: cells between bars or blanks, with lines drawn around them."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Callable, Sequence

from upright_ledger.formats.tables.cells import (
    NO_ADDRESS,
    begins_a_sum,
    looks_like_address,
    status_code,
)
from upright_ledger.formats.tables.meanings.days import day_of
from upright_ledger.formats.tables.meanings.figures import number

_BAR = "\u2502"
_TYPES = re.compile(
    r"(?:u?(?:tiny|small|big|huge)?int(?:eger)?(?:8|16|32|64|128)?|float(?:4|8|32|64)?|double|real|"
    r"numeric|decimal\(\d+,\d+\)|varchar|text|str(?:ing)?|char|blob|bool(?:ean)?|date(?:time)?|"
    r"time(?:stamp)?|object|chr|dbl|int|lgl|i64|f64|u32|---)\Z",
    re.IGNORECASE,
)
_SIGNS = "=+|:\u2500-\u257f-"
_RULE = re.compile(rf"(?=[\s{_SIGNS}]*+\Z)(?:\s|[{_SIGNS}](?![{_SIGNS}]{{2}}))*+[{_SIGNS}]{{3}}")
_FOOTER = re.compile(r"\s*(?:\(\d[\d,]* rows?\)|\d[\d,]* rows? in set\b.*)\s*\Z", re.IGNORECASE)
_COUNT = re.compile(r"(\s+\d+)\s\S+\s*\Z")
_GAPS = (re.compile(r" {2,}"), re.compile(r" +"))
_OVER_COLUMNS = re.compile(r"\s*([-=\u2500])\1+(?:\s+\1{2,})+\s*")
_MOST = 40  # columns
_FEWEST = 2  # rows
_NEARLY_ALL = 0.8

Parting = Callable[[str], list[str]]
"""How a line comes apart into cells."""


def with_plain_bars(line: str) -> str:
    """A line whose cells bars of a drawn box part, with plain ones."""
    return line.replace(_BAR, "|") if line.startswith(_BAR) else line


def are_types(cells: Sequence[str]) -> bool:
    """Whether a row tells of which type its columns are, as some programs print it below names."""
    filled = [cell.strip() for cell in cells if cell.strip()]
    return bool(filled) and all(map(_TYPES.match, filled))


def numbered(rows: Sequence[Sequence[str]]) -> bool:
    """Whether rows begin with numbers over which the heading has no name."""
    if len(rows) < _FEWEST or len(rows[0]) + 1 != len(rows[1]):
        return False
    return all(row[0].isdigit() for row in rows[1:])


def is_drawn(line: str) -> bool:
    """Whether a line is a rule between rows, or tells how many there are."""
    return _RULE.match(line) is not None or _FOOTER.match(line) is not None


def is_ruled(lines: Sequence[str]) -> bool:
    """Whether a rule is drawn over each of several columns."""
    return any(map(_OVER_COLUMNS.fullmatch, lines))


def between_bars(lines: Sequence[str]) -> bool:
    """Whether rows begin and end with a bar."""
    rows = [line.strip() for line in lines if "|" in line and not _RULE.match(line)]
    return bool(rows) and all(row[0] == row[-1] == "|" for row in rows)


def are_counts(lines: Sequence[str]) -> bool:
    """Whether every line is a count, flush right, and what was counted, as `uniq -c` prints it."""
    found = [_COUNT.match(line) for line in lines]
    return len({match.end(1) if match else 0 for match in found}) == 1 and found[0] is not None


def parting_of(lines: Sequence[str]) -> Parting | None:
    """What takes the cells of nearly every line apart: rules drawn over columns, two or more
    blanks, or single ones where all cells are addresses, figures, statuses and days. None where
    lines are no such rows; a tab parts cells by itself.
    """
    lines = [line for line in lines if line.strip() and not line.startswith("#")]
    if any("\t" in line for line in lines):
        return None
    rule = next((line for line in lines if _OVER_COLUMNS.fullmatch(line)), "")
    lines = [line for line in lines if not is_drawn(line)]
    ruled = [_below(rule)] if rule else []
    of_words = (*ruled, *([below] if (below := _with_empty(lines)) else []), _by(_GAPS[0]))
    for parting, may_be_words in (*((p, True) for p in of_words), (_by(_GAPS[1]), False)):
        if _are_rows([*map(parting, lines)], may_be_words=may_be_words):
            return parting
    return None


def _by(gap: re.Pattern[str]) -> Parting:
    return lambda line: gap.split(line.strip())


def _with_empty(lines: Sequence[str]) -> Parting | None:
    """What takes lines apart some of whose cells are empty, where all columns stand apart."""
    rule = _shade(lines)
    widths = Counter(len(_GAPS[0].split(line.strip())) for line in lines)
    width = len(rule.split())
    return _below(rule) if width > 1 and width == max(widths) > min(widths) else None


def _shade(lines: Sequence[str]) -> str:
    """A rule over each column that two blanks keep apart from the next one in all lines."""
    width = max(map(len, lines), default=0)
    filled = bytearray(width)
    for line in lines:
        for at, letter in enumerate(line):
            filled[at] |= not letter.isspace()
    rule = "".join("- "[not told] for told in filled)
    return re.sub(r"(?<=-) (?=-)", "-", rule)


def _below(rule: str) -> Parting:
    """What takes lines apart below a rule that is drawn over each column; cells may be empty."""
    starts = [match.start() for match in re.finditer(r"\S+", rule)]
    ends = [*starts[1:], None]

    def cells(line: str) -> list[str]:
        line = line.rstrip()
        apart = _GAPS[0].split(line.strip())
        if len(apart) == len(starts) or any(line[at - 1 : at].strip() for at in starts[1:]):
            return apart
        return [line[start:end].strip() for start, end in zip(starts, ends, strict=True)]

    return cells


def _are_rows(rows: list[list[str]], *, may_be_words: bool) -> bool:
    while len(rows) > _FEWEST and begins_a_sum(rows[-1][0]):
        rows.pop()
    if numbered(rows):
        rows[0] = ["", *rows[0]]
    width, alike = max(
        ((w, n) for w, n in Counter(map(len, rows)).items() if 2 <= w <= _MOST),
        key=lambda told: told[1],
        default=(0, 0),
    )
    if not alike or alike < _NEARLY_ALL * len(rows):
        return False
    columns = list(zip(*(row for row in rows if len(row) == width), strict=True))
    # The first row may be a header.
    addresses = [_share(cells, _is_address) for cells in columns]
    if max(addresses) < _NEARLY_ALL or (len(rows) == 1 and min(addresses) == 1):
        return False
    return may_be_words or all(_share(cells, is_datum) >= _NEARLY_ALL for cells in columns)


def _share(cells: Sequence[str], test: Callable[[str], bool]) -> float:
    body = cells[1:] or cells
    return sum(map(test, body)) / len(body)


def _is_address(cell: str) -> bool:
    return " " not in cell and looks_like_address(cell)


def is_datum(cell: str) -> bool:
    """Whether a cell is an address, a figure, a status or a day, and no words."""
    return (
        number(cell) is not None
        or status_code(cell) > 0
        or _is_address(cell)
        or day_of(cell) != ""
        or cell.lower() in NO_ADDRESS
    )
