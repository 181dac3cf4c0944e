"""Blocks of JSON objects, one a line, as the places of their values; nothing is decoded.

A string runs from quote to quote, and is a name where a colon follows. What is left of a line
without its values is its outline: lines of one outline have their values in the same order.
"""

from __future__ import annotations

from typing import Any, NamedTuple

import numpy as np
import pyarrow.compute as pc

from upright_ledger.formats.files.text import MAX_LINE
from upright_ledger.formats.logs.columns.day_column import slices_of
from upright_ledger.formats.logs.line_blocks import LINE_BREAK, RETURN, Bytes, Places

_QUOTE, _COLON, _BACKSLASH, _BLANK, _NOUGHT = 34, 58, 92, 32, 48
_FIGURE, _ODD = 1, 2
_SIGNS = bytes(
    _FIGURE
    if byte in b"0123456789.+-"
    else _ODD * (byte == _BACKSLASH or (byte < _BLANK and byte not in {LINE_BREAK, RETURN}))
    for byte in range(256)
)
"""What numbers consist of; and backslashes, and what no string holds bare."""
_NUMBER = r"^-?(?:0|[1-9][0-9]*)(?:\.[0-9]+)?$"


class Runs(NamedTuple):
    """Values of one kind, in their order: where each begins and ends. first: of each line (and one
    more), the number of its first.
    """

    starts: Places
    ends: Places
    first: Places

    def of(self, data: Bytes, rows: Places, number: int) -> Any:
        """The value of this number of each of these lines, as a column."""
        at = self.first[rows] + number
        return slices_of(data, self.starts[at], self.ends[at])

    def length_before(self) -> Places:
        """Of each line, and one more, the bytes of all values before it."""
        found: Places = np.r_[0, np.cumsum(self.ends - self.starts)][self.first]
        return found


class Tokens(NamedTuple):
    """The lines of a block. lines: which of them are objects whose values stand bare; outlines: of
    these, as an Arrow dictionary array. texts: values that are strings, numbers: those that are
    numbers; of all lines, though what stands in others means nothing.
    """

    lines: Places
    outlines: Any
    texts: Runs
    numbers: Runs


def tokens_of(data: Bytes, breaks: Places) -> Tokens:
    """The values of a block of UTF-8. breaks: where its line breaks are."""
    starts = np.r_[0, breaks[:-1] + 1]
    # As bytes: NumPy takes eight times as long to look single bytes up.
    signs = np.frombuffer(data.tobytes().translate(_SIGNS), np.uint8)
    quotes = np.flatnonzero(data == _QUOTE)
    per_line = np.diff(np.searchsorted(quotes, breaks), prepend=0)
    sound = (per_line > 0) & (per_line % 2 == 0) & (breaks - starts <= MAX_LINE)
    sound[np.searchsorted(breaks, np.flatnonzero(signs == _ODD))] = False
    quotes = quotes[np.repeat(sound, per_line)]
    opens, closes = quotes[0::2], quotes[1::2]
    is_value = data.take(closes + 1) != _COLON
    within = _between(opens, closes + 1, len(data))
    of_numbers = (signs == _FIGURE) & ~within
    # The last byte is a line break, and a line begins after the break before it.
    edges = np.flatnonzero(of_numbers[1:] != of_numbers[:-1]) + 1
    edges = np.r_[0, edges] if of_numbers[0] else edges
    numbers = _runs(edges[0::2], edges[1::2], breaks)
    texts = _runs(opens[is_value] + 1, closes[is_value], breaks)
    wrong = pc.match_substring_regex(slices_of(data, numbers.starts, numbers.ends), _NUMBER)
    at = np.flatnonzero(~wrong.to_numpy(zero_copy_only=False))
    sound[np.searchsorted(breaks, numbers.starts[at])] = False
    lines = np.flatnonzero(sound)
    # A sign stands for each number: else a list of one would look as an empty one does.
    held = _between(texts.starts, texts.ends, len(data)) | of_numbers
    held[numbers.starts] = False
    bare = np.where(of_numbers, np.uint8(_NOUGHT), data)[~held]
    cut = np.r_[starts, len(data)] - texts.length_before() - numbers.length_before() + numbers.first
    outlines = slices_of(bare, cut[lines], cut[lines + 1]).dictionary_encode()
    return Tokens(lines, outlines, texts, numbers)


def _runs(starts: Places, ends: Places, breaks: Places) -> Runs:
    return Runs(starts, ends, np.r_[0, np.searchsorted(starts, breaks)])


def _between(starts: Places, ends: Places, length: int) -> Any:
    """Which bytes lie from these places up to those."""
    steps = np.zeros(length + 1, np.int8)
    steps[starts] = 1
    steps[ends] -= 1
    return np.cumsum(steps[:-1], dtype=np.int8).view(np.bool_)
