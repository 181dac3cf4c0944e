"""Cells that do not say what their column should."""

from __future__ import annotations

from collections.abc import Sequence

from upright_ledger.core.inventory.units import IN_TABLES
from upright_ledger.formats.tables.cells import NO_ADDRESS

_NOTHING = " \t\r\n\u00a0-\u2013\u2014.?"  # how exports leave a figure or a day out


class OddCells:
    """Counts them by their column, and keeps the first of each."""

    def __init__(self) -> None:
        self._found: dict[str, tuple[int, int, str]] = {}

    def add(self, meaning: str, cells: Sequence[str], lines: Sequence[int], odd: set[str]) -> None:
        """Count those cells of a column that say nothing of what it means (`odd`), but for such as
        say that nothing is known. lines: of the cells.
        """
        odd = {c for c in odd if c.strip(_NOTHING) and c.strip().lower() not in NO_ADDRESS}
        if not odd:
            return
        rows = [row for row, cell in enumerate(cells) if cell in odd]
        count, line, cell = self._found.get(meaning, (0, lines[rows[0]], cells[rows[0]]))
        self._found[meaning] = (count + len(rows), line, cell)

    @property
    def notes(self) -> list[str]:
        """A sentence for each column."""
        return [
            f"{count:,} {'cell of' if count == 1 else 'cells of'} {meaning} "
            f"{'is' if count == 1 else 'are'} {_WHAT[meaning in IN_TABLES]}, "
            f"such as {cell.strip()[:40]!r} (row {line:,}): {_THEN[meaning in IN_TABLES]}"
            for meaning, (count, line, cell) in self._found.items()
        ]


_WHAT = {True: "nothing that counts", False: "no day that can be read"}
_THEN = {True: "taken as 0", False: "left out"}
