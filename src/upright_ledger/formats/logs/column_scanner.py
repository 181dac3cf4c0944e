"""Scanning logs: blocks of lines taken apart as columns, many thousands at a time, on all cores.

A line of the Common or Combined Log Format comes apart at its quotes: client and time, request,
status and size, referrer, agent. The quotes of a whole block are found at once; the day and the
status stand at fixed places beside them.
"""

from __future__ import annotations

import os
import threading
from collections import deque
from collections.abc import Iterable, Iterator, Mapping, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from dataclasses import dataclass, replace
from itertools import chain
from typing import Any, BinaryIO

import numpy as np
import numpy.typing as npt

from upright_ledger.core.inventory.normalisation import TRACKING_PARAMETER
from upright_ledger.core.monitoring.campaigns import BY_CAMPAIGN, Campaigns
from upright_ledger.core.monitoring.deploy_days import Split
from upright_ledger.formats.files.text import MAX_LINE
from upright_ledger.formats.logs.day_column import TIME_LENGTH, days_of, slices_of, taken_apart
from upright_ledger.formats.logs.line_blocks import (
    LAST_ASCII,
    LINE_BREAK,
    TAB,
    ZERO,
    Buffers,
    Bytes,
    Lines,
    Places,
    line_blocks,
    spelled_out,
)
from upright_ledger.formats.logs.visitors import Visitors, visitors_at

Mask = npt.NDArray[np.bool_]

_TOGETHER = 12  # blocks
_QUOTE, _BLANK, _BACKSLASH, _OPEN, _CLOSE, _NINE = 34, 32, 92, 91, 93, 9
COMMON_QUOTES, COMBINED_QUOTES = 2, 6


@dataclass(frozen=True, slots=True)
class Columns:
    """What the lines of a block say. All but `odd` have one value a line that came apart.

    number, digest (64 bits), visitor (see `visitors`), status: integers. request, day, agent,
    referrer, campaign (as it stands among referrers; null where none is told): Arrow dictionary
    arrays. odd: the other lines, as (number, digest, line).
    """

    number: Places
    digest: npt.NDArray[np.uint64]
    request: Any
    status: Places
    day: Any
    agent: Any
    referrer: Any
    campaign: Any
    visitor: Visitors
    odd: Sequence[tuple[int, int, str]] = ()

    def numbered_from(self, number: int) -> Columns:
        """The same columns, their lines numbered from there instead of 0."""
        odd = [(at + number, digest, line) for at, digest, line in self.odd]
        return replace(self, number=self.number + number, odd=odd)


class Scanner:
    """Takes blocks apart on several threads. with_hosts: the first word of a line is a host, and is
    put before its request. quotes: how many a line of this log has; lines with two are of the
    Common Log Format.

    noise: kind → names (a regular expression) of parameters that tell nothing of the page; requests
    come without them, with the sign of that kind (see `sign_of`) in the place of each run. splits:
    where days are taken apart.
    """

    def __init__(
        self,
        *,
        with_hosts: bool,
        quotes: int,
        noise: Mapping[str, str],
        splits: Sequence[Split] = (),
    ) -> None:
        self.with_hosts = with_hosts
        self._quotes = quotes
        self.splits = splits
        self.without_noise = NoiseFilter(noise)
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
        if data.max() > LAST_ASCII or data.min() < TAB:
            data = np.frombuffer(spelled_out(data.tobytes()), np.uint8)
        marks = self._marks(data)
        last = np.flatnonzero(data.take(marks) == LINE_BREAK)  # of each line's marks
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
        request = slices_of(data, opened + 1, closed)
        if self.with_hosts:
            request = self._hosts_before(data, ends, rows, request)
        combined = count[rows] >= COMBINED_QUOTES
        referrer, agent = (self._quoted(data, marks, first, combined, at) for at in (2, 4))
        hundreds, tens, ones = (data.take(closed + at).astype(np.int64) - ZERO for at in (2, 3, 4))
        request = request.dictionary_encode()
        columns = Columns(
            rows,
            digests[rows],
            self.without_noise(request),
            100 * hundreds + 10 * tens + ones,
            taken_apart(days_of(data, opened), data, opened, self.splits),
            agent,
            referrer,
            self.without_noise.campaigns(request),
            visitors_at(data, self._clients(data, ends, rows)),
            [(at, int(digests[at]), lines.text(at)) for at in np.flatnonzero(odd).tolist()],
        )
        return columns, len(ends)

    def _marks(self, data: Bytes) -> Places:
        """Where quotes and line breaks are, in one array: a line's marks are its quotes and its
        break.
        """
        scratch = getattr(self._local, "scratch", None)
        if scratch is None or scratch.shape[1] < len(data):
            scratch = self._local.scratch = np.empty((2, len(data) + MAX_LINE), bool)
        quotes, breaks = scratch[:, : len(data)]
        np.equal(data, _QUOTE, out=quotes)
        np.equal(data, LINE_BREAK, out=breaks)
        np.logical_or(quotes, breaks, out=quotes)
        return np.flatnonzero(quotes)

    @staticmethod
    def _fits(
        data: Bytes, marks: Places, first: Places, count: Places, rows: Places, ends: Places
    ) -> Mask:
        """Which lines have their parts where they belong; an escaped quote is no end of a part."""
        opened, closed = marks.take(first), marks.take(first + 1)
        starts = np.where(rows > 0, ends[rows - 1] + 1, 0)
        fits: Mask = (opened - starts > TIME_LENGTH + 1) & (ends[rows] - starts <= MAX_LINE)
        fits &= data.take(starts) != _BLANK
        likely = np.flatnonzero(fits & (closed + 5 <= ends[rows]))
        opened, closed, first, count = opened[likely], closed[likely], first[likely], count[likely]
        sound: Mask = (data.take(opened - 1) == _BLANK) & (data.take(opened - 2) == _CLOSE)
        sound &= data.take(opened - TIME_LENGTH - 1) == _OPEN
        sound &= (data.take(closed - 1) != _BACKSLASH) & (data.take(closed + 1) == _BLANK)
        # What `days_of` does not look at has to be as it takes it to be.
        day = opened - TIME_LENGTH
        for at, sign in ((2, b"/"), (6, b"/"), (11, b":")):
            sound &= data.take(day + at) == sign[0]
        for at in (7, 8):
            sound &= data.take(day + at) - np.uint8(ZERO) <= _NINE
        for at in (2, 3, 4):
            sound &= data.take(closed + at) - np.uint8(ZERO) <= _NINE
        after = data.take(closed + 5)
        sound &= (after == _BLANK) | (after == LINE_BREAK)
        combined = np.flatnonzero(count >= COMBINED_QUOTES)
        if len(combined):
            third, fourth, fifth, sixth = (
                marks.take(first.take(combined) + at) for at in (2, 3, 4, 5)
            )
            whole = (
                (data.take(third - 1) == _BLANK)
                & (fifth - fourth == 2)
                & (data.take(fourth + 1) == _BLANK)
                & (data.take(fourth - 1) != _BACKSLASH)
            )
            sound[combined] &= whole & (data.take(sixth - 1) != _BACKSLASH)
        fits[:] = False
        fits[likely[sound]] = True
        return fits

    @staticmethod
    def _quoted(data: Bytes, marks: Places, first: Places, there: Mask, at: int) -> Any:
        """The quoted text that begins with a line's quote number `at`, null where the line has
        none.
        """
        import pyarrow as pa
        import pyarrow.compute as pc

        texts = slices_of(
            data, marks[first[there] + at] + 1, marks[first[there] + at + 1]
        ).dictionary_encode()
        if there.all():
            return texts
        places = pa.array(np.cumsum(there) - 1, mask=~there)
        return pc.take(texts, places)

    def _clients(self, data: Bytes, ends: Places, rows: Places) -> Places:
        """Where the addresses of visitors begin: they are the first words of lines, or the
        second.
        """
        starts = np.where(rows > 0, ends[rows - 1] + 1, 0)
        if self.with_hosts:
            blanks = np.flatnonzero(data == _BLANK)
            starts = blanks[np.searchsorted(blanks, starts)] + 1
        return starts

    @staticmethod
    def _hosts_before(data: Bytes, ends: Places, rows: Places, request: Any) -> Any:
        import pyarrow.compute as pc

        starts = np.where(rows > 0, ends[rows - 1] + 1, 0)
        blanks = np.flatnonzero(data == _BLANK)
        hosts = slices_of(data, starts, blanks[np.searchsorted(blanks, starts)])
        return pc.binary_join_element_wise(hosts, request, " ")


class NoiseFilter:
    """Takes out of requests the parameters that tell nothing. noise: kind → their names (a regular
    expression).
    """

    def __init__(self, noise: Mapping[str, str]) -> None:
        self._noise = [(sign_of(number), names) for number, names in enumerate(noise.values())]
        self._tracking = noise.get(TRACKING_PARAMETER, "")
        self._campaigns = Campaigns(self._tracking)

    def __call__(self, requests: Any) -> Any:
        """Requests (an Arrow dictionary array) without them, worked out once for each distinct
        request.
        """
        import pyarrow as pa
        import pyarrow.compute as pc

        if not self._noise:
            return requests
        texts = requests.dictionary
        for sign, names in self._noise:
            # A query has begun, with "?" or with a sign; a path that holds "&" is left for those
            # who place it.
            noisy = pc.match_substring_regex(texts, rf"^[^?&]*[?\x01-\x08](?:[^ ]*&)?(?i:{names})=")
            cleaned = pc.replace_substring_regex(
                texts.filter(noisy), rf"(?:[?&](?i:{names})=[^& \x01-\x08]*)+", sign
            )
            texts = pc.replace_with_mask(texts, noisy, cleaned)
        return pa.DictionaryArray.from_arrays(requests.indices, texts)

    def campaigns(self, requests: Any) -> Any:
        """The campaigns by which requests came (both Arrow dictionary arrays), as they stand among
        referrers; null where none is told.
        """
        import pyarrow as pa
        import pyarrow.compute as pc

        texts, found = requests.dictionary, dict[str, int]()
        of_texts = np.full(len(texts), -1, np.int32)
        if self._tracking:
            told = pc.match_substring_regex(texts, rf"[?&](?i:{self._tracking})=")
            places = np.flatnonzero(told.to_numpy(zero_copy_only=False))
            for at, text in zip(places.tolist(), texts.take(places).to_pylist(), strict=True):
                name = f"{BY_CAMPAIGN}{self._campaigns.of(text)}"
                of_texts[at] = found.setdefault(name, len(found))
        codes = pa.array(of_texts, mask=of_texts < 0).take(requests.indices)
        return pa.DictionaryArray.from_arrays(codes, pa.array(list(found), pa.string()))


def sign_of(number: int) -> str:
    """The control character that stands for parameters of a kind of noise; logs hold none but as
    \\xHH.
    """
    return chr(number + 1)


def _together(parts: list[Columns]) -> Columns:
    """The columns of several blocks as one: each distinct text is then handed on once for all of
    them.
    """
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
        joined(p.campaign for p in parts),
        np.concatenate([p.visitor for p in parts]),
        list(chain.from_iterable(p.odd for p in parts)),
    )
