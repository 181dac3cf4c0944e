"""Elements of XML files one after the other, as far as a file can be read: what is damaged is
mended, and said.
"""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Iterator
from html.entities import html5
from pathlib import Path
from typing import Any

from upright_ledger.errors import InputError
from upright_ledger.formats.files.compressed import open_bytes
from upright_ledger.formats.files.text import guess_encoding
from upright_ledger.formats.records import Reading

_BLOCK = 1 << 16  # bytes
_LONGEST_REFERENCE = 40  # bytes
_REFERENCE = re.compile(rb"&(?:#[0-9]{1,7};|#[xX][0-9A-Fa-f]{1,6};|([A-Za-z][A-Za-z0-9]{0,31});)?")
_OWN = frozenset([b"amp", b"lt", b"gt", b"quot", b"apos"])  # XML 1.0, section 4.6
_UNENDED = re.compile(rb"<(?![!?])(?=[^<>]*<)")
"""What begins a tag in which another begins."""
_MOST_UNENDED = 1_000
"""The parser looks for the end of each such tag up to the end of what it has."""
_CDATA = re.compile(rb"(<!\[CDATA\[|\]\]>)")
_PREFIX = re.compile(r"Namespace prefix (\S+) (?:on|for)")
_CUT_OFF = frozenset(
    [
        "ERR_TAG_NOT_FINISHED",
        "ERR_DOCUMENT_END",
        "ERR_GT_REQUIRED",
        "ERR_LTSLASH_REQUIRED",
        "ERR_CDATA_NOT_FINISHED",
        "ERR_ATTRIBUTE_NOT_FINISHED",
    ]
)


def local_name(tag: object) -> str:
    """The name of an element without its namespace, or its prefix where that was never declared;
    empty for comments.
    """
    return tag.rpartition("}")[2].rpartition(":")[2] if isinstance(tag, str) else ""


def elements(
    path: Path, wanted: frozenset[str], reading: Reading
) -> Iterator[tuple[int, str, Any]]:
    """Line, local name and element for each of the wanted elements. What was mended is noted in
    `reading`.

    Entities are not expanded and nothing is fetched. An element that the end of the file cuts off
    is left out: its address would be a wrong one. Raises InputError for a file without any wanted
    element.
    """
    from lxml import etree

    parser = etree.XMLPullParser(
        events=("end",), recover=True, resolve_entities=False, no_network=True, load_dtd=False,
        huge_tree=False,
        remove_comments=True,
    )  # fmt: skip
    mended: Counter[str] = Counter()
    count = 0
    try:
        with open_bytes(path) as file:
            for block in _mended(file, mended):
                parser.feed(block)
                for line, name, element in _ended(parser, wanted):
                    count += 1
                    yield line or count, name, element
        parser.close()
    except etree.XMLSyntaxError as error:
        if not count:
            raise InputError(f"{path} is damaged XML: {error.msg}", "fetch it again") from None
        mended["end"] += 1
    errors = list(parser.feed_error_log)
    # What ends only now was ended by the parser, not by the file.
    is_cut = (
        bool(mended["end"])
        or any(True for _ in _ended(parser, wanted))
        or any(e.type_name in _CUT_OFF for e in errors)
    )
    if not count:
        reason = f": {errors[0].message}" if errors else ""
        raise InputError(f"{path} names no addresses{reason}", "check that it is the right file")
    reading.notes += _in_words(mended, errors, is_cut=is_cut)


def _ended(parser: Any, wanted: frozenset[str]) -> Iterator[tuple[int, str, Any]]:
    """The wanted elements that have ended by now, each forgotten when the next is asked for."""
    for _, element in parser.read_events():
        name = local_name(element.tag)
        if name in wanted:
            yield int(element.sourceline or 0), name, element
            element.clear()
            while element.getprevious() is not None:
                del element.getparent()[0]


def _mended(file: Any, mended: Counter[str]) -> Iterator[bytes]:
    """The blocks of a file without what stands before its first "<", and with bare "&" escaped.

    That has to come before a parser recovers, which would turn "id=5&lang=en" into "id=5=en".
    """
    block = file.read(_BLOCK)
    if guess_encoding(block):
        while block:
            yield block
            block = file.read(_BLOCK)
        return
    begun = block.removeprefix(b"\xef\xbb\xbf").lstrip()
    mended["blanks before the beginning"] += int(
        begun[:1] == b"<" and block.removeprefix(b"\xef\xbb\xbf")[:1] != b"<"
    )
    block, rest, inside = begun, b"", False
    own = b"<!ENTITY" in block  # names of its own: they are left as they are
    while block or rest:
        following = file.read(_BLOCK)
        whole = rest + block
        cut = _safe_cut(whole) if following else len(whole)
        part, rest = whole[:cut], whole[cut:]
        pieces = _CDATA.split(part)
        for n, piece in enumerate(pieces):
            if n % 2:
                inside = piece != b"]]>"
            elif not inside:
                mended["unended"] += len(_UNENDED.findall(piece))
                text = _UNENDED.sub(b"&lt;", piece) if mended["unended"] > _MOST_UNENDED else piece
                pieces[n] = _REFERENCE.sub(lambda m: _reference(m, mended, own=own), text)
        yield b"".join(pieces)
        block = following
        if not following:
            return


def _safe_cut(data: bytes) -> int:
    """Where data may be cut without cutting a reference or a mark in two."""
    cut = len(data)
    if (at := data.rfind(b"&", max(0, cut - _LONGEST_REFERENCE))) >= 0:
        cut = at
    for mark in (b"<![CDATA[", b"]]>"):
        for length in range(len(mark) - 1, 0, -1):
            if data.endswith(mark[:length], 0, cut):
                return cut - length
    return cut


def _reference(match: re.Match[bytes], mended: Counter[str], *, own: bool) -> bytes:
    name = match[1]
    if name in _OWN or (name is None and len(match[0]) > 1) or (own and name is not None):
        return match[0]
    if name is not None and (text := html5.get(f"{name.decode()};")):
        mended["names of HTML"] += 1
        return "".join(f"&#{ord(c)};" for c in text).encode()
    mended["bare &"] += 1
    return b"&amp;" + match[0][1:]


def _in_words(mended: Counter[str], errors: list[Any], *, is_cut: bool) -> list[str]:
    """What was mended, a sentence each."""
    found = []
    if mended["blanks before the beginning"]:
        found.append("mended: blanks before its beginning were left out")
    if mended["bare &"]:
        found.append(f'mended: {mended["bare &"]:,} times a bare "&" was read as "&amp;"')
    if mended["unended"] > _MOST_UNENDED:
        found.append(f"mended: {mended['unended']:,} tags begin and never end: read as text")
    if mended["names of HTML"]:
        found.append(
            f"mended: {mended['names of HTML']:,} characters by their HTML names were read"
        )
    prefixes = sorted({m[1] for e in errors if (m := _PREFIX.search(e.message))})
    if prefixes:
        found.append(
            f"mended: the prefixes {', '.join(prefixes)} are nowhere declared, and were read all "
            "the same"
        )
    others = [e for e in errors if not _PREFIX.search(e.message) and e.type_name not in _CUT_OFF]
    if others:
        found.append(
            f"damaged at {len(others):,} places, the first in line {others[0].line:,} "
            f"({others[0].message}): what could be read was"
        )
    if is_cut:
        found.append("its end is missing: an address that was cut off there is left out")
    return found
