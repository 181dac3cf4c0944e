"""In which encoding a table is that is not in UTF-8, and does not say: the one in which its
headings are words that are known.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from itertools import islice
from pathlib import Path

from upright_ledger.formats.files.compressed import read_head
from upright_ledger.formats.files.text import USUAL
from upright_ledger.formats.tables.column_names import is_known_name

_ENCODINGS = (
    "cp1250", "cp1251", "cp1253", "cp1254", "cp1255", "cp1256", "cp1257", "cp1258", "cp874",
    "cp932", "gb18030", "big5", "cp949", "euc_jp", "koi8_r", "iso8859_2", "iso8859_5",
    "iso8859_7", "iso8859_9", "mac_roman", "cp850", "cp852", "cp866",
)  # fmt: skip
"""Those of Windows, of the office programs of other systems, and of older ones."""
_ROWS = 20
_CELLS = re.compile(rb"[,;\t|^~]")


def encoding_of_headings(path: Path) -> str:
    """The encoding, as Python calls it; empty where the headings are as well read as Windows-1252:
    in ASCII, or unknown.
    """
    cells = [*_cells(read_head(path))]
    found = {name: sum(_is_known(cell, name) for cell in cells) for name in (USUAL, *_ENCODINGS)}
    best = max(found, key=lambda name: found[name])
    return best if found[best] > found[USUAL] else ""


def _cells(head: bytes) -> Iterator[bytes]:
    """What stands in the first rows beyond ASCII."""
    for line in islice(re.split(rb"[\r\n]+", head), _ROWS):
        yield from (cell for cell in _CELLS.split(line) if not cell.isascii())


def _is_known(cell: bytes, encoding: str) -> bool:
    try:
        return is_known_name(cell.decode(encoding))
    except UnicodeDecodeError:
        return False
