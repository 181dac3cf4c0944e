"""The object that a line of a log is, or that stands behind words and a time in it: as JSON, or as
a program prints it.
"""

from __future__ import annotations

import re
from contextlib import suppress
from json import JSONDecoder
from typing import Any

from msgspec import MsgspecError
from msgspec.json import decode

from upright_ledger.formats.files.json_text import read_json
from upright_ledger.formats.files.loose_objects import loose_begin, loose_object
from upright_ledger.formats.logs.log_line import NotALineError
from upright_ledger.formats.logs.meanings.log_times import times_in


def object_of(line: str) -> dict[str, Any] | None:
    """The object that a line is; None where it is blank. Raises NotALineError."""
    try:
        found = decode(line)  # several times as quick, and stricter
    except (MsgspecError, RecursionError):
        if not line.strip() or line.strip() in {"[", "]"}:
            return None
        try:
            found = _object_in(line)
        except ValueError:
            raise NotALineError("it is no JSON object") from None
    if not isinstance(found, dict):
        raise NotALineError("it is no JSON object")
    return found


def _object_in(line: str) -> Any:
    """What a line holds: a value, perhaps of an array, or an object behind words and a time, as
    JSON or as a program prints it. Raises ValueError.
    """
    text = line.strip().rstrip(",")
    if text[:1] in _OPENING:
        with suppress(ValueError):
            return read_json(text)
    at = _begin_in(text)
    if at < 0:
        raise ValueError("it holds no object")
    found, end = _object_at(text, at)
    if not _BEHIND.fullmatch(text, end):
        raise ValueError("there is more behind an object")
    moments = times_in(text[:at])
    written = {BEFORE: text[moments[0].at : at]} if moments else {}
    return {**found, **written}


_OPENING = ("{", "[", '"')
_BEHIND = re.compile(r"(?:\s*[\[{].*[\]}])?\s*", re.DOTALL)
"""What may stand behind an object: further ones."""


def _begin_in(text: str) -> int:
    """Where an object begins, or -1."""
    begins = [at for at in (text.find('{"'), loose_begin(text)) if at >= 0]
    return min(begins, default=-1)


def _object_at(text: str, at: int) -> tuple[dict[str, Any], int]:
    """The object that begins there, and where it ends. Raises ValueError."""
    if text.startswith('{"', at):
        with suppress(ValueError, RecursionError):
            _, end = _DECODER.raw_decode(text, at)
            return read_json(text[at:end]), end
    return loose_object(text, at)


_DECODER = JSONDecoder()


def named_in(line: str) -> dict[str, Any] | None:
    """The object that a line holds; None where it holds none."""
    try:
        found = _object_in(line)
    except ValueError:
        return None
    return found if isinstance(found, dict) else None


BEFORE = "timestamp before"
"""Where the time stands that was written before an object; a name that nobody gives."""


def is_object(line: str) -> bool:
    """Whether a line looks like one that holds an object."""
    text = line.strip()
    return text.startswith("{") or (text[-1:] in {"}", "]"} and _begin_in(text) >= 0)
