"""Documents of word processors: their text and their tables as files of their own."""

from __future__ import annotations

import csv
import io
import re
import zipfile
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from upright_ledger.errors import InputError
from upright_ledger.formats.lists.xml_elements import local_name

_OPEN_TEXT = b"mimetypeapplication/vnd.oasis.opendocument.text"
_BODY, _LINKS, _OPEN_BODY = "word/document.xml", "word/_rels/document.xml.rels", "content.xml"
_MAX_BODY = 1 << 27  # bytes
_ADDRESS = re.compile(r"(?:https?://|www\.|/)\S+\Z", re.IGNORECASE)
_LINKED = re.compile(r"<((?:https?://|www\.|/)[^<>\s]+)>", re.IGNORECASE)
_FIELD = re.compile(r'\s*HYPERLINK\s+"([^"]+)"', re.IGNORECASE)
_PARAGRAPHS, _TABLES = frozenset({"p", "h"}), frozenset({"tbl", "table"})
_ROWS, _CELLS = frozenset({"tr", "table-row"}), frozenset({"tc", "table-cell"})
_DEEPEST = 100


def is_text_document(head: bytes) -> bool:
    """Whether a packed file begins as a document of a word processor does."""
    return b"word/" in head or _OPEN_TEXT in head


def parts_of_document(path: Path) -> Iterator[tuple[str, bytes]]:
    """Name and content: the text, a paragraph a line, and each table, its cells parted by tabs.
    Links stand behind their words, and in cells in their place. Raises InputError, BadZipFile.
    """
    with zipfile.ZipFile(path) as archive:
        names = set(archive.namelist())
        body = _tree(path, archive, _BODY if _BODY in names else _OPEN_BODY)
        links = _links(_tree(path, archive, _LINKS)) if _LINKS in names else {}
    lines: list[str] = []
    tables: list[Any] = []
    _read(body, links, lines, tables, 0)
    if not (any(map(str.strip, lines)) or tables):
        raise InputError(f"{path} is a document without text", "check that it is the right one")
    if any(map(str.strip, lines)):
        yield "text", "".join(f"{line}\n" for line in lines).encode()
    for number, table in enumerate(tables, 1):
        out = io.StringIO()
        csv.writer(out, delimiter="\t", lineterminator="\n").writerows(_rows(table, links))
        yield f"table {number}", out.getvalue().encode()


def _tree(path: Path, archive: zipfile.ZipFile, name: str) -> Any:
    from lxml import etree

    try:
        info = archive.getinfo(name)
    except KeyError:
        raise InputError(f"{path} is a document without text", "save it again") from None
    if info.file_size > _MAX_BODY:
        raise InputError(f"{path} is a document of over {_MAX_BODY >> 20} MB", "split it")
    parser = etree.XMLParser(
        resolve_entities=False, no_network=True, load_dtd=False, huge_tree=False,
        remove_comments=True, remove_pis=True,
    )  # fmt: skip
    try:
        return etree.fromstring(archive.read(info), parser)
    except etree.XMLSyntaxError as error:
        raise InputError(f"{path} is a damaged document: {error.msg}", "save it again") from None


def _told(element: Any, name: str) -> str:
    """An attribute, whatever its namespace."""
    return next((v for k, v in element.attrib.items() if local_name(k) == name), "")


def _links(tree: Any) -> dict[str, str]:
    return {_told(e, "Id"): _told(e, "Target") for e in tree if _told(e, "TargetMode")}


def _read(
    element: Any, links: dict[str, str], lines: list[str], tables: list[Any], depth: int
) -> None:
    """The paragraphs and the tables below an element, tables in tables left out."""
    for inner in element if depth < _DEEPEST else ():
        name = local_name(inner.tag)
        if name in _TABLES:
            tables.append(inner)
        elif name in _PARAGRAPHS:
            lines += _text_of(inner, links).split("\n")
        else:
            _read(inner, links, lines, tables, depth + 1)


def _rows(table: Any, links: dict[str, str]) -> Iterator[list[str]]:
    for row in table.iter():
        if local_name(row.tag) in _ROWS:
            yield [_cell(cell, links) for cell in row if local_name(cell.tag) in _CELLS]


def _cell(cell: Any, links: dict[str, str]) -> str:
    """What a cell says: the address of its link, where it has just one."""
    found = [_text_of(p, links) for p in cell.iter() if local_name(p.tag) in _PARAGRAPHS]
    words = " ".join(filter(None, map(str.strip, found))).replace("\n", " ")
    linked = _LINKED.findall(words)
    return linked[0] if len(linked) == 1 else words


def _text_of(element: Any, links: dict[str, str], depth: int = 0) -> str:
    """The words below an element, with the addresses to which they lead behind them."""
    name = local_name(element.tag)
    if name in _SAYS or depth > _DEEPEST:
        return _SAYS.get(name, "")
    if name == "t":
        return element.text or ""
    if name == "instrText":
        field = _FIELD.match(element.text or "")
        return f" <{field[1]}> " if field else ""
    own = name in _WITH_TEXT  # whose words stand between its elements
    said = [element.text or ""] if own else []
    for inner in element:
        said += [_text_of(inner, links, depth + 1), (inner.tail or "") if own else ""]
    words = "".join(said)
    target = links.get(_told(element, "id"), "") if name == "hyperlink" else _told(element, "href")
    if not _ADDRESS.match(target):
        return words
    return f" <{target}> " if _ADDRESS.match(words.strip()) else f"{words} <{target}> "


_SAYS = {"tab": " ", "s": " ", "br": "\n", "cr": "\n", "line-break": "\n", "Fallback": ""}
_WITH_TEXT = frozenset({"p", "h", "span", "a"})
