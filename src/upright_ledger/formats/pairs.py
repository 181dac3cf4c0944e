"""Pairs: sheets of old and new addresses with a status, as people keep them."""

from __future__ import annotations

import re
from dataclasses import dataclass
from pathlib import Path

from upright_ledger.errors import InputError
from upright_ledger.formats.columns import bare, looks_like_address
from upright_ledger.formats.recognising import JSON, SHEET, TABLE, recognise
from upright_ledger.formats.rows import rows_of

OLD = ("old", "legacyurl", "oldurl", "from", "source", "sourceurl", "redirectfrom", "oldaddress", "request", "url")
NEW = ("new", "destination", "newurl", "to", "target", "targeturl", "redirectto", "newaddress", "destinationurl")
QUERY, KIND = ("query",), ("kind",)
STATUS = ("status", "statuscode", "code", "type", "redirecttype")

_BARE_PATH = re.compile(r"^[^\s/:]+(?:/[^\s]*)?$")


@dataclass(frozen=True, slots=True)
class Pair:
    """One row: the addresses as written, trimmed. status, query, kind: as written, empty when not given."""

    line: int
    old: str
    new: str
    status: str
    query: str = ""
    kind: str = ""

    @property
    def is_template(self) -> bool:
        return self.kind == "template"


@dataclass(frozen=True, slots=True)
class Pairs:
    """A sheet of pairs and the rows that are none (line, reason)."""

    rows: list[Pair]
    rejected: list[tuple[int, str]]


def read_pairs(path: Path, encoding: str = "") -> Pairs:
    """Read a sheet with the columns old, new and status (the first two in order where there is no header)."""
    kind = recognise(path)
    rows = [row for row in rows_of(path, kind if kind in {SHEET, JSON} else TABLE, encoding) if row[1]]
    if not rows:
        raise InputError(f"{path} is empty", "export it again")
    header = [bare(h) for h in rows[0][1]]
    columns = [_first(header, names) for names in (OLD, NEW, STATUS, QUERY, KIND)]
    old, new = columns[:2]
    if old is not None and new is None and any(looks_like_address(c) for c in rows[0][1]):
        old = None
    if old is None or new is None:
        if not looks_like_address(rows[0][1][0]) and not (len(rows[0][1]) > 1 and looks_like_address(rows[0][1][1])):
            named = ", ".join(h.strip() for h in rows[0][1] if h.strip())
            raise InputError(f"{path} has no columns old and new", f"its columns are: {named}")
        columns = [0, 1, 2, None, None]
    else:
        rows = rows[1:]
    pairs, rejected = [], []
    for line, cells in rows:
        if not cells:
            continue
        one = Pair(line, *(_cell(cells, at) for at in columns))
        if one.old:
            pairs.append(one)
        else:
            rejected.append((line, "the old address is missing"))
    if not pairs:
        raise InputError(f"{path} holds no pairs", "give it the columns old, new and status")
    return Pairs(pairs, rejected)


def mend_slash(text: str) -> tuple[str, bool]:
    """Put a missing leading slash before a bare path ("visit/hours.html"); True when that was done."""
    if not text or text.startswith(("/", "?", "#")) or "://" in text or _names_host(text):
        return text, False
    return (f"/{text}", True) if _BARE_PATH.match(text) else (text, False)


def _names_host(text: str) -> bool:
    head = text.partition("/")[0]
    return head.startswith("www.") or (head.count(".") >= 2 and "/" in text)


def _first(header: list[str], names: tuple[str, ...]) -> int | None:
    return next((header.index(n) for n in names if n in header), None)


def _cell(cells: list[str], at: int | None) -> str:
    if at is None or at >= len(cells):
        return ""
    text = cells[at].strip()
    # Our own sheets put an apostrophe before what a spreadsheet would take for a formula.
    return text[1:] if re.match(r"^'[=+\-@]", text) else text
