"""The text of a log as lines: whatever its encoding, and an object a line, however its objects are
laid out.
"""

from __future__ import annotations

import codecs
import io
import json
import re
from collections.abc import Iterator
from contextlib import contextmanager
from itertools import islice
from pathlib import Path
from typing import Any, BinaryIO

from upright_ledger.errors import InputError
from upright_ledger.formats.files.compressed import open_bytes
from upright_ledger.formats.files.text import check_encoding, encoding_of, guess_encoding
from upright_ledger.formats.logs.forms.json_lines import tells_request
from upright_ledger.formats.logs.forms.line_objects import named_in
from upright_ledger.formats.logs.record_texts import reader_of
from upright_ledger.formats.tables.rows.json_shapes import numbered_rows

_SAMPLE = 200  # lines
_MOST = 1 << 27  # bytes of a document that is read whole
_AS_IT_IS = frozenset(["ascii", "utf-8", "utf-8-sig"])
_FIRST = 5  # lines that tell whether objects have a line each
_DEEPEST = 3
_NEAR = 10_000  # characters before a list that an object holds
_AHEAD = 1 << 16  # characters
_BEGIN = re.compile(r'\s{0,100}(?:\[\s{0,100}\{|\{\s{0,100}")')


@contextmanager
def open_log(path: Path, head: bytes, encoding: str = "") -> Iterator[BinaryIO]:
    """The lines of a log in UTF-8. head: its first bytes; encoding: as a person names it. Raises
    InputError.
    """
    encoding = encoding_of(path, encoding) if encoding else guess_encoding(head)
    with open_bytes(path) as file:
        if encoding and codecs.lookup(encoding).name not in _AS_IT_IS:
            yield io.BufferedReader(_Recoded(file, encoding), 1 << 20)
        elif is_document(_decoded(head)):
            data = file.read(_MOST + 1)
            if len(data) > _MOST:
                raise InputError(
                    f"{path} has records over several lines, and more than {_MOST >> 20:,} MB",
                    "write it as JSON lines, an object a line",
                )
            lines = map(_line_of, records_in(data.decode("utf-8-sig", "replace")))
            yield io.BytesIO(b"".join(lines))
        else:
            yield file


def first_lines(head: bytes, encoding: str = "") -> list[str]:
    """The first lines of a log, those that are not empty. Raises InputError for an encoding nobody
    knows.
    """
    return sample_of(_decoded(head, encoding))


def sample_of(text: str) -> list[str]:
    """As `first_lines`, of a text that was decoded."""
    if is_document(text):
        told = islice(records_in(text), _SAMPLE)
        return [json.dumps(found) for found in told if isinstance(found, dict)]
    return [line for line in text.splitlines() if line.strip()][:_SAMPLE]


def _decoded(head: bytes, encoding: str = "") -> str:
    if encoding:
        check_encoding(encoding)
    return head.decode(encoding or guess_encoding(head) or "utf-8", "replace").lstrip("\ufeff")


def is_document(text: str) -> bool:
    """Whether a text holds records that do not have a line each: JSON as one array, or over many
    lines, or what a program printed or told in lines of their own.
    """
    if not _BEGIN.match(text):
        return reader_of(text) is not None
    lines = (line.strip().rstrip(",") for line in text[:_AHEAD].splitlines())
    told = [line for line in lines if line not in {"", "[", "]"}][:_FIRST]
    found = [whole for line in told if (whole := named_in(line)) is not None]
    return not found or (len(told) == 1 and _rows_in(found[0]) is not None)


def _rows_in(found: dict[str, Any]) -> list[dict[str, Any]] | None:
    """The objects that an object holds, where it is about these: in a list, or as the columns of a
    table.
    """
    if (rows := _list_in(found)) is not None:
        return rows
    if (columns := numbered_rows(found)) and all(map(tells_request, columns[:_FIRST])):
        return columns
    requests = [r for r in _lists_in(found) if all(map(tells_request, r[:_FIRST]))]
    own = {name: told for name, told in found.items() if not isinstance(told, dict | list)}
    return requests[0] if len(requests) == 1 and not tells_request(own) else None


def _lists_in(found: dict[str, Any], depth: int = 0) -> Iterator[list[dict[str, Any]]]:
    """The lists of objects in an object, and in those that it holds."""
    for told in found.values():
        if isinstance(told, list) and len(told) > 1 and all(isinstance(v, dict) for v in told):
            yield told
        elif isinstance(told, dict) and depth < _DEEPEST:
            yield from _lists_in(told, depth + 1)


def _list_in(found: dict[str, Any], depth: int = 0) -> list[dict[str, Any]] | None:
    """The objects that an object holds in a list, where these are what it is about."""
    inner = [v for v in found.values() if isinstance(v, list) and len(v) > 1]
    below = [v for v in found.values() if isinstance(v, dict)]
    if len(below) == 1 and not inner:
        return _list_in(below[0], depth + 1) if depth < _DEEPEST else None
    if len(inner) != 1 or not all(isinstance(v, dict) for v in inner[0]) or _are_pairs(inner[0]):
        return None
    # Beside it stands what the list is about, such as how many there are, but no object of a kind.
    return None if any(len(v) > _FEW for v in below) else inner[0]


def _are_pairs(told: list[dict[str, Any]]) -> bool:
    """Whether objects are names with their values, as headers are often told."""
    return all(len(pair) == _FEW and "value" in pair for pair in told)


_FEW = 2


def _line_of(told: dict[str, Any] | str) -> bytes:
    text = " ".join(told[:_LONGEST].split()) if isinstance(told, str) else json.dumps(told)
    return f"{text}\n".encode("utf-8", "backslashreplace")


_LONGEST = 2_000  # characters of what is damaged that are shown


def records_in(text: str) -> Iterator[dict[str, Any] | str]:
    """The records of a document; at last, as a text, what is damaged or cut off."""
    is_json = _BEGIN.match(text) and isinstance(next(objects_in(text), None), dict)
    reader = None if is_json else reader_of(text)
    return reader(text) if reader is not None else objects_in(text)


def objects_in(text: str) -> Iterator[dict[str, Any] | str]:
    """The objects of an array, of one below a name of an object, or one after the other; at last,
    as a text, what is damaged or cut off.
    """
    decode = json.JSONDecoder().raw_decode
    at, depth = 0, 0
    while at < len(text):
        sign = text[at]
        if sign.isspace() or sign in "[],":
            at += 1
            continue
        try:
            found, at = decode(text, at) if sign == "{" else (None, at)
        except (ValueError, RecursionError):
            found = None
            # Cut off: what it holds in a list may be whole.
            inner = text.find("[", at + 1)
            depth += 1
            if 0 <= inner < at + _NEAR and depth <= _DEEPEST:
                at = inner
                continue
        if found is None:
            yield text[at:]
            return
        if (several := _rows_in(found)) is not None:
            yield from several
        else:
            yield found
        if text[at : at + 2] == "]}":
            at += 2  # of the object around the list


class _Recoded(io.RawIOBase):
    """A file in another encoding, as UTF-8."""

    def __init__(self, file: BinaryIO, encoding: str) -> None:
        self._file = file
        self._decoder = codecs.getincrementaldecoder(encoding)("replace")
        self._waiting = b""

    def readable(self) -> bool:
        return True

    def readinto(self, buffer: Any) -> int:
        """Fill a buffer; see `io.RawIOBase`."""
        while not self._waiting:
            data = self._file.read(1 << 16)
            text = self._decoder.decode(data, final=not data)
            self._waiting = text.lstrip("\ufeff").encode("utf-8", "backslashreplace")
            if not data:
                break
        given = self._waiting[: len(buffer)]
        self._waiting = self._waiting[len(given) :]
        buffer[: len(given)] = given
        return len(given)
