"""Tables under a heading in which one column holds whole lines of a server's log, as those who
collect logs export them.
"""

from __future__ import annotations

from collections.abc import Sequence

from upright_ledger.core.inventory.noise import AsideClass
from upright_ledger.formats.logs.forms.any_line import AnyLine, is_request_line, learned
from upright_ledger.formats.logs.log_line import (
    Likeness,
    LogFormat,
    LogLine,
    NotALineError,
    Parser,
    most,
)
from upright_ledger.formats.logs.meanings.log_times import day_of
from upright_ledger.formats.tables.cells import cells_of

_DELIMITERS = ",\t;"
_SAMPLE = 60


class _WrappedRows:
    """Rows of such a table. at: the column of the lines; heading: the first row."""

    def __init__(self, delimiter: str, at: int, heading: str, inner: AnyLine) -> None:
        self._delimiter, self._at = delimiter, at
        self._heading, self._inner = heading, inner

    def __call__(self, line: str) -> LogLine | str:
        if not line.strip() or line == self._heading:
            return AsideClass.BLANK
        cells = cells_of(line, self._delimiter)
        if len(cells) <= self._at:
            raise NotALineError(f"it has {len(cells)} cells, and its heading more")
        found = self._inner(cells[self._at])
        if isinstance(found, str) or found.day:
            return found
        days = (day_of(cell) for n, cell in enumerate(cells) if n != self._at)
        return found._replace(day=next(filter(None, days), ""))


def _column(lines: Sequence[str]) -> tuple[str, int, list[str]] | None:
    """Delimiter, number and cells of the column that holds whole lines."""
    for delimiter in _DELIMITERS:
        heading = cells_of(lines[0], delimiter) if lines else []
        if len(heading) < 2 or any("/" in name or '"' in name for name in heading):
            continue
        rows = [cells_of(line, delimiter) for line in lines[1:_SAMPLE]]
        for at in range(len(heading)):
            cells = [row[at] for row in rows if len(row) == len(heading)]
            if len(cells) * 2 >= len(rows) and most(cells, is_request_line):
                return delimiter, at, cells
    return None


def _sniff(lines: Sequence[str]) -> Likeness:
    return Likeness.SURE if _column(lines) is not None else Likeness.NONE


def _new_parser(sample: Sequence[str], hosts: frozenset[str]) -> Parser:
    found = _column(sample)
    if found is None:
        return learned(sample, hosts)
    delimiter, at, cells = found
    return _WrappedRows(delimiter, at, sample[0], learned(cells, hosts))


WRAPPED_ROWS = LogFormat(_sniff, _new_parser)
