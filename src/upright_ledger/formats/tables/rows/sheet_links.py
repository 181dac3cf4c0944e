"""Links that lie behind the words of a workbook's cells (Office Open XML, ECMA-376)."""

from __future__ import annotations

import posixpath
import zipfile
from pathlib import Path
from typing import Any

from upright_ledger.formats.tables.meanings.address_cells import linked_address

_BLOCK = 1 << 20
_MARKS = (b"<hyperlink ", b":hyperlink ", b"HYPERLINK(")
_RELATION = "{http://schemas.openxmlformats.org/officeDocument/2006/relationships}id"
_WEB = ("http://", "https://")


def links_behind(path: Path, sheet: str) -> dict[tuple[int, int], str]:
    """Row and column, from 1 and from 0, → the web address behind that cell, as a link or as a
    formula for one; nothing for workbooks of other kinds.
    """
    if not zipfile.is_zipfile(path):
        return {}
    with zipfile.ZipFile(path) as book:
        name = _file_of(book, sheet)
        return _links(book, name) if name and _has_any(book, name) else {}


def _file_of(book: zipfile.ZipFile, sheet: str) -> str:
    """The file of a sheet within its workbook, or an empty text."""
    if "xl/workbook.xml" not in book.namelist():
        return ""
    told = _parsed(book, "xl/workbook.xml").iter("{*}sheet")
    number = next((s.get(_RELATION) for s in told if s.get("name") == sheet), None)
    return _targets(book, "xl/workbook.xml").get(number or "", "")


def _targets(book: zipfile.ZipFile, name: str) -> dict[str, str]:
    """What a file in a workbook refers to: number → a file beside it, or an address."""
    folder, _, last = name.rpartition("/")
    relations = f"{folder}/_rels/{last}.rels"
    if relations not in book.namelist():
        return {}
    found = {}
    for told in _parsed(book, relations).iter("{*}Relationship"):
        target = told.get("Target", "")
        if told.get("TargetMode") != "External":
            target = posixpath.normpath(posixpath.join("/", folder, target)).lstrip("/")
        found[told.get("Id", "")] = target
    return found


def _parsed(book: zipfile.ZipFile, name: str) -> Any:
    from lxml import etree

    with book.open(name) as file:
        return etree.parse(file, _parser()).getroot()


def _parser() -> Any:
    from lxml import etree

    return etree.XMLParser(resolve_entities=False, no_network=True, load_dtd=False, recover=True)


def _has_any(book: zipfile.ZipFile, name: str) -> bool:
    if name not in book.namelist():
        return False
    rest = b""
    with book.open(name) as file:
        while block := file.read(_BLOCK):
            if any(mark in rest + block for mark in _MARKS):
                return True
            rest = block[-32:]
    return False


def _links(book: zipfile.ZipFile, name: str) -> dict[tuple[int, int], str]:
    from lxml import etree

    targets = _targets(book, name)
    found: dict[tuple[int, int], str] = {}
    with book.open(name) as file:
        wanted = ("{*}c", "{*}hyperlink")
        quiet = {"resolve_entities": False, "no_network": True, "load_dtd": False}
        for _, element in etree.iterparse(file, tag=wanted, recover=True, **quiet):
            place = element.get("r") or element.get("ref", "").partition(":")[0]
            formula = element.findtext("{*}f") or ""
            address = (
                targets.get(element.get(_RELATION, ""), "")
                if not formula
                else linked_address(f"={formula}")
            )
            if address.startswith(_WEB) and place:
                found[_place(place)] = address
            element.clear()
    return found


def _place(reference: str) -> tuple[int, int]:
    letters = reference.rstrip("0123456789")
    column = 0
    for letter in letters:
        column = column * 26 + ord(letter.upper()) - 64
    return int(reference[len(letters) :] or 0), column - 1
