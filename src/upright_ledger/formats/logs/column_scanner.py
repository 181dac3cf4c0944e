"""Scanning logs: blocks of lines taken apart as columns, many thousands at a time, on all cores.

A line of the Common or Combined Log Format comes apart at its quotes: client and time, request, status and size, referrer,
agent. The quotes of a whole block are found at once; the day and the status stand at fixed places beside them.
"""

from __future__ import annotations

import os
import threading
from collections import deque
from collections.abc import Iterable, Iterator, Mapping, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from dataclasses import dataclass, replace
from itertools import chain, pairwise
from typing import Any, BinaryIO

import numpy as np
import numpy.typing as npt
from xxhash import xxh3_64_intdigest

from upright_ledger.core.monitoring.deploy_days import Split, label_of, split_days
from upright_ledger.formats.files.text import MAX_LINE

Bytes = npt.NDArray[np.uint8]
Places = npt.NDArray[np.int64]
Mask = npt.NDArray[np.bool_]

BLOCK = 8 << 20
_TOGETHER = 12  # blocks
_LINE_BREAK, _RETURN, _QUOTE, _BLANK, _BACKSLASH, _OPEN, _CLOSE, _ZERO, _NINE = 10, 13, 34, 32, 92, 91, 93, 48, 9
_TAB = 9
_LAST_ASCII = 127
_TIME_LENGTH = 28  # "03/May/2026:10:00:00 +0000] "
_DAY_LENGTH = 11
COMMON_QUOTES, COMBINED_QUOTES = 2, 6
DIGEST = "xxh3-64"
"""How lines are told apart for good: XXH3, 64 bits, seed 0, as its specification fixes it."""


class Lines:
    """The lines of one block. data: their bytes, each line with its break; ends: where the breaks are."""

    def __init__(self, data: Bytes, ends: Places | None = None) -> None:
        self.data = data
        self.ends = np.flatnonzero(data == _LINE_BREAK) if ends is None else ends

    def text(self, at: int) -> str:
        """One line, without its break. Bytes that are no UTF-8 are spelled out as \\xHH, as servers do."""
        start = int(self.ends[at - 1]) + 1 if at else 0
        return _plain(self.data[start : self.ends[at]].tobytes()).decode().rstrip("\r")

    def digests(self) -> npt.NDArray[np.uint64]:
        """The digest of each line (`digest_of_line`), without its break."""
        ends = self.ends - (
            (self.data.take(np.maximum(self.ends - 1, 0)) == _RETURN) & (np.diff(self.ends, prepend=-1) > 1)
        )
        starts = np.r_[0, self.ends[:-1] + 1]
        view = memoryview(self.data.data)
        found = (xxh3_64_intdigest(view[start:end]) for start, end in zip(starts.tolist(), ends.tolist(), strict=True))
        return np.fromiter(found, np.uint64, len(ends))


@dataclass(frozen=True, slots=True)
class Columns:
    """What the lines of a block say. All but `odd` have one value a line that came apart.

    number, digest (64 bits), status: integers. request, day, agent, referrer: Arrow dictionary arrays. odd: the other lines,
    as (number, digest, line).
    """

    number: Places
    digest: npt.NDArray[np.uint64]
    request: Any
    status: Places
    day: Any
    agent: Any
    referrer: Any
    odd: Sequence[tuple[int, int, str]] = ()

    def numbered_from(self, number: int) -> Columns:
        """The same columns, their lines numbered from there instead of 0."""
        odd = [(at + number, digest, line) for at, digest, line in self.odd]
        return replace(self, number=self.number + number, odd=odd)


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
    """The bytes of a file, block by block, each of whole lines that end in a line feed, whatever they ended in.

    A line longer than MAX_LINE is cut to a few bytes more.
    """
    carry = np.empty(0, np.uint8)
    while True:
        data = buffers.take()
        data[: len(carry)] = carry
        count = file.readinto(data[len(carry) : len(carry) + BLOCK])  # type: ignore[attr-defined]
        if not count:
            break
        count += len(carry)
        _end_lines_at_returns(data[:count])
        cut = _after_last_break(data[:count])
        carry = data[cut:count][: MAX_LINE + 1].copy()
        if cut:
            yield data[:cut]
    if len(carry):
        yield np.append(carry, np.uint8(_LINE_BREAK))


def _end_lines_at_returns(data: Bytes) -> None:
    """Put a line feed for each carriage return that ends a line alone. One at the very end may belong to a line feed to come."""
    returns = np.flatnonzero(data[:-1] == _RETURN)
    data[returns[data[returns + 1] != _LINE_BREAK]] = _LINE_BREAK


def _after_last_break(data: Bytes) -> int:
    """Where the unfinished last line begins."""
    step = 1 << 16
    for start in range((len(data) - 1) // step * step, -1, -step):
        breaks = np.flatnonzero(data[start : start + step] == _LINE_BREAK)
        if len(breaks):
            return start + int(breaks[-1]) + 1
    return 0


class Scanner:
    """Takes blocks apart on several threads. with_hosts: the first word of a line is a host, and is put before its
    request. quotes: how many a line of this log has; lines with two are of the Common Log Format.

    noise: kind → names (a regular expression) of parameters that tell nothing of the page; requests come without them,
    with the sign of that kind (see `sign_of`) in the place of each run. splits: where days are taken apart.
    """

    def __init__(
        self, *, with_hosts: bool, quotes: int, noise: Mapping[str, str], splits: Sequence[Split] = ()
    ) -> None:
        self._with_hosts = with_hosts
        self._quotes = quotes
        self._splits = splits
        self._noise = [(sign_of(number), names) for number, names in enumerate(noise.values())]
        self._local = threading.local()

    def scan(self, file: BinaryIO) -> Iterator[Columns]:
        """The columns of a file's lines, in their order, those of several blocks together."""
        found: list[Columns] = []
        number = 1
        for columns, lines in self._each(file):
            found.append(columns.numbered_from(number))
            number += lines
            if len(found) == _TOGETHER:
                yield _together(found)
                found = []
        if found:
            yield _together(found)

    def _each(self, file: BinaryIO) -> Iterator[tuple[Columns, int]]:
        """The columns of each block, its lines numbered from 0, and how many they are."""
        workers = max(1, min(4, os.cpu_count() or 1))
        waiting: deque[Future[tuple[Columns, int]]] = deque()
        buffers = Buffers()

        def take_apart(block: Bytes) -> tuple[Columns, int]:
            found = self._take_apart(block)
            buffers.give_back(block)
            return found

        with ThreadPoolExecutor(workers) as pool:
            try:
                for block in line_blocks(file, buffers):
                    waiting.append(pool.submit(take_apart, block))
                    if len(waiting) > workers:
                        yield waiting.popleft().result()
                while waiting:
                    yield waiting.popleft().result()
            finally:
                for future in waiting:
                    future.cancel()

    def _take_apart(self, data: Bytes) -> tuple[Columns, int]:
        if data.max() > _LAST_ASCII or data.min() < _TAB:
            data = np.frombuffer(_plain(data.tobytes()), np.uint8)
        marks = self._marks(data)
        last = np.flatnonzero(data.take(marks) == _LINE_BREAK)  # of each line's marks
        ends, count = marks.take(last), np.diff(last, prepend=-1) - 1
        lines = Lines(data, ends)
        digests = lines.digests()
        rows = np.flatnonzero((count == self._quotes) | (count == COMMON_QUOTES))
        first = (last - count)[rows]
        sound = self._fits(data, marks, first, count[rows], rows, ends)
        rows, first = rows[sound], first[sound]
        odd = np.ones(len(ends), bool)
        odd[rows] = False
        opened, closed = marks.take(first), marks.take(first + 1)
        request = _slices(data, opened + 1, closed)
        if self._with_hosts:
            request = self._hosts_before(data, ends, rows, request)
        combined = count[rows] >= COMBINED_QUOTES
        referrer, agent = (self._quoted(data, marks, first, combined, at) for at in (2, 4))
        hundreds, tens, ones = (data.take(closed + at).astype(np.int64) - _ZERO for at in (2, 3, 4))
        columns = Columns(
            rows,
            digests[rows],
            self._without_noise(request.dictionary_encode()),
            100 * hundreds + 10 * tens + ones,
            _taken_apart(_days(data, opened), data, opened, self._splits),
            agent,
            referrer,
            [(at, int(digests[at]), lines.text(at)) for at in np.flatnonzero(odd).tolist()],
        )
        return columns, len(ends)

    def _marks(self, data: Bytes) -> Places:
        """Where quotes and line breaks are, in one array: a line's marks are its quotes and its break."""
        scratch = getattr(self._local, "scratch", None)
        if scratch is None or scratch.shape[1] < len(data):
            scratch = self._local.scratch = np.empty((2, len(data) + MAX_LINE), bool)
        quotes, breaks = scratch[:, : len(data)]
        np.equal(data, _QUOTE, out=quotes)
        np.equal(data, _LINE_BREAK, out=breaks)
        np.logical_or(quotes, breaks, out=quotes)
        return np.flatnonzero(quotes)

    @staticmethod
    def _fits(data: Bytes, marks: Places, first: Places, count: Places, rows: Places, ends: Places) -> Mask:
        """Which lines have their parts where they belong; an escaped quote is no end of a part."""
        opened, closed = marks.take(first), marks.take(first + 1)
        starts = np.where(rows > 0, ends[rows - 1] + 1, 0)
        fits: Mask = (opened - starts > _TIME_LENGTH + 1) & (ends[rows] - starts <= MAX_LINE)
        likely = np.flatnonzero(fits & (closed + 5 <= ends[rows]))
        opened, closed, first, count = opened[likely], closed[likely], first[likely], count[likely]
        sound: Mask = (data.take(opened - 1) == _BLANK) & (data.take(opened - 2) == _CLOSE)
        sound &= data.take(opened - _TIME_LENGTH - 1) == _OPEN
        sound &= (data.take(closed - 1) != _BACKSLASH) & (data.take(closed + 1) == _BLANK)
        for at in (2, 3, 4):
            sound &= data.take(closed + at) - np.uint8(_ZERO) <= _NINE
        after = data.take(closed + 5)
        sound &= (after == _BLANK) | (after == _LINE_BREAK)
        combined = np.flatnonzero(count >= COMBINED_QUOTES)
        if len(combined):
            third, fourth, fifth, sixth = (marks.take(first.take(combined) + at) for at in (2, 3, 4, 5))
            whole = (data.take(third - 1) == _BLANK) & (fifth - fourth == 2) & (data.take(fourth - 1) != _BACKSLASH)
            sound[combined] &= whole & (data.take(sixth - 1) != _BACKSLASH)
        fits[:] = False
        fits[likely[sound]] = True
        return fits

    @staticmethod
    def _quoted(data: Bytes, marks: Places, first: Places, there: Mask, at: int) -> Any:
        """The quoted text that begins with a line's quote number `at`, null where the line has none."""
        import pyarrow as pa
        import pyarrow.compute as pc

        texts = _slices(data, marks[first[there] + at] + 1, marks[first[there] + at + 1]).dictionary_encode()
        if there.all():
            return texts
        places = pa.array(np.cumsum(there) - 1, mask=~there)
        return pc.take(texts, places)

    @staticmethod
    def _hosts_before(data: Bytes, ends: Places, rows: Places, request: Any) -> Any:
        import pyarrow.compute as pc

        starts = np.where(rows > 0, ends[rows - 1] + 1, 0)
        blanks = np.flatnonzero(data == _BLANK)
        hosts = _slices(data, starts, blanks[np.searchsorted(blanks, starts)])
        return pc.binary_join_element_wise(hosts, request, " ")

    def _without_noise(self, requests: Any) -> Any:
        """Requests without the parameters that tell nothing, worked out once for each distinct request."""
        import pyarrow as pa
        import pyarrow.compute as pc

        if not self._noise:
            return requests
        texts = requests.dictionary
        for sign, names in self._noise:
            # A query has begun, with "?" or with a sign; a path that holds "&" is left for those who place it.
            noisy = pc.match_substring_regex(texts, rf"^[^?&]*[?\x01-\x08](?:[^ ]*&)?(?i:{names})=")
            cleaned = pc.replace_substring_regex(texts.filter(noisy), rf"(?:[?&](?i:{names})=[^& \x01-\x08]*)+", sign)
            texts = pc.replace_with_mask(texts, noisy, cleaned)
        return pa.DictionaryArray.from_arrays(requests.indices, texts)


def sign_of(number: int) -> str:
    """The control character that stands for parameters of a kind of noise; logs hold none but as \\xHH."""
    return chr(number + 1)


def _together(parts: list[Columns]) -> Columns:
    """The columns of several blocks as one: each distinct text is then handed on once for all of them."""
    import pyarrow as pa

    def joined(columns: Iterable[Any]) -> Any:
        return pa.chunked_array(list(columns)).unify_dictionaries().combine_chunks()

    return Columns(
        np.concatenate([p.number for p in parts]),
        np.concatenate([p.digest for p in parts]),
        joined(p.request for p in parts),
        np.concatenate([p.status for p in parts]),
        joined(p.day for p in parts),
        joined(p.agent for p in parts),
        joined(p.referrer for p in parts),
        list(chain.from_iterable(p.odd for p in parts)),
    )


def _days(data: Bytes, opened: Places) -> Any:
    """The days ("03/May/2026") before the opening quotes of requests; logs run in time, so few places begin another."""
    import pyarrow as pa

    # Day, month and year, a letter or digit after the other, as one number each; two digits of the century in one byte.
    keys = np.zeros(len(opened), np.int64)
    for at in (0, 1, 4, 5, 9, 10):
        keys = keys << 8 | data.take(opened + (at - _TIME_LENGTH))
    keys = keys << 8 | data.take(opened + (3 - _TIME_LENGTH))
    century = (data.take(opened + (at - _TIME_LENGTH)).astype(np.int64) & 15 for at in (7, 8))
    keys = keys << 8 | next(century) << 4 | next(century)
    begins = np.flatnonzero(np.r_[len(keys) > 0, keys[1:] != keys[:-1]])
    lengths = np.diff(np.r_[begins, len(keys)])
    texts = data[(opened[begins] - _TIME_LENGTH)[:, None] + np.arange(_DAY_LENGTH)]
    runs = pa.array([text.tobytes().decode() for text in texts], pa.string()).dictionary_encode()
    return pa.DictionaryArray.from_arrays(np.repeat(runs.indices.to_numpy(), lengths), runs.dictionary)


def _taken_apart(days: Any, data: Bytes, opened: Places, splits: Sequence[Split]) -> Any:
    """Days with labels in the place of those on which a build went live (see core.monitoring.deploy_days)."""
    import pyarrow as pa

    texts: list[str] = days.dictionary.to_pylist()
    codes = None
    for split_day in split_days(splits):
        year, month, day = split_day.split("-")
        text = f"{day}/{_MONTHS[int(month)]}/{year}"
        if text not in texts:
            continue
        codes = days.indices.to_numpy().copy() if codes is None else codes
        rows = np.flatnonzero(codes == texts.index(text))
        clock = opened[rows] - _TIME_LENGTH + _DAY_LENGTH + 1
        h, m, s = (10 * _digit(data, clock + at) + _digit(data, clock + at + 1) for at in (0, 3, 6))
        seconds = 3600 * h + 60 * m + s
        here = [split for split in splits if split.day == split_day]
        bounds = [-1, *(split.second for split in here), 1 << 30]
        for first, end in pairwise(bounds):
            within = rows[(seconds >= first) & (seconds < end)]
            if len(within):
                codes[within] = len(texts)
                texts.append(label_of(split_day, first, splits))
    return days if codes is None else pa.DictionaryArray.from_arrays(pa.array(codes), pa.array(texts, pa.string()))


_MONTHS = ("", "Jan", "Feb", "Mar", "Apr", "May", "Jun", "Jul", "Aug", "Sep", "Oct", "Nov", "Dec")


def _digit(data: Bytes, places: Places) -> Places:
    found: Places = data.take(places).astype(np.int64) - _ZERO
    return found


def _slices(data: Bytes, starts: Places, ends: Places) -> Any:
    """The texts between places of a block, which follow each other, as an Arrow array."""
    import pyarrow as pa

    if not len(starts):
        return pa.array([], pa.string())
    offsets = np.empty(2 * len(starts), np.int32)
    offsets[0::2], offsets[1::2] = starts, ends
    return _texts(offsets, data, len(offsets) - 1).take(pa.array(np.arange(0, len(offsets) - 1, 2)))


def _texts(offsets: npt.NDArray[np.int32], data: Bytes, count: int) -> Any:
    import pyarrow as pa

    return pa.StringArray.from_buffers(count, pa.py_buffer(offsets), pa.py_buffer(data))


def _plain(data: bytes) -> bytes:
    """Bytes as UTF-8; those that are none, and control characters, are spelled out."""
    text = data.decode("utf-8", "surrogateescape").encode("utf-8", "backslashreplace")
    text = text.replace(b"\\udc", b"\\x")
    for control in range(_TAB):
        text = text.replace(bytes([control]), b"\\x%02x" % control)
    return text
