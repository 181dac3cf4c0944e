"""Dumps of databases (SQL) as rows: the values of the table that holds addresses."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from pathlib import Path

from upright_ledger.errors import NoAddressesError
from upright_ledger.formats.files.text import read_text, with_line_feeds
from upright_ledger.formats.tables.cells import Row, tells_address

_WORD = r"(?:[\w$]+|`[^`\n]+`|\"[^\"\n]+\"|\[[^\]\n]+\])"
_NAME = rf"{_WORD}(?:\.{_WORD})*"
_NAMES = r"(?:[^()`\"]++|`[^`\n]*`|\"[^\"\n]*\")*+"
_STATEMENT = re.compile(
    rf"^[ \t]*(?:(?P<create>CREATE\s+TABLE\s+(?:IF\s+NOT\s+EXISTS\s+)?(?P<made>{_NAME})\s*\()|"
    rf"(?:INSERT(?:\s+IGNORE)?(?:\s+INTO)?|REPLACE\s+INTO)\s+(?P<filled>{_NAME})\s*"
    rf"(?:\((?P<named>{_NAMES})\))?\s*VALUES?\s*|"
    rf"COPY\s+(?P<copied>{_NAME})\s*(?:\((?P<columns>{_NAMES})\))?\s+FROM\s+stdin[^\n]*;\n)",
    re.MULTILINE | re.IGNORECASE,
)
_VALUE = re.compile(
    r"\s*(?:[A-Za-z_]\w*(?='))?(?:'((?:[^'\\]++|\\.|'')*+)'(?:::\w+)?|"
    r"([^\s,()']++(?:\([^()]*\))?))\s*([,)])",
    re.DOTALL,
)
_COLUMN = re.compile(
    r"\s*(?!(?:PRIMARY|UNIQUE|KEY|INDEX|CONSTRAINT|FOREIGN|CHECK|FULLTEXT|SPATIAL|EXCLUDE)\b)"
    rf"({_WORD})\s",
    re.IGNORECASE,
)
_NAMED = re.compile(_NAME)
_ESCAPE = re.compile(r"\\(.)|''", re.DOTALL)
_ESCAPED = {"n": "\n", "r": "\r", "t": "\t", "0": "", "b": "", "Z": ""}
_AMID = re.compile(r"https?://[^\s<>\"'`{}|^\\]+", re.IGNORECASE)
SAMPLE = 200
"""Rows by which it is told whether a table holds addresses."""
_PUNCTUATION = ".,;:!?)]"


@dataclass
class _Table:
    names: list[str] = field(default_factory=list)
    rows: list[Row] = field(default_factory=list)

    @property
    def addresses(self) -> int:
        """How many rows hold an address in the column that holds most of them."""
        return addresses_in([cells for _, cells in self.rows[:SAMPLE]], len(self.rows))


def addresses_in(seen: Sequence[Sequence[str]], many: int) -> int:
    """How many of so many rows hold an address in the column that holds most of them, as far as the
    first ones tell; 0 where fewer than half do.
    """
    told = [sum(map(tells_address, column)) for column in zip(*seen, strict=False)]
    best = max(told, default=0)
    return best * many // len(seen) if best * 2 >= len(seen) > 0 else 0


def note_of_others(table: str, others: Sequence[str]) -> list[str]:
    """What a user should know where other tables hold addresses, too."""
    if not others:
        return []
    told = (
        f"read from the table {table}; addresses are in others, too, such as "
        f"{', '.join(others[:5])}: export these as CSV where they are wanted"
    )
    return [told]


def is_dump(text: str) -> bool:
    """Whether a text holds statements of a dump."""
    return _STATEMENT.search(text) is not None


def sql_rows(path: Path, encoding: str, notes: list[str]) -> Iterator[Row]:
    """The rows of the table in which most addresses are, under its columns' names; where they stand
    amid other words alone, each by itself. notes: gets the names of other such tables.
    """
    tables = _tables(with_line_feeds(read_text(path, encoding)))
    if not tables:
        raise NoAddressesError(
            f"{path} fills no table", "dump it with its rows, or export it as CSV"
        )
    ranked = sorted(tables, key=lambda name: -tables[name].addresses)
    best = tables[ranked[0]]
    if not best.addresses:
        yield 0, ["url"]
        for table in tables.values():
            for line, cells in table.rows:
                for text in (t for cell in cells for t in _AMID.findall(cell)):
                    yield line, [text.rstrip(_PUNCTUATION)]
        return
    notes += note_of_others(ranked[0], [n for n in ranked[1:] if tables[n].addresses])
    yield 0, best.names or [f"column {n}" for n in range(1, len(best.rows[0][1]) + 1)]
    yield from best.rows


def _tables(text: str) -> dict[str, _Table]:
    """Name → table, of those that get rows."""
    found: dict[str, _Table] = {}
    named: dict[str, list[str]] = {}
    at = line = 0
    counted = 0
    while (match := _STATEMENT.search(text, at)) is not None:
        line += text.count("\n", counted, match.start())
        counted = match.start()
        at = match.end()
        name = _bare(match["made"] or match["filled"] or match["copied"])
        if match["create"]:
            named[name] = _columns(text, at)
            continue
        table = found.setdefault(name, _Table())
        columns = match["named"] or match["columns"]
        if not table.names:
            table.names = (
                [_bare(c) for c in _NAMED.findall(columns)] if columns else named.get(name, [])
            )
        if match["copied"]:
            end = text.find("\n\\.", at)
            lines = text[at : end if end >= 0 else len(text)].split("\n")
            first = line + text.count("\n", match.start(), at) + 1
            told = (row.split("\t") for row in lines)
            table.rows += [(n, [*map(_plain, cells)]) for n, cells in enumerate(told, first)]
            at = end if end >= 0 else len(text)
        else:
            at = _values(text, at, line + 1, table.rows)
    return {name: table for name, table in found.items() if table.rows}


def _values(text: str, at: int, line: int, rows: list[Row]) -> int:
    """Read the rows that stand behind VALUES; returns where they end."""
    start = at
    while at < len(text) and text[at] == "(":
        cells: list[str] = []
        here = line + text.count("\n", start, at)
        at += 1
        while (match := _VALUE.match(text, at)) is not None:
            at = match.end()
            quoted, bare, end = match.groups()
            cells.append(_plain(quoted) if quoted is not None else "" if bare == "NULL" else bare)
            if end == ")":
                rows.append((here, cells))
                break
        else:
            return at
        line, start = here, at
        while at < len(text) and text[at] in ", \n\t":
            at += 1
    return at


def _columns(text: str, at: int) -> list[str]:
    """The names of the columns that a CREATE TABLE declares, a line each."""
    parts = re.split(r",\s*\n|\n|,(?![^(]*\))", text[at : at + 20_000].partition(";")[0])
    return [_bare(match[1]) for part in parts if (match := _COLUMN.match(part))]


def _plain(text: str) -> str:
    if text == "\\N":
        return ""
    if "\\" not in text and "''" not in text:
        return text
    return _ESCAPE.sub(lambda m: _ESCAPED.get(m[1], m[1]) if m[1] else "'", text)


def _bare(name: str) -> str:
    """The last part of a name, without the quotes around it."""
    return str(re.findall(_WORD, name)[-1]).strip('`"[]').strip()
