"""Sketches: of all runs of three words of a text, the few whose digests are smallest.

Two texts keep the same runs of what they have in common, so that sketches of some hundred bytes
tell how much of it there is (A. Broder, On the resemblance and containment of documents, 1997).
"""

from __future__ import annotations

import base64
import binascii
import re
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
_WORDS = re.compile(r"[^\W_]+")
_UNDIVIDED = r"\u0e00-\u0eff\u1000-\u109f\u1780-\u17ff\u3040-\u30ff\u3400-\u9fff\uac00-\ud7af"
_LETTERS = re.compile(rf"[{_UNDIVIDED}]|[^\W_{_UNDIVIDED}]+")
_HAS_UNDIVIDED = re.compile(rf"[{_UNDIVIDED}]")
_FACTORS = (0x9E3779B97F4A7C15, 0xC2B2AE3D27D4EB4F, 0x165667B19E3779F9)

Sketch = str
"""Ascending digests of 32 bits, little end first, in base 64; empty for a text too short to tell
pages apart.
"""


def sketch_of(text: str) -> Sketch:
    """The sketch of a text. Letter case, punctuation and blanks make no difference."""
    import numpy as np  # where no pages are read, nobody waits for it

    text = text[:_MOST_LETTERS].lower()
    # Where no blanks divide words each letter counts as one.
    divided = text.isascii() or not _HAS_UNDIVIDED.search(text)
    words = (_WORDS if divided else _LETTERS).findall(text)[:_MOST_WORDS]
    if len(words) < _RUN + _FEWEST - 1:
        return ""
    each = np.array([crc32(w.encode("utf-8", "replace")) for w in words], np.uint64)
    runs = np.zeros(len(words) - _RUN + 1, np.uint64)
    for place, factor in enumerate(_FACTORS):
        runs += each[place : place + len(runs)] * np.uint64(factor)
    # The last steps of splitmix64: each bit of the result depends on all.
    runs = (runs ^ (runs >> np.uint64(30))) * np.uint64(0xBF58476D1CE4E5B9)
    runs = (runs ^ (runs >> np.uint64(27))) * np.uint64(0x94D049BB133111EB)
    found = np.unique((runs ^ (runs >> np.uint64(31))) >> np.uint64(32))
    if len(found) < _FEWEST:
        return ""
    return base64.b64encode(found[:KEPT].astype("<u4").tobytes()).decode("ascii")


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
