"""Tables of any origin: where the header is, and what the columns mean."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from itertools import chain, islice, takewhile
from pathlib import Path

from upright_ledger.core.inventory.units import HITS, IN_TABLES
from upright_ledger.errors import InputError, NoAddressesError
from upright_ledger.formats.detection import FileKind
from upright_ledger.formats.records import ReadOptions
from upright_ledger.formats.tables import column_mapping
from upright_ledger.formats.tables import column_names as col
from upright_ledger.formats.tables.cells import NO_ADDRESS, Row, begins_a_sum, looks_like_address
from upright_ledger.formats.tables.header_words import side_of
from upright_ledger.formats.tables.language_columns import language_columns
from upright_ledger.formats.tables.meanings.address_cells import common_remark, told_address
from upright_ledger.formats.tables.meanings.days import puts_months_first
from upright_ledger.formats.tables.meanings.figures import number
from upright_ledger.formats.tables.rows.table_rows import RowWidth, rows_of

_SAMPLE = 400
_HEADER_WITHIN = 60  # rows; what stands above a header is never longer


@dataclass
class Table:
    """A table with its header.

    columns: meaning → column number. above: rows before the header. rows: (line in the file,
    cells), without the header. doubts: meaning → header of columns that may speak of another page,
    and were not taken. width: that its rows may have. is_whole: whether all addresses but a few are
    whole, so that a word is none. languages: column → language, where a row tells a page's address
    in each of several. remark: what stands behind each address in its cell.
    """

    header: list[str]
    columns: dict[str, int]
    above: list[Row]
    rows: Iterator[Row]
    month_first: bool = False
    notes: list[str] = field(default_factory=list)
    doubts: Mapping[str, str] = field(default_factory=dict)
    width: RowWidth = field(default_factory=RowWidth)
    is_whole: bool = False
    languages: Mapping[int, str] = field(default_factory=dict)
    remark: str = ""

    def cell(self, row: list[str], meaning: str) -> str:
        """What a row says about a meaning; empty when the column or the cell is missing."""
        at = self.columns.get(meaning)
        return row[at].strip() if at is not None and at < len(row) else ""

    def address(self, row: list[str]) -> str:
        """The address that a row tells, without what is written around it; empty where it has
        none.
        """
        url = self.columns[col.URL]
        written = row[url].strip() if url < len(row) else ""
        if " " not in written:
            return told_address(written, self.remark)
        alone = not any(cell for at, cell in enumerate(row) if at != url)
        return told_address(written, self.remark, alone=alone)

    @staticmethod
    def is_sum(written: str) -> bool:
        """Whether what stands in the URL cell of a row says that it holds totals, or no address."""
        if written[:4] == "http":
            return False
        return not written or written.lower() in NO_ADDRESS or begins_a_sum(written)

    @staticmethod
    def repeats(cells: list[str], heading: list[str]) -> bool:
        """Whether a row is the heading once more, as where one export follows another."""
        return cells == heading and len(cells) > 1

    @property
    def unused(self) -> list[str]:
        """Headers of columns that mean nothing here."""
        return [
            h.strip()
            for at, h in enumerate(self.header)
            if h.strip() and at not in {*self.columns.values(), *self.languages}
        ]

    @property
    def mapping(self) -> dict[str, str]:
        """Meaning → header as written, or the number of a column without one."""
        return {
            meaning: self.header[at].strip()
            if at < len(self.header) and self.header[at].strip()
            else f"column {at + 1}"
            for meaning, at in sorted(self.columns.items(), key=lambda item: item[1])
        }


def read_table(path: Path, options: ReadOptions, kind: str = FileKind.TABLE) -> Table:
    """Open a table and find its columns. Raises InputError when it has no rows or no column with
    addresses.
    """
    notes: list[str] = []
    rows = rows_of(path, kind, options.encoding, notes, options.sheet)
    first = list(islice(rows, _SAMPLE))
    at, columns = _find_header(path, first, options)
    header = first[at][1] if at is not None else []
    body = first[at + 1 :] if at is not None else first
    above = first[:at] if at is not None else []
    if at is None and HITS in columns:
        notes.append(
            f"column {columns[HITS] + 1} has no heading: its figures are taken for hits "
            "(--column hits= takes none)"
        )
    table = Table(header, columns, above, chain(body, rows), notes=notes)
    table.doubts = column_mapping.doubtful_columns(header, columns, options.columns)
    if not any(unit in columns for unit in IN_TABLES) and col.URL not in options.columns:
        cells = [cells for _, cells in body if cells]
        table.languages = language_columns(header, columns[col.URL], cells, options.hosts)
        if table.languages:
            named = ", ".join(header[n].strip() for n in table.languages)
            notes.append(f"a page in several languages a row ({named}): each address is taken")
    table.width = RowWidth.of(kind, header, (cells for _, cells in body if cells))
    # Behind an empty row another table may begin.
    its = takewhile(lambda row: row[1], body)
    told = [text for _, cells in its if (text := table.cell(cells, col.URL))]
    whole = sum(map(looks_like_address, told))
    table.is_whole = whole > 1 and len(told) - whole <= max(1, len(told) // 10)
    table.remark = common_remark(told)
    days = [table.cell(cells, col.LAST_SEEN) for _, cells in body]
    table.month_first = any(map(puts_months_first, days))
    return table


def _find_header(
    path: Path, rows: list[Row], options: ReadOptions
) -> tuple[int | None, dict[str, int]]:
    """The index of the header row (None where there is none), and the columns."""
    filled = [(n, cells) for n, (_, cells) in enumerate(rows) if cells]
    if not filled:
        raise NoAddressesError(f"{path} has no rows", "export it again")
    width = Counter(len(cells) for _, cells in filled).most_common(1)[0][0]
    wide = [n for n, cells in filled if len(cells) == width]
    # A title above a table may have as many cells, all of them empty but one.
    top = next((n for n in wide if sum(map(bool, map(str.strip, rows[n][1]))) > 1), wide[0])
    before = next((n - 1 for n, cells in filled if any(map(looks_like_address, cells))), -1)
    if before >= 0 and not _are_words(rows[before][1]):
        before = -1
    missing = ""
    best: tuple[int, int, dict[str, int]] | None = None
    for n, cells in filled[:_HEADER_WITHIN]:
        body = [c for _, c in rows[n + 1 :] if c][:200]
        if any(looks_like_address(c) for c in cells):
            break  # rows have begun
        try:
            columns = column_mapping.map_columns(cells, body, options.columns, options.hosts)
        except KeyError as error:
            missing = missing or str(error.args[0])
            continue
        known = sum(
            1
            for h in cells
            if side_of(h) or any(col.bare(h) in names for names in col.NAMES.values())
        )
        figure = known * 10 + sum(1 for c in cells if c.strip()) + 5 * len(options.columns)
        if not known and not options.columns and n not in {top, before}:
            continue  # nothing but its place could make this a header
        if col.URL in columns and (best is None or figure > best[0]):
            best = (figure, n, columns)
    if best is not None:
        return best[1], best[2]
    names = [h.strip() for h in max((c for _, c in filled[:_HEADER_WITHIN]), key=len) if h.strip()]
    if missing or any(options.columns.values()):
        raise InputError(
            f"{path} has no column {missing or next(filter(None, options.columns.values()), '')!r}",
            f"its columns are: {', '.join(names)[:500]}",
        )
    columns = column_mapping.map_columns([], [cells for _, cells in filled], {}, options.hosts)
    if col.URL not in columns:
        raise NoAddressesError(
            f"{path} has no column of URLs",
            f"name one, as in --column url='…'; its columns are: {', '.join(names)[:500]}",
        )
    return None, columns


def _are_words(cells: list[str]) -> bool:
    """Whether cells are names of columns rather than values."""
    return len(cells) > 1 and all(
        number(c) is None and not re.search(r"[./]\w", c) for c in cells if c.strip()
    )
