"""Scanning logs of the W3C Extended Log File Format: lines come apart at their blanks.

What a line means is said by `forms.w3c`; a property test holds columns and lines equal.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from itertools import pairwise
from typing import Any, ClassVar

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from upright_ledger.core.monitoring.deploy_days import Split, split_days
from upright_ledger.formats.files.text import MAX_LINE
from upright_ledger.formats.logs.columns.block_scanner import BlockScanner, Columns
from upright_ledger.formats.logs.columns.day_column import slices_of
from upright_ledger.formats.logs.columns.meaning_columns import Told, columns_of, meanings
from upright_ledger.formats.logs.forms import w3c
from upright_ledger.formats.logs.line_blocks import (
    LINE_BREAK,
    RETURN,
    Bytes,
    Lines,
    Places,
    as_utf8,
)
from upright_ledger.formats.logs.log_line import is_status
from upright_ledger.formats.logs.visitors import Visitors, visitors_named

_BLANK = 32
_MOST_DIRECTIVES = 100  # of one block


class W3cScanner(BlockScanner):
    """Takes blocks apart, in their order, since directives say what the lines after them hold."""

    most_workers: ClassVar[int] = 1

    def __init__(self, *, noise: Mapping[str, str], splits: Sequence[Split]) -> None:
        super().__init__(with_hosts=True, noise=noise, splits=splits)
        self._parser = w3c.W3cParser()
        # On a day that is taken apart the time of day counts, too: such lines go one by one.
        self._split_days = frozenset(split_days(splits))

    def take_apart(self, data: Bytes) -> tuple[Columns, int]:
        """See `BlockScanner.take_apart`."""
        data = as_utf8(data)
        breaks = np.flatnonzero(data == LINE_BREAK)
        starts = np.r_[0, breaks[:-1] + 1]
        lines = Lines(data, breaks)
        directives = np.flatnonzero(data.take(starts) == ord(w3c.DIRECTIVE)).tolist()
        told = list[Told]()
        cells = _Cells(data, starts, breaks)
        for begin, end in pairwise([-1, *directives, len(breaks)]):
            if begin >= 0:
                self._parser(lines.text(begin))
            if end - begin > 1 and self._parser.width > 1 and len(directives) <= _MOST_DIRECTIVES:
                told.append(self._told(cells, np.arange(begin + 1, end)))
        return columns_of(told, data, lines, self.without_noise)

    def _told(self, cells: _Cells, within: Places) -> Told:
        """What lines say that have as many cells as their directive names."""
        rows = cells.under(self._parser, within)
        has_agent, day = self._parser.has_agent, self._parser.day
        clients = cells.meanings(rows, (w3c.CLIENT,), lambda v: v[0])
        visitors: Visitors = visitors_named(clients.dictionary.to_pylist())
        return Told(
            rows,
            cells.meanings(rows, w3c.REQUEST + w3c.HOSTS, _request_on_host),
            cells.meanings(rows, (w3c.STATUS,), lambda v: v[0] if is_status(v[0]) else None),
            cells.meanings(rows, (w3c.DAY,), lambda v: self._day(v[0], day)),
            cells.meanings(rows, (w3c.AGENT,), lambda v: w3c.agent_of(v[0]) if has_agent else None),
            cells.meanings(rows, (w3c.REFERRER,), lambda v: v[0]),
            visitors[clients.indices.to_numpy()],
        ).whole()

    def _day(self, told: str, otherwise: str) -> str | None:
        day = w3c.day_of(told or otherwise)
        return day if day and day not in self._split_days else None


class _Cells:
    """The cells of a block's lines."""

    def __init__(self, data: Bytes, starts: Places, breaks: Places) -> None:
        self._data, self._starts = data, starts
        self._blanks = np.flatnonzero(data == _BLANK)
        self._ends = breaks - (data.take(np.maximum(breaks - 1, 0)) == RETURN)
        self._first = np.searchsorted(self._blanks, starts)
        self._count = np.diff(np.r_[self._first, len(self._blanks)])
        self._sound = breaks - starts <= MAX_LINE
        odd = np.flatnonzero(data < _BLANK)
        odd = odd[(data[odd] != LINE_BREAK) & (data[odd] != RETURN)]
        odd = np.r_[odd, np.flatnonzero(data == ord(w3c.QUOTE))]
        self._sound[np.searchsorted(breaks, odd)] = False
        self._at: Mapping[str, int] = {}
        self._width = 0

    def under(self, parser: w3c.W3cParser, within: Places) -> Places:
        """Those of some lines that have as many cells as the directive before them names, by which
        all is read from now on.
        """
        self._at, self._width = parser.at, parser.width
        whole = self._sound[within] & (self._count[within] == parser.width - 1)
        found: Places = within[whole]
        return found

    def _column(self, rows: Places, field: str) -> Any:
        """The cells of a field, empty where it says nothing."""
        place = self._at.get(field)
        if place is None:
            return pa.repeat(pa.scalar("", pa.string()), len(rows))
        first = self._first[rows]
        begin = self._blanks[first + place - 1] + 1 if place else self._starts[rows]
        end = self._blanks[first + place] if place < self._width - 1 else self._ends[rows]
        told = slices_of(self._data, begin, end)
        return pc.if_else(pc.equal(told, w3c.NOTHING), "", told)

    def meanings(self, rows: Places, fields: Sequence[str], meaning: Any) -> Any:
        """See `meaning_columns.meanings`."""
        return meanings([self._column(rows, field) for field in fields], len(rows), meaning)


def _request_on_host(values: Sequence[str]) -> str | None:
    asked = len(w3c.REQUEST)
    request = w3c.request_of(*values[:asked])
    return f"{w3c.host_of(*values[asked:])} {request}" if request else None
