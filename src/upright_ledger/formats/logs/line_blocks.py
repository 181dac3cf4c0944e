"""Blocks of whole lines, and the digests of their lines."""

from __future__ import annotations

import re
from codecs import BOM_UTF8
from collections.abc import Iterator
from typing import BinaryIO

import numpy as np
import numpy.typing as npt
from xxhash import xxh3_64_intdigest

from upright_ledger.formats.files.padding import without_filling
from upright_ledger.formats.files.text import MAX_LINE

Bytes = npt.NDArray[np.uint8]
Places = npt.NDArray[np.int64]

BLOCK = 8 << 20
_NUL = re.compile(rb"\0")
LINE_BREAK, RETURN, TAB, ZERO, LAST_ASCII = 10, 13, 9, 48, 127

DIGEST = "xxh3-64"
"""How lines are told apart for good: XXH3, 64 bits, seed 0, as its specification fixes it."""


class Lines:
    """The lines of one block. data: their bytes, each line with its break; ends: where the breaks
    are.
    """

    def __init__(self, data: Bytes, ends: Places | None = None) -> None:
        self.data = data
        self.ends = np.flatnonzero(data == LINE_BREAK) if ends is None else ends

    def text(self, at: int) -> str:
        """One line, without its break. Bytes that are no UTF-8 are spelled out as \\xHH, as servers
        do.
        """
        start = int(self.ends[at - 1]) + 1 if at else 0
        return spelled_out(self.data[start : self.ends[at]].tobytes()).decode().rstrip("\r")

    def texts(self) -> list[str]:
        """All lines, as `text` gives each."""
        whole = spelled_out(self.data.tobytes()).decode()
        return [line.rstrip("\r") for line in whole.split("\n")[: len(self.ends)]]

    def digests(self) -> npt.NDArray[np.uint64]:
        """The digest of each line (`digest_of_line`), without its break."""
        ends = self.ends - (
            (self.data.take(np.maximum(self.ends - 1, 0)) == RETURN)
            & (np.diff(self.ends, prepend=-1) > 1)
        )
        starts = np.r_[0, self.ends[:-1] + 1]
        view = memoryview(self.data.data)
        found = (
            xxh3_64_intdigest(view[start:end])
            for start, end in zip(starts.tolist(), ends.tolist(), strict=True)
        )
        return np.fromiter(found, np.uint64, len(ends))


class Buffers:
    """Memory for blocks, used again and again: a fresh block costs more than reading it."""

    def __init__(self) -> None:
        self._free: list[Bytes] = []

    def take(self) -> Bytes:
        return self._free.pop() if self._free else np.empty(BLOCK + MAX_LINE + 2, np.uint8)

    def give_back(self, block: Bytes) -> None:
        """Take back the memory of a block that nobody reads any more."""
        if block.base is not None:
            self._free.append(block.base)


def line_blocks(file: BinaryIO, buffers: Buffers) -> Iterator[Bytes]:
    """The bytes of a file, block by block, each of whole lines that end in a line feed, whatever
    they ended in.

    A line longer than MAX_LINE is cut to a few bytes more.
    """
    carry = np.empty(0, np.uint8)
    begun = False
    while True:
        data = buffers.take()
        data[: len(carry)] = carry
        count = file.readinto(data[len(carry) : len(carry) + BLOCK])  # type: ignore[attr-defined]
        if not count:
            break
        if not begun and data[: len(BOM_UTF8)].tobytes() == BOM_UTF8:
            count -= len(BOM_UTF8)
            data[:count] = data[len(BOM_UTF8) : len(BOM_UTF8) + count].copy()
        begun = True
        count += len(carry)
        _end_lines_at_returns(data[:count])
        cut = _after_last_break(data[:count])
        rest = data[cut:count]
        carry = rest[: MAX_LINE + 1].copy()
        if len(rest) > len(carry) and rest[-1] == RETURN:  # it may end the line
            carry = np.append(carry, rest[-1])
        if cut and _NUL.search(data[:cut].data):
            yield np.frombuffer(without_filling(data[:cut].tobytes()), np.uint8).copy()
        elif cut:
            yield data[:cut]
    if len(carry):
        yield np.append(carry, np.uint8(LINE_BREAK))


def _end_lines_at_returns(data: Bytes) -> None:
    """Put a line feed for each carriage return that ends a line alone. One at the very end may
    belong to a line feed to come.
    """
    returns = np.flatnonzero(data[:-1] == RETURN)
    data[returns[data[returns + 1] != LINE_BREAK]] = LINE_BREAK


def _after_last_break(data: Bytes) -> int:
    """Where the unfinished last line begins."""
    step = 1 << 16
    for start in range((len(data) - 1) // step * step, -1, -step):
        breaks = np.flatnonzero(data[start : start + step] == LINE_BREAK)
        if len(breaks):
            return start + int(breaks[-1]) + 1
    return 0


def as_utf8(block: Bytes) -> Bytes:
    """A block whose bytes are all letters of UTF-8, others spelled out."""
    if block.max() > LAST_ASCII or block.min() < TAB:
        return np.frombuffer(spelled_out(block.tobytes()), np.uint8)
    return block


def spelled_out(data: bytes) -> bytes:
    """Bytes as UTF-8; those that are none, and control characters, are spelled out."""
    text = data.decode("utf-8", "surrogateescape").encode("utf-8", "backslashreplace")
    text = text.replace(b"\\udc", b"\\x")
    for control in range(TAB):
        text = text.replace(bytes([control]), b"\\x%02x" % control)
    return text
