"""Pairs: sheets of old and new addresses with a status, as people keep them, in several
languages.
"""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from itertools import pairwise
from operator import itemgetter
from pathlib import Path
from typing import NamedTuple

from upright_ledger.errors import InputError
from upright_ledger.formats.detection import OF_ROWS, FileKind, recognise
from upright_ledger.formats.records import ReadOptions
from upright_ledger.formats.tables.cells import (
    NO_ADDRESS,
    Row,
    column_of,
    host_of,
    looks_like_address,
)
from upright_ledger.formats.tables.column_names import bare
from upright_ledger.formats.tables.header_words import side_of
from upright_ledger.formats.tables.meanings.address_cells import (
    common_remark,
    fault_of,
    told_address,
)
from upright_ledger.formats.tables.rows.table_rows import RowWidth, rows_of
from upright_ledger.formats.tables.rows.workbook_rows import hidden_note, sheets_of
from upright_ledger.formats.tables.status_words import status_word
from upright_ledger.formats.tables.url_table import Table

OLD, NEW, STATUS, QUERY, KIND, UNTIL = "old", "new", "status", "query", "kind", "until"
MEANINGS = (OLD, NEW, STATUS, QUERY, KIND, UNTIL)
_SIDES = (OLD, NEW)

# Headers in their order of preference; compared as `columns.bare` leaves them. Others are read by
# their words (`header_words`).
_NAMES: Mapping[str, tuple[str, ...]] = {
    OLD: ("old", "legacyurl", "oldurl", "from", "source", "sourceurl", "redirectfrom", "oldaddress",
        "request", "url"),
    NEW: ("new", "destination", "newurl", "to", "target", "targeturl", "redirectto", "newaddress",
        "destinationurl"),
    STATUS: (
        "status", "statuscode", "code", "httpstatus", "httpcode", "httpstatuscode", "redirecttype",
        "type", "typ", "art", "tipo", "soort",
        "weiterleitungstyp", "umleitungstyp", "typederedirection", "tipoderedireccion",
        "tipodiredirect", "redirectcode",
    ),
    QUERY: ("query",),
    KIND: ("kind",),
    UNTIL: (
        "until", "reviewon", "reviewdate", "review", "duedate", "validuntil", "expires",
        "expiry", "wiedervorlage", "wiedervorlageam", "prufenam", "pruefenam", "prufdatum",
        "bis", "befristetbis", "gueltigbis", "gultigbis", "arevoir", "arevoirle", "jusquau",
        "jusqua", "echeance", "valablejusquau", "revisarel", "hasta", "validohasta",
        "rivedereil", "finoal", "scadenza", "geldigtot", "tot", "herzienop", "revisarem",
        "validoate", "ate", "sprawdzicdnia", "waznedo", "granskas", "till", "giltigtill",
    ),
}  # fmt: skip
_HEADER_WITHIN = 60  # rows
_SAMPLE = 200


class Pair(NamedTuple):
    """One row: the addresses as written, trimmed. status, query, kind, until: as written, empty
    when not given. sheet: of a workbook that has several.
    """

    line: int
    old: str
    new: str
    status: str
    query: str = ""
    kind: str = ""
    sheet: str = ""
    until: str = ""

    @property
    def is_template(self) -> bool:
        return self.kind == "template"

    @property
    def place(self) -> str:
        """Where it stands, in words."""
        return f"row {self.line} of {self.sheet}" if self.sheet else f"row {self.line}"


@dataclass(frozen=True, slots=True)
class Pairs:
    """A sheet of pairs and the rows that are none (line, reason). mapping: meaning → header;
    unused: headers that say nothing here. notes: what else a user should know. in_order: that the
    old addresses stand before the new ones was taken for granted, as nothing tells them apart.
    """

    rows: list[Pair]
    rejected: list[tuple[int, str]]
    mapping: dict[str, str] = field(default_factory=dict)
    unused: list[str] = field(default_factory=list)
    notes: list[str] = field(default_factory=list)
    in_order: bool = False


def read_pairs(
    path: Path, options: ReadOptions | None = None, new_origins: frozenset[str] = frozenset()
) -> Pairs:
    """Read a sheet of pairs: its columns by name in several languages, as the user says, or by what
    they hold.

    options: `hosts` are those of old addresses; new_origins: where new ones lie. Of a workbook, all
    sheets that hold pairs. Raises InputError where there is none.
    """
    options = options or ReadOptions()
    kind = recognise(path)
    if kind != FileKind.SHEET:
        kind = kind if kind in OF_ROWS else FileKind.TABLE
        filled = [r for r in rows_of(path, kind, options.encoding) if r[1]]
        return _pairs_of(path, kind, filled, options, new_origins)
    found = Pairs([], [])
    failed: dict[str, InputError] = {}
    names = [options.sheet] if options.sheet else sheets_of(path)
    for name in names:
        rows = [r for r in rows_of(path, FileKind.SHEET, sheet=name) if r[1]]
        try:
            named = name if len(names) > 1 else ""
            part = _pairs_of(path, kind, rows, options, new_origins, named)
        except InputError as error:
            failed[name] = error
            continue
        found = Pairs(
            [*found.rows, *part.rows], [*found.rejected, *part.rejected],
            found.mapping or part.mapping, found.unused or part.unused,
            [*found.notes, *part.notes], found.in_order or part.in_order,
        )  # fmt: skip
    if not found.rows and not found.rejected:
        raise next(iter(failed.values()), InputError(f"{path} is empty", "export it again"))
    if failed:
        found.notes.append(f"without pairs: the sheets {', '.join(failed)}")
    if not options.sheet and (note := hidden_note(path)):
        found.notes.append(note)
    return found


def _pairs_of(
    path: Path,
    kind: str,
    rows: list[Row],
    options: ReadOptions,
    new_origins: frozenset[str],
    sheet: str = "",
) -> Pairs:
    if not rows:
        raise InputError(f"{path} is empty", "export it again")
    header, columns, in_order = _find_columns(path, rows, options, new_origins)
    body = rows[header + 1 :] if header is not None else rows
    titles = rows[header][1] if header is not None else []
    width = RowWidth.of(kind, titles, (cells for _, cells in body))
    rejected = [(line, fault) for line, cells in body if (fault := width.fault(cells))]
    torn = {line for line, _ in rejected}
    whole = [row for row in body if row[0] not in torn] if torn else body
    cells = [cells for _, cells in whole]
    told = (_column(cells, columns.get(m), of_addresses=m in _SIDES) for m in MEANINGS)
    pairs = []
    for (line, row), old, new, status, query, kind_told, until in zip(whole, *told, strict=True):
        one = Pair(line, old, new, status, query, kind_told, sheet, until)
        if Table.repeats(row, titles):
            rejected.append((line, "it is the heading once more"))
        elif one.old and Table.is_sum(one.old):
            rejected.append((line, "it holds totals, and no address"))
        elif fault := fault_of(old) or fault_of(new):
            rejected.append((line, fault))
        elif one.old:
            pairs.append(one)
        elif one.new or any(map(str.strip, row)):
            rejected.append((line, "the old address is missing"))
    rejected.sort(key=itemgetter(0))
    if not pairs:
        raise InputError(f"{path} holds no pairs", "give it the columns old, new and status")
    named = {
        m: titles[at].strip() if at < len(titles) and titles[at].strip() else f"column {at + 1}"
        for m, at in columns.items()
    }
    unused = [t.strip() for at, t in enumerate(titles) if t.strip() and at not in columns.values()]
    return Pairs(pairs, rejected, named, unused, in_order=in_order)


def _find_columns(
    path: Path, rows: list[Row], options: ReadOptions, new_origins: frozenset[str]
) -> tuple[int | None, dict[str, int], bool]:
    """The row of the header (None where there is none), meaning → column, and whether nothing tells
    old addresses from new ones.
    """
    given = {m: text for m, text in options.columns.items() if m in MEANINGS}
    for n, (_, cells) in enumerate(rows[:_HEADER_WITHIN]):
        if any(map(looks_like_address, cells)):
            break
        columns = _by_names(cells, given)
        body = [c for _, c in rows[n + 1 : n + 1 + _SAMPLE]]
        if columns is None or not body:
            continue
        if (
            OLD in columns
            and NEW not in columns
            and _addresses(body, columns[OLD]) < 0.5
            and given.get(NEW) != ""
        ):
            continue
        if OLD in columns and (NEW in columns or STATUS in columns or given.get(NEW) == ""):
            return n, columns, False
    named = ", ".join(h.strip() for h in rows[0][1] if h.strip())
    missing = [text for text in given.values() if text]
    if missing:
        raise InputError(f"{path} has no column {missing[0]!r}", f"its columns are: {named}")
    return _by_content(path, rows, options.hosts, new_origins, named)


def _by_names(cells: Sequence[str], given: Mapping[str, str]) -> dict[str, int] | None:
    """Meaning → column by headers; None where a header that a user gave is not there."""
    words = [bare(h) for h in cells]
    found: dict[str, int] = {}
    for meaning, text in given.items():
        if text and bare(text) not in words:
            return None
        if text:
            found[meaning] = words.index(bare(text))
    sides = [side_of(h) for h in cells]
    for meaning in MEANINGS:
        if meaning in given:
            continue
        free = [at for at in range(len(words)) if at not in found.values()]
        at = next((at for name in _NAMES[meaning] for at in free if words[at] == name), None)
        spoken = next((at for at in free if sides[at] == meaning), None)
        # "url" is an old address only where no header says so better.
        if spoken is not None and (at is None or words[at] == "url"):
            at = spoken
        if at is not None:
            found[meaning] = at
    return found


def _by_content(
    path: Path, rows: list[Row], hosts: frozenset[str], new_origins: frozenset[str], named: str
) -> tuple[int | None, dict[str, int], bool]:
    """Two columns of addresses: the old ones lie on old hosts, the new ones on new hosts, or their
    header says so, or they stand in that order.
    """
    first = next(
        (
            n
            for n, (_, cells) in enumerate(rows[:_HEADER_WITHIN])
            if any(map(looks_like_address, cells))
        ),
        None,
    )
    if first is None:
        raise InputError(f"{path} has no columns old and new", f"its columns are: {named}")
    body = [cells for _, cells in rows[first : first + _SAMPLE]]
    width = max(map(len, body))
    shares = [(_addresses(body, at), at) for at in range(width)]
    likely = [at for share, at in shares if share >= 0.5]
    if not likely:
        raise InputError(f"{path} has no columns old and new", f"its columns are: {named}")
    old, new = likely[0], next((at for at in likely[1:]), None)
    in_order = False
    if new is not None:
        speaks = [_speaks_of_old(body, at, hosts, new_origins) for at in (old, new)]
        above = rows[first - 1][1] if first else []
        sides = [side_of(above[at]) if at < len(above) else "" for at in (old, new)]
        told = speaks[0] == speaks[1] and (sides[0] == NEW or sides[1] == OLD)
        in_order = speaks[0] == speaks[1] and not any(sides)
        if speaks[1] > speaks[0] or told:
            old, new = new, old
    columns = {OLD: old} | (
        {NEW: new} if new is not None else {NEW: old + 1} if old + 1 < width else {}
    )
    status = next(
        (at for at in range(width) if at not in columns.values() and _statuses(body, at) > 0.6),
        None,
    )
    if status is not None:
        columns[STATUS] = status
    header = first - 1 if first and sum(map(bool, rows[first - 1][1])) > 1 else None
    return header if header is not None else (None if not first else first - 1), columns, in_order


def _addresses(body: Sequence[Sequence[str]], at: int) -> float:
    cells = [c[at].strip() for c in body if at < len(c) and c[at].strip()]
    return sum(map(looks_like_address, cells)) / len(cells) if cells else 0.0


def _speaks_of_old(
    body: Sequence[Sequence[str]], at: int, hosts: frozenset[str], new_origins: frozenset[str]
) -> int:
    """How many cells of a column lie on old hosts, less those on new origins."""
    found = 0
    for cell in (c[at].strip().lower() for c in body if at < len(c)):
        is_new = any(cell == o or cell.startswith(f"{o}/") for o in new_origins)
        found += -1 if is_new else int(host_of(cell) in hosts)
    return found


def _statuses(body: Sequence[Sequence[str]], at: int) -> float:
    cells = [c[at].strip() for c in body if at < len(c) and c[at].strip()]
    return (
        sum(1 for c in cells if re.match(r"(?:30[12378]|410|404)\b", c) or status_word(c))
        / len(cells)
        if cells
        else 0.0
    )


def _column(rows: Sequence[Sequence[str]], at: int | None, *, of_addresses: bool) -> list[str]:
    """What a column's cells mean; empty where there is none."""
    told = column_of(rows, at)
    if of_addresses:
        remark = common_remark(told[:_SAMPLE])
        return [_meant(told_address(text, remark)) for text in told]
    meant = {text: _meant(text) for text in set(told)}
    return [*map(meant.__getitem__, told)]


def _meant(text: str) -> str:
    first = text[:1]
    if text.lower() in NO_ADDRESS:
        return ""
    # Our own sheets put an apostrophe before what a spreadsheet would take for a formula.
    return text[1:] if first == "'" and re.match(r"^'[=+\-@]", text) else text


_PATTERN_SIGNS = re.compile(
    r"\*(?:/|\Z)|/\*|\A\^|[^\w]\$\Z|\(\.|\(\[|\\[dw]|\[\^[\w/]|\(\?|\.\+\Z|\.\*"
)


def looks_like_pattern(text: str) -> bool:
    """Whether an old address is a pattern for many ("/blog/*", "^/shop/(.*)$") rather than one
    address.
    """
    path = text.partition("://")[2].partition("/")[2] if "://" in text else text
    return bool(_PATTERN_SIGNS.search(path.partition("?")[0] if path.startswith("/") else path))


def as_regular_expression(text: str, new: str) -> tuple[str, str]:
    """A pattern for paths and its destination with $1, $2 ..., of either kind: with * for anything,
    or a regular expression.
    """
    if not re.search(r"[\^$]|\(\.|\\[dw./]|\[|\(\?|\.\+|\.\*", text):
        parts = text.split("*")
        pattern = "^" + "(.*)".join(map(re.escape, parts)) + "$"
        stars = new.count("*")
        for number in range(1, stars + 1):
            new = new.replace("*", f"${number}", 1)
        return pattern, new
    pattern = text if text.startswith("^") else f"^{text}"
    return pattern, re.sub(r"\\([1-9])", r"$\1", new)


def pieces_of(new: str) -> tuple[tuple[str, str], ...]:
    """The texts and groups of a destination with $1, $2 ..., as imported rules hold them: ("text",
    …), ("group", "1").
    """
    cuts = [m.span() for m in re.finditer(r"\$\{?([1-9])\}?", new)]
    bounds = [0, *(at for span in cuts for at in span), len(new)]
    found = []
    for n, (a, b) in enumerate(pairwise(bounds)):
        if n % 2:
            found.append(("group", re.sub(r"\D", "", new[a:b])))
        elif b > a:
            found.append(("text", new[a:b]))
    return tuple(found)
