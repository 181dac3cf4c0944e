"""Tables of requests: rows under a heading, or such as what stands in their cells gives away."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Callable, Sequence
from typing import NamedTuple

from upright_ledger.core.inventory.noise import AsideClass
from upright_ledger.formats.logs.forms.any_line import USUAL
from upright_ledger.formats.logs.forms.line_fields import looks_like_agent
from upright_ledger.formats.logs.forms.named_lines import NamedParser
from upright_ledger.formats.logs.log_line import (
    Likeness,
    LogFormat,
    LogLine,
    NotALineError,
    Parser,
    host_name,
    is_status,
    most,
)
from upright_ledger.formats.logs.meanings.log_roles import (
    Places,
    are_asked,
    is_method,
    is_target,
    line_of,
    parts_of,
    places_of,
    sent_in,
    tells_of_requests,
    told_by,
)
from upright_ledger.formats.logs.meanings.log_times import (
    are_day_first,
    day_of,
    moment_of,
    other_way_round,
)
from upright_ledger.formats.tables.cells import cells_of

_FEWEST = 3
_FEWEST_ROWS = 5


class _TableParser:
    """Rows of a table of requests. places: what their cells are; heading: the line that says so, or
    empty where what stands in the cells told it.
    """

    def __init__(
        self, delimiter: str, width: int, places: Places, sample: Sequence[str], heading: str = ""
    ) -> None:
        self._delimiter, self._width, self._places = delimiter, width, places
        self._day_first = are_day_first(sample[:_DAYS_OF])
        self._heading = heading
        self._ends_in_agent = places.agent == (width - 1,)

    def __call__(self, line: str) -> LogLine | str:
        comment = line.startswith("#") and self._heading.startswith("#")
        if not line.strip() or comment or line == self._heading or _NO_ROW.fullmatch(line):
            return AsideClass.BLANK
        if self._heading and _COUNT.fullmatch(line):
            return AsideClass.PROSE
        cells = _cells(line, self._delimiter)
        if self._ends_in_agent and len(cells) > self._width:
            cells = _joined(cells, self._width, self._delimiter)
        if len(cells) != self._width:
            others = "its heading" if self._heading else "most lines"
            raise NotALineError(f"it has {len(cells)} cells, and {others} {self._width}")
        said = line_of(self._places, cells)
        return said._replace(day=other_way_round(said.day)) if self._day_first else said


_DAYS_OF = 200  # lines by which it is known how they tell days


def _cells(line: str, delimiter: str) -> list[str]:
    if delimiter == " " and "[" in line:
        line = _BRACKETED.sub(r'"\1"', line)
    cells = [_NAMED_CELL.sub("", cell.strip()) for cell in cells_of(line, delimiter)]
    if delimiter in ",;" and "Mozilla/" in line:
        cells = _with_whole_brackets(cells, delimiter)
    framed = delimiter == "|" and len(cells) > 2 and line[:1] == "|" and not cells[-1]
    return cells[1:-1] if framed and not cells[0] else cells


def _with_whole_brackets(cells: list[str], delimiter: str) -> list[str]:
    """Cells of which none ends within round brackets: as agents hold the sign that divides them,
    and some programs write them without quotes.
    """
    found: list[str] = []
    is_open = 0
    for cell in cells:
        if is_open > 0:
            found[-1] += f"{delimiter} {cell}"
        else:
            found.append(cell)
        is_open = max(0, is_open + cell.count("(") - cell.count(")"))
    return cells if is_open else found


_BRACKETED = re.compile(r"(?<!\S)\[([^\[\]\"]{1,40})\](?!\S)")
"""A time, with the blank before its zone."""
_NAMED_CELL = re.compile(r"\A(?:Host|User-Agent|Referer): ")
"""Some write headers with their names."""


def _joined(cells: list[str], width: int, delimiter: str) -> list[str]:
    """Cells whose last one, an agent, holds the sign that divides them, each time with a blank."""
    return [*cells[: width - 1], f"{delimiter} ".join(cells[width - 1 :])]


_NO_ROW = re.compile(r"(?=[\s+|:=]*-)[\s+|:=-]++|sep=.\s*")
"""What programs draw around a table and under its heading, and how they name its delimiter."""
_COUNT = re.compile(r"\(?\d+ rows?\b.*")
"""What databases say under a table."""


class _Heading(NamedTuple):
    """line: as it stands; names: of the columns."""

    line: str
    delimiter: str
    names: list[str]


def _heading(lines: Sequence[str], delimiters: str = ",\t;|") -> _Heading | None:
    """The heading of a table of requests; None where it is none. It may be one of the comments
    with which a log begins, behind a word that says so.
    """
    comments = [line for line in lines[:_FIRST_LINES] if line.startswith("#")]
    body = [s for s in lines[:60] if not s.startswith("#") and not _NO_ROW.fullmatch(s)]
    heading, body = (comments, body) if comments else (body[:1], body[1:])
    for line in heading if body else ():
        for delimiter in delimiters:
            rows = [cells for text in body if (cells := _cells(text, delimiter))]
            width = len(rows[0]) if rows else 0
            names = _cells(line.removeprefix("#"), delimiter)
            names = names[1:] if comments and len(names) == width + 1 else names
            if len(names) < width and places_of([*map(parts_of, names)]).agent == (len(names) - 1,):
                rows = [_joined(row, len(names), delimiter) for row in rows]
                width = len(rows[0])
            if len(names) == width and _heads_requests(names, rows):
                return _Heading(line, delimiter, names)
    return None


_FIRST_LINES = 12


def _heads_requests(names: list[str], rows: Sequence[list[str]]) -> bool:
    """Whether names are those of the columns of a table of requests."""
    if len(names) < _FEWEST or any("/" in n or n.isdecimal() for n in names):
        return False
    places = places_of([parts_of(name) for name in names])
    if not (places.status and places.time and places.target + places.request):
        return False
    whole = [row for row in rows if len(row) == len(names)]
    if places.method or places.agent:
        fitting = sum(tells_of_requests(places, row, in_table=True) for row in whole)
    else:
        fitting = len(whole) if _come_again(places, whole) else 0
    return fitting > 0 and fitting * 2 >= len(rows)


def _come_again(places: Places, rows: Sequence[Sequence[str]]) -> bool:
    """Whether addresses come again and again, each time with a status and at another time of day,
    as in no list of addresses.
    """
    told = []
    for row in rows:
        line = told_by(places, row)
        moment = next((m for at in places.time if (m := moment_of(row[at])).clock), None)
        if line.request and line.status and moment is not None:
            told.append((line.request, moment))
    distinct = {request for request, _ in told}
    return (
        len(told) >= _FEWEST_ROWS
        and len(distinct) * 5 <= len(told) * 4
        and len(set(told)) > len(distinct)
    )


def _new_headed(sample: Sequence[str], hosts: frozenset[str]) -> Parser:
    found = _heading(sample) or _Heading(sample[0], ",", _cells(sample[0], ","))
    names = [parts_of(name) for name in found.names]
    body = [s for s in sample if s != found.line]
    rows = [row for s in body if len(row := _cells(s, found.delimiter)) == len(names)]
    places = places_of(names)
    asked = (n for n, name in enumerate(names) if are_asked(name, (r[n] for r in rows), hosts))
    places = places._replace(host=(*places.host, *asked))
    if not places.agent:
        taken = {at for some in places for at in some}
        told = (n for n in range(len(names)) if n not in taken)
        agents = (n for n in told if _are([r[n] for r in rows if r[n]], looks_like_agent))
        places = places._replace(agent=tuple(agents)[:1])
    return _TableParser(found.delimiter, len(found.names), places, sample, found.line)


def _sniff_headed(lines: Sequence[str]) -> Likeness:
    return Likeness.SURE if _heading(lines) is not None else Likeness.NONE


HEADED = LogFormat(_sniff_headed, _new_headed)


def _by_content(
    lines: Sequence[str], hosts: frozenset[str], delimiters: str = "\t|;,^~"
) -> tuple[str, int, Places] | None:
    """Delimiter, width and columns of a table of requests without a heading, told by what stands
    in its cells; None where it is none.
    """
    for delimiter in delimiters:
        its = [line for line in lines[:60] if not _NO_ROW.fullmatch(line)]
        rows = [cells for line in its if (cells := _cells(line, delimiter))]
        if headed := len(rows) > 1 and _are_names(rows[0]):
            del rows[0]
        widths = Counter(map(len, rows)).most_common(1)
        if not widths:
            continue
        width = widths[0][0]
        cut = _before_agents(rows)
        if cut and (sum(len(r) >= cut for r in rows) > widths[0][1] or _are_cut(rows, cut)):
            width, rows = cut, [_joined(row, cut, delimiter) for row in rows]
        elif widths[0][1] * 2 < len(rows):
            continue
        if not _FEWEST <= width <= _WIDEST:
            continue
        columns = list(zip(*(r for r in rows if len(r) == width), strict=True))
        found: dict[str, tuple[int, ...]] = dict.fromkeys(Places._fields, ())
        taken: set[int] = set()
        for meaning, test in _TESTS.items():
            if meaning in {"method", "target"} and found["request"]:
                continue
            fits = [n for n, told in enumerate(columns) if n not in taken and _are(told, test)]
            if meaning == "status":
                fits.sort(key=lambda n: -sum(cell in USUAL for cell in columns[n]))
            if meaning == "host":
                fits = [n for n in fits if hosts.intersection(columns[n])] or fits
            if meaning == "target":
                gaps = {n: columns[n].count("-") + columns[n].count("") for n in fits}
                fits.sort(key=lambda n: (gaps[n], -_own_share(columns[n], hosts)))
            if fits:
                found[meaning] = (fits[0],)
                taken.add(fits[0])
        asked = found["request"] or (found["target"] and (found["method"] or found["agent"]))
        wide = width >= _NARROWEST or (headed and found["request"])
        if asked and found["status"] and found["time"] and wide:
            return delimiter, width, Places(**found)
    return None


def _are_names(cells: Sequence[str]) -> bool:
    """Whether cells are the names of columns, in whatever language."""
    return all(cell and not any(sign.isdecimal() or sign == "/" for sign in cell) for cell in cells)


def _before_agents(rows: Sequence[Sequence[str]]) -> int:
    """The number of cells up to those with which agents begin, in which the sign stands that
    divides the cells; 0: these begin nowhere, or here and there.
    """
    begun = (next((n for n, c in enumerate(r, 1) if c.startswith("Mozilla/")), 0) for r in rows)
    ((place, count),) = Counter(begun).most_common(1)
    return place if count * 2 >= len(rows) else 0


def _are_cut(rows: Sequence[Sequence[str]], place: int) -> bool:
    """Whether a bracket opens in most cells of a column, counted from 1, that closes behind it."""
    told = [row[place - 1] for row in rows if place < len(row)]
    return 2 * sum(cell.count("(") > cell.count(")") for cell in told) > len(rows)


def _own_share(cells: Sequence[str], hosts: frozenset[str]) -> float:
    """The share of addresses that are paths, or on one of these hosts: what was asked for always
    is, and the page that led there only here and there.
    """
    named = (cell.split("/", 3)[2].partition(":")[0].lower() for cell in cells if "://" in cell)
    return (sum(c[:1] == "/" for c in cells) + sum(host in hosts for host in named)) / len(cells)


def _are(cells: Sequence[str], test: Callable[[str], object]) -> bool:
    told = [cell for cell in cells if cell not in {"", "-"}]
    return most(told, test, 9)


_TESTS: dict[str, Callable[[str], object]] = {
    "request": lambda cell: (sent := sent_in(cell)) is not None and sent.is_likely,
    "method": is_method,
    "target": is_target,
    "status": lambda cell: is_status(cell) and "100" <= cell <= "599",
    "time": day_of,
    "agent": looks_like_agent,
    "referrer": lambda cell: cell.startswith(("http://", "https://", "android-app://")),
    "host": host_name,
}
"""Meaning → what its cells are, in the order in which columns are given away."""
_NARROWEST, _WIDEST = 5, 200
"""Columns of a table of requests; of fewer where requests stand whole in one, below a heading."""


def _new_rows(sample: Sequence[str], hosts: frozenset[str]) -> Parser:
    found = _by_content(sample, hosts)
    if found is None:
        return NamedParser()
    delimiter, width, places = found
    names = _cells(sample[0], delimiter)
    if not _are_names(names):
        return _TableParser(*found, sample)
    # Query strings have no shape of their own.
    query = places_of([parts_of(name) for name in names]).query
    taken = {at for some in places for at in some}
    query = tuple(at for at in query if at not in taken and at < width)
    return _TableParser(delimiter, width, places._replace(query=query), sample, sample[0])


def _sniff_rows(lines: Sequence[str]) -> Likeness:
    return Likeness.SURE if _by_content(lines, frozenset()) is not None else Likeness.NONE


ROWS = LogFormat(_sniff_rows, _new_rows)


def are_request_rows(lines: Sequence[str]) -> bool:
    """Whether lines are the rows of a table of requests, their cells between tabs where any are."""
    if any("\t" in line for line in lines):
        return (
            _heading(lines, "\t") is not None or _by_content(lines, frozenset(), "\t") is not None
        )
    return any(form.sniff(lines) == Likeness.SURE for form in (HEADED, ROWS))


def _new_words(sample: Sequence[str], hosts: frozenset[str]) -> Parser:
    found = _by_content(sample, hosts, " ")
    return _TableParser(*found, sample) if found is not None else NamedParser()


def _sniff_words(lines: Sequence[str]) -> Likeness:
    return Likeness.SURE if _by_content(lines, frozenset(), " ") is not None else Likeness.NONE


WORDS = LogFormat(_sniff_words, _new_words)
"""Rows whose cells are words, in which no request stands together; asked where no other fits."""


def _sniff_apart(lines: Sequence[str]) -> Likeness:
    found = _by_content(lines, frozenset(), " ")
    places = found[2] if found is not None else None
    if places is None or not places.method or not places.target:
        return Likeness.NONE
    return Likeness.SURE if places.target[0] != places.method[0] + 1 else Likeness.NONE


APART = LogFormat(_sniff_apart, _new_words)
"""Of these such as tell the method elsewhere than before the target: what stands behind it there
would be taken for that.
"""
