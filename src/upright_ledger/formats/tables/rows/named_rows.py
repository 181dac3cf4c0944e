"""Values that stand beside their names, as rows: records of a line a value (YAML, TOML, INI, tables
stood on their side), lines that name each of their values, and objects as programs print them.
"""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Callable, Iterator
from contextlib import suppress
from itertools import islice
from json import JSONDecoder
from pathlib import Path
from typing import Any, TypeGuard

from upright_ledger.errors import InputError
from upright_ledger.formats.files.loose_objects import loose_begin, loose_object
from upright_ledger.formats.files.text import open_text
from upright_ledger.formats.logs.forms.json_lines import tells_request
from upright_ledger.formats.logs.record_texts import between_records
from upright_ledger.formats.tables.cells import Row, looks_like_address
from upright_ledger.formats.tables.column_names import is_heading
from upright_ledger.formats.tables.rows.json_rows import MAX_DOCUMENT, Named, flat, under_header

_OTHER = "other lines"
_LETTERS = r"[^\s:=|\"'\[\]{}<>;,/]"
_NAME = rf"[\u200e\u200f]?[\"']?(?P<name>[^\W\d_]{_LETTERS}*(?: {_LETTERS}+){{0,6}}+)[\"']?"
_NAMED = re.compile(
    rf"[\s|*-]{{0,40}}+{_NAME}"
    r"(?:\s{0,40}+(?:=>|[:=|](?!//))\s{0,40}+|\s{2,40}+|\t)(?P<value>\S.*?)?[,\s]{0,40}"
)
"""A name and its value, in a line of their own."""
_ITEM = re.compile(rf"\s{{0,40}}+-\s+{_NAME}\s?:(?:\s|\Z)")
_PAIR = re.compile(
    rf"{_NAME}\s{{0,2}}(?:=>|[:=](?!//))\s{{0,2}}"
    r"(?:\"(?P<double>[^\"\\]*+(?:\\.[^\"\\]*+)*+)\"|'(?P<single>[^']*)'|(?P<bare>.*))",
    re.DOTALL,
)
_WORD = re.compile(
    r"(?P<name>[^\s=\"'/]{1,60})="
    r"(?:\"([^\"\\]*+(?:\\.[^\"\\]*+)*+)\"|'([^']*)'|([^\s\"]*))(?=[\s,;]|\Z)"
)
_AMID = re.compile(r"://|(?:^|(?<=[\s\[({,\"']))/[\w.-]+")
"""An address among other words: all of them are wanted, unless names tell which one is."""
_BETWEEN = re.compile(r"[\s,;|]*")
_SIGNS = ("\t", " | ", "; ", ";", ", ", ",")
_AHEAD = 1 << 15  # characters
_RECORDS = 30
_FEWEST = 2
_FRAME = 2  # lines around all records
_NEARLY_ALL = 0.8

Record = dict[str, Any] | str
"""What it tells by its names; a text where a line is none of it."""
Reader = Callable[[str], Iterator[Record]]


def named_rows(path: Path, encoding: str) -> Iterator[Row]:
    """The rows under a header of all names; lines that belong to no record have a column of their
    own. Raises InputError.
    """
    with open_text(path, encoding) as file:
        text = file.read(MAX_DOCUMENT + 1)
    if len(text) > MAX_DOCUMENT:
        raise InputError(
            f"{path} holds records of more than {MAX_DOCUMENT:,} characters", "export it as CSV"
        )
    reader = _reader_of(text[:_AHEAD]) or _records
    yield from under_header(enumerate(map(_row, reader(text)), 1))


def _row(record: Record) -> Named:
    return {_OTHER: record} if isinstance(record, str) else {**flat(record), _OTHER: None}


def are_named_rows(text: str) -> bool:
    """Whether a text tells of pages by records that have the same names, one of them for the
    address.
    """
    return _reader_of(text[:_AHEAD]) is not None


def are_loose_objects(text: str) -> bool:
    """Whether a text that begins as JSON does holds rows as other programs print them."""
    at = loose_begin(text)
    with suppress(ValueError, RecursionError):
        JSONDecoder().raw_decode(text, max(at, 0))
        return False
    return at >= 0 and _tells_pages(text[:_AHEAD], _objects)


def _reader_of(text: str) -> Reader | None:
    return next((r for r in (_objects, _lines, _records) if _tells_pages(text, r)), None)


def _tells_pages(text: str, reader: Reader) -> bool:
    found = [*islice(reader(text), _RECORDS)]
    others = [record for record in found if isinstance(record, str)]
    objects = [record for record in found if isinstance(record, dict)]
    if len(objects) >= max(_FEWEST, len(others)):
        requests = sum(map(tells_request, objects))
        if requests * 2 >= len(objects):
            return True
    told = [*map(flat, objects)]
    whole = [row for row in told if any(map(_is_address, row.values()))]
    if len(whole) < _FEWEST or any("://" in line for line in others):
        return False
    if len(others) > max(_FRAME, len(whole) // 4):
        return False
    names, alike = Counter(tuple(row) for row in whole).most_common(1)[0]
    if len(names) < _FEWEST or alike < _NEARLY_ALL * len(whole):
        return False
    amid = any(_AMID.search(v) for row in whole for v in row.values() if _is_words(v))
    if amid and not is_heading(names):
        return False
    columns = [[str(row.get(name) or "") for row in whole] for name in names]
    most = max(sum(map(_is_address, cells)) for cells in columns)
    return most >= _NEARLY_ALL * len(whole)


def _is_words(value: object) -> TypeGuard[str]:
    return isinstance(value, str) and not _is_address(value)


def _is_address(value: object) -> bool:
    return isinstance(value, str) and not re.search(r"\s", value) and looks_like_address(value)


def _objects(text: str) -> Iterator[Record]:
    """The objects in a text, one after the other, and what stands between them but signs."""
    at = 0
    while (begin := loose_begin(text, at)) >= 0:
        try:
            found, end = loose_object(text, begin)
        except ValueError:
            at = begin + 1
            continue
        yield from _words(text[at:begin])
        yield found
        at = end
    if at:
        yield from _words(text[at:])


def _words(between: str) -> Iterator[str]:
    return (line for line in between.splitlines() if re.search(r"\w{3}.*\w{3}", line))


def _lines(text: str) -> Iterator[Record]:
    """A record a line: key=value, name: value between tabs, commas, semicolons or bars."""
    for line in text.splitlines():
        if line.strip():
            yield _pairs_of(line.strip()) or line


def _pairs_of(line: str) -> dict[str, str]:
    """The names of a line with their values; none where it is no such line throughout."""
    words = [*_WORD.finditer(line)]
    if len(words) >= _FEWEST and all(map(_BETWEEN.fullmatch, _WORD.split(line)[::5])):
        return {w["name"]: _plain(w[2] or "") or w[3] or w[4] or "" for w in words}
    for sign in _SIGNS:
        parts = line.split(sign)
        if len(parts) < _FEWEST:
            continue
        pairs = [match for part in parts if (match := _PAIR.fullmatch(part.strip()))]
        if len(pairs) == len([part for part in parts if part.strip()]):
            return {
                p["name"]: _plain(p["double"] or "") or p["single"] or p["bare"] or ""
                for p in pairs
            }
    return {}


def _plain(text: str) -> str:
    """A text in quotes without the backslashes before quotes."""
    return text.replace('\\"', '"').replace("\\\\", "\\")


def _records(text: str) -> Iterator[Record]:
    """Records of a name with its value a line, divided by empty lines, by rules, by the signs with
    which the items of a list begin, or where the first name comes again.
    """
    record: dict[str, Any] = {}
    for line in text.splitlines():
        item = _ITEM.match(line)
        match = None if line.lstrip()[:1] in {"#", ";"} else _NAMED.fullmatch(line)
        again = match is not None and match["name"] == next(iter(record), None)
        if record and (item or again or between_records(line)):
            yield record
            record = {}
        if match is not None:
            record.setdefault(match["name"], _bare(match["value"] or ""))
        elif not between_records(line):
            yield line
    if record:
        yield record


def _bare(value: str) -> str:
    """A value without the quotes around it."""
    if len(value) > 1 and value[0] == value[-1] and value[0] in "\"'":
        return value[1:-1].replace(f"\\{value[0]}", value[0])
    return value
