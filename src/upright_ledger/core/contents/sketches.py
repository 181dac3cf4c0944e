"""Sketches: of all runs of three words of a text, the few whose digests are smallest.

Two texts keep the same runs of what they have in common, so that sketches of some hundred bytes
tell how much of it there is (A. Broder, On the resemblance and containment of documents, 1997).
"""

from __future__ import annotations

import base64
import binascii
import re
from functools import lru_cache
from typing import TYPE_CHECKING
from zlib import crc32

if TYPE_CHECKING:
    import numpy as np
    import numpy.typing as npt

KEPT = 64
"""Digests of a sketch, of 32 bits each."""

_RUN = 3  # words
_FEWEST = 12  # runs; shorter texts tell no pages apart
_MOST_LETTERS, _MOST_WORDS = 200_000, 20_000  # of one text
_ASCII_WORDS = re.compile(rb"[a-z0-9]+")
_WORDS = re.compile(r"[^\W_]+")
_UNDIVIDED = r"\u0e00-\u0eff\u1000-\u109f\u1780-\u17ff\u3040-\u30ff\u3400-\u9fff\uac00-\ud7af"
_LETTERS = re.compile(rf"[{_UNDIVIDED}]|[^\W_{_UNDIVIDED}]+")
_HAS_UNDIVIDED = re.compile(rf"[{_UNDIVIDED}]")

Sketch = str
"""Ascending digests of 32 bits, little end first, in base 64; empty for a text too short to tell
pages apart.
"""


def sketch_of(text: str) -> Sketch:
    """The sketch of a text. Letter case, punctuation and blanks make no difference."""
    words = _words_of(text[:_MOST_LETTERS].lower())[:_MOST_WORDS]
    if len(words) < _RUN + _FEWEST - 1:
        return ""
    import numpy as np  # where no pages are read, nobody waits for it

    first, second, third, mixed, half = _factors()
    each = np.fromiter(map(crc32, words), np.uint64, len(words))
    runs = each[:-2] * first
    runs += each[1:-1] * second
    runs += each[2:] * third
    # Each bit of the upper half depends on all.
    runs ^= runs >> half
    runs *= mixed
    runs >>= half
    runs.sort()
    own = np.ones(len(runs), bool)
    np.not_equal(runs[1:], runs[:-1], out=own[1:])
    found = runs[own]
    if len(found) < _FEWEST:
        return ""
    return base64.b64encode(found[:KEPT].astype("<u4").tobytes()).decode("ascii")


def _words_of(text: str) -> list[bytes]:
    if text.isascii():
        return _ASCII_WORDS.findall(text.encode("ascii"))
    # Where no blanks divide words each letter counts as one.
    words = (_LETTERS if _HAS_UNDIVIDED.search(text) else _WORDS).findall(text)
    return [word.encode("utf-8", "replace") for word in words]


@lru_cache(maxsize=1)
def _factors() -> tuple[np.uint64, ...]:
    """Those of the three words of a run, and of the mixing behind; odd numbers drawn once."""
    import numpy as np

    return (
        np.uint64(0x9E3779B97F4A7C15), np.uint64(0xC2B2AE3D27D4EB4F),
        np.uint64(0x165667B19E3779F9), np.uint64(0xBF58476D1CE4E5B9), np.uint64(32),
    )  # fmt: skip


def digests_of(sketch: Sketch) -> npt.NDArray[np.uint32]:
    """The digests of a sketch; none of what is no sketch."""
    import numpy as np

    try:
        body = base64.b64decode(sketch, validate=True)
    except binascii.Error:
        body = b""
    if len(body) % 4 or len(body) > 4 * KEPT:
        body = b""
    return np.frombuffer(body, "<u4").astype(np.uint32)
