"""XML of any kind as rows: the element that names an address again and again is a row."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator
from operator import itemgetter
from pathlib import Path
from typing import Any

from upright_ledger.errors import NoAddressesError
from upright_ledger.formats.delimiters import MAX_COLUMNS
from upright_ledger.formats.files.compressed import open_bytes, read_head
from upright_ledger.formats.lists.xml_elements import elements, local_name
from upright_ledger.formats.records import Reading
from upright_ledger.formats.tables.cells import Row, looks_like_address, tells_address
from upright_ledger.formats.tables.rows.json_rows import under_header

_OF_SHEETS = b"urn:schemas-microsoft-com:office:spreadsheet"
_OF_OPEN_SHEETS = b"application/vnd.oasis.opendocument.spreadsheet"
_NAMING, _VALUES = ("name", "key", "field", "column"), ("value", "val")
"""Attributes by which elements of one name tell what they hold, and where it stands besides."""
_DIGITS = 6
_LOOKED_AT = 1 << 22  # bytes
_MOST_VALUES = 1000  # of one row


def xml_rows(path: Path, notes: list[str]) -> Iterator[Row]:
    """The rows under a header. notes: what was mended on the way. Raises InputError."""
    reading = Reading()
    head = read_head(path)
    if _OF_SHEETS in head or _OF_OPEN_SHEETS in head:
        for line, _, element in elements(path, frozenset({"Row", "table-row"}), reading):
            cells = _cells(element)
            yield line, cells if any(cells) else []
        notes += reading.notes
        return
    row = _row_of(path)
    found = (
        (line, _told(element)) for line, _, element in elements(path, frozenset({row}), reading)
    )
    yield from under_header(found)
    notes += reading.notes


def _cells(row: Any) -> list[str]:
    """The cells of a row of a spreadsheet; one may say at which place, from 1, it stands."""
    found: list[str] = []
    for cell in row:
        if local_name(cell.tag) not in {"Cell", "table-cell", "covered-table-cell"}:
            continue
        told = {local_name(name): value for name, value in cell.attrib.items()}
        again = told.get("number-columns-repeated", "")
        place = told.get("Index", "")
        if place.isdigit() and len(found) < int(place) <= MAX_COLUMNS:
            found += [""] * (int(place) - 1 - len(found))
        text = "".join(cell.itertext()).strip()
        link = told.get("HRef", "") or next(
            (v for a in cell.iter() for k, v in a.attrib.items() if local_name(k) == "href"), ""
        )
        text = link if looks_like_address(link) and not looks_like_address(text) else text
        times = int(again) if again.isdigit() and len(again) < _DIGITS else 1
        found += [text] * min(times, MAX_COLUMNS - len(found))
    while found and not found[-1]:
        found.pop()
    return found


def _row_of(path: Path) -> str:
    """The name of the element that is a row. Raises NoAddressesError where there is none."""
    from lxml import etree

    parser = etree.XMLPullParser(
        events=("start",), recover=True, resolve_entities=False, no_network=True, load_dtd=False,
        huge_tree=False, remove_comments=True, remove_pis=True,
    )  # fmt: skip
    with open_bytes(path) as file:
        parser.feed(file.read(_LOOKED_AT))
    root = next((element for _, element in parser.read_events()), None)
    rows: Counter[str] = Counter()  # elements with an address among their attributes
    leaves: Counter[str] = Counter()  # those that are an address
    within: dict[str, set[Any]] = {}
    parents: dict[str, str] = {}
    for element in root.iter() if root is not None else ():
        name = local_name(element.tag)
        if any(map(_is_address, element.attrib.values())):
            rows[name] += 1
        parent = element.getparent()
        if parent is not None and _is_address((element.text or "").strip()):
            within.setdefault(name, set()).add(parent)
            parents[name] = local_name(parent.tag)
            leaves[name] += 1
    if not rows and not leaves:
        raise NoAddressesError(
            f"{path} is an XML file that names no addresses", "export the list as CSV or text"
        )
    row, many = max(rows.items(), key=itemgetter(1), default=("", 0))
    leaf, more = max(leaves.items(), key=itemgetter(1), default=("", 0))
    if many > more:
        return row
    # Addresses that stand together in one element are rows; others are a cell of the element.
    return leaf if len(within[leaf]) * 2 < more else parents[leaf]


def _is_address(text: str) -> bool:
    amid_words = any(map(str.isspace, text)) and looks_like_address(text)
    return bool(text) and not amid_words and tells_address(text)


def _told(element: Any) -> dict[str, str]:
    """The values in an element, by their names."""
    found: dict[str, str] = {}
    many = Counter(local_name(inner.tag) for inner in element)
    for inner in element.iter():
        name = local_name(inner.tag)
        if not name or len(found) > _MOST_VALUES:
            continue
        told = {local_name(attribute): value for attribute, value in inner.attrib.items()}
        text = (inner.text or "").strip()
        if many[name] > 1 and (given := next((told[n] for n in _NAMING if told.get(n)), "")):
            found.setdefault(given, text or next((told[n] for n in _VALUES if n in told), ""))
            continue
        if text:
            found.setdefault(name, text)
        for own, value in told.items():
            found.setdefault(own if inner is element else f"{name}.{own}", value)
    return found
