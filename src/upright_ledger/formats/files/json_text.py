"""JSON from outside: what is no JSON, or nested without end, is a ValueError, and all texts can be
kept and written.
"""

from __future__ import annotations

import json
import re
from typing import Any

_HALF = re.compile(r"\\u[Dd][89A-Fa-f]")
_HALVES = re.compile("[\ud800-\udfff]")


def read_json(text: str) -> Any:
    """The value of a JSON text. Raises ValueError.

    Half a character (a surrogate that stands alone, which RFC 8259 lets through and no encoding can
    hold) becomes U+FFFD, as it does wherever browsers read texts
    (https://infra.spec.whatwg.org/#javascript-string-convert).
    """
    try:
        found = json.loads(text)
        return _whole(found) if _HALF.search(text) else found
    except RecursionError:
        raise ValueError("it is nested too deeply") from None


def _whole(value: Any) -> Any:
    if isinstance(value, str):
        return _HALVES.sub("\ufffd", value)
    if isinstance(value, list):
        return [_whole(inner) for inner in value]
    if isinstance(value, dict):
        return {_whole(name): _whole(inner) for name, inner in value.items()}
    return value
