"""Property lists, in XML or binary, which say what JSON says: bookmarks and saved links."""

from __future__ import annotations

import plistlib
from pathlib import Path
from typing import Any
from xml.parsers.expat import ExpatError

from upright_ledger.errors import InputError
from upright_ledger.formats.files.compressed import open_bytes, read_head

MAX_LIST = 1 << 27  # bytes
MAX_VALUES = 2_000_000
_BEGINS = (b"bplist00", b"<?xml", b"<!DOCTYPE plist", b"<plist")


def property_list(path: Path) -> Any:
    """What a property list holds; None for a file that is none. Raises InputError."""
    head = read_head(path).removeprefix(b"\xef\xbb\xbf").lstrip()
    if not head.startswith(_BEGINS):
        return None
    with open_bytes(path) as file:
        data = file.read(MAX_LIST + 1)
    if len(data) > MAX_LIST:
        raise InputError(f"{path} is a property list of over {MAX_LIST:,} bytes", "export a part")
    try:
        found = plistlib.loads(data.removeprefix(b"\xef\xbb\xbf").lstrip())
    except (ValueError, ExpatError, OverflowError, RecursionError, MemoryError, TypeError) as error:
        raise InputError(f"{path} is a damaged property list: {error}", "export it again") from None
    if not _is_bounded(found):
        raise InputError(
            f"{path} is a property list of over {MAX_VALUES:,} values", "export a part"
        )
    return found


def _is_bounded(value: Any) -> bool:
    """Whether a list can be gone through: in binary ones, what is written once may stand in many
    places, and even in itself.
    """
    left, seen = [value], 0
    while left:
        seen += 1
        if seen > MAX_VALUES:
            return False
        here = left.pop()
        left.extend(
            here.values() if isinstance(here, dict) else here if isinstance(here, list) else ()
        )
    return True
