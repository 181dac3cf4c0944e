"""Scanning logs whose lines come apart at their quotes.

A line of the Common or Combined Log Format comes apart at its quotes: client and time, request,
status and size, referrer, agent. The quotes of a whole block are found at once; the day and the
status stand at fixed places beside them.
"""

from __future__ import annotations

import threading
from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np
import numpy.typing as npt

from upright_ledger.core.monitoring.deploy_days import Split
from upright_ledger.formats.files.text import MAX_LINE
from upright_ledger.formats.logs.columns.block_scanner import BlockScanner, Columns
from upright_ledger.formats.logs.columns.day_column import (
    TIME_LENGTH,
    days_of,
    slices_of,
    taken_apart,
)
from upright_ledger.formats.logs.line_blocks import (
    LINE_BREAK,
    ZERO,
    Bytes,
    Lines,
    Places,
    as_utf8,
)
from upright_ledger.formats.logs.visitors import visitors_at

Mask = npt.NDArray[np.bool_]

_QUOTE, _BLANK, _BACKSLASH, _OPEN, _CLOSE, _NINE, _HYPHEN = 34, 32, 92, 91, 93, 9, 45
COMMON_QUOTES, COMBINED_QUOTES = 2, 6
_DAMAGED = -1


class QuotedScanner(BlockScanner):
    """Takes blocks apart. with_hosts: the first word of a line is a host, and is put before its
    request. quotes: how many a line of this log has; lines with two are of the Common Log Format.
    """

    def __init__(
        self,
        *,
        with_hosts: bool,
        quotes: int,
        noise: Mapping[str, str],
        splits: Sequence[Split] = (),
    ) -> None:
        super().__init__(with_hosts=with_hosts, noise=noise, splits=splits)
        self._quotes = quotes
        self._local = threading.local()

    def take_apart(self, data: Bytes) -> tuple[Columns, int]:
        data = as_utf8(data)
        marks, escaped = self._marks(data)
        last = np.flatnonzero(data.take(marks) == LINE_BREAK)  # of each line's marks
        ends, count = marks.take(last), np.diff(last, prepend=-1) - 1
        if len(escaped):  # outside of quotes it is damage
            line = np.searchsorted(ends, escaped)
            before = np.searchsorted(marks, escaped) - np.r_[0, last[:-1] + 1][line]
            count[line[before % 2 == 0]] = _DAMAGED
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

    def _marks(self, data: Bytes) -> tuple[Places, Places]:
        """Where quotes and line breaks are, in one array: a line's marks are its quotes and its
        break. An escaped quote is none: where these are. Behind several backslashes it is left for
        those who read the line by itself.
        """
        scratch = getattr(self._local, "scratch", None)
        if scratch is None or scratch.shape[1] < len(data):
            scratch = self._local.scratch = np.empty((2, len(data) + MAX_LINE), bool)
        quotes, breaks = scratch[:, : len(data)]
        np.equal(data, _QUOTE, out=quotes)
        np.equal(data, LINE_BREAK, out=breaks)
        np.logical_or(quotes, breaks, out=quotes)
        marks = np.flatnonzero(quotes)
        escaped = np.flatnonzero(data.take(marks - 1, mode="clip") == _BACKSLASH)
        at = marks[escaped]
        once = (data.take(at) == _QUOTE) & (data.take(at - 2, mode="clip") != _BACKSLASH)
        return np.delete(marks, escaped[once]), at[once]

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
            # The size, or a hyphen, stands between two blanks.
            size, end = data.take(closed.take(combined) + 6), data.take(third - 2)
            whole = (
                (data.take(third - 1) == _BLANK)
                & ((size - np.uint8(ZERO) <= _NINE) | (size == _HYPHEN))
                & ((end - np.uint8(ZERO) <= _NINE) | (end == _HYPHEN))
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
