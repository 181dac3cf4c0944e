"""Rows of tables, whatever holds them: delimited text, workbooks, JSON Lines."""

from __future__ import annotations

import csv
import re
import zipfile
import zlib
from collections import Counter
from collections.abc import Iterable, Iterator, Sequence
from itertools import chain, islice
from pathlib import Path
from typing import Any, NamedTuple

from upright_ledger.errors import InputError
from upright_ledger.formats.detection import (
    MAX_COLUMNS,
    OLD_WORKBOOK,
    FileKind,
    delimiter_of,
)
from upright_ledger.formats.files.compressed import read_head
from upright_ledger.formats.files.json_text import read_json
from upright_ledger.formats.files.text import open_text

Row = tuple[int, list[str]]
"""The line or row of the file, from 1, and its cells; a blank row has none."""

MAX_CELL = 1 << 24  # characters; a page's text in a cell is long, and more than this is damage
MAX_WORKBOOK = 1 << 30  # bytes when unpacked
MAX_OLD_WORKBOOK = 1 << 26  # bytes; its sheets have at most 65,536 rows and 256 columns
MAX_PACKING = 200
MAX_CELLS = 1 << 25
_SAMPLE = 60


class RowWidth(NamedTuple):
    """How many cells a row may fill. A row of delimited text that fills more was torn, at a comma
    that no quotes protect, say: what its cells mean is not known.
    """

    most: int = MAX_COLUMNS

    @classmethod
    def of(cls, kind: str, header: Sequence[str], rows: Iterable[Sequence[str]]) -> RowWidth:
        """That of a table with a header, or, where it has none, of most rows."""
        if kind in {FileKind.SHEET, FileKind.JSON}:
            return cls()
        return cls(len(header) or Counter(map(len, rows)).most_common(1)[0][0])

    def fault(self, cells: Sequence[str]) -> str:
        """Why a row cannot be used, or an empty text."""
        if len(cells) <= self.most or not any(map(str.strip, cells[self.most :])):
            return ""
        return (
            f"it has {len(cells):,} cells in a table of {self.most:,} columns; put quotes around a "
            "cell that holds a comma or a semicolon"
        )


def rows_of(
    path: Path, kind: str, encoding: str = "", notes: list[str] | None = None, sheet: str = ""
) -> Iterator[Row]:
    """The rows of a table, header included. Raises InputError, at once or on the way, with the line
    that is damaged.

    notes: gets what a user should know of a delimited file's encoding, with the first row. sheet:
    of a workbook; the fullest one where none is named.
    """
    if kind == FileKind.SHEET:
        rows = _sheet_rows(path, sheet)
    else:
        rows = (
            _objects(path, encoding)
            if kind == FileKind.JSON
            else _delimited(path, encoding, [] if notes is None else notes)
        )
    return _of_sane_width(path, rows)


def _of_sane_width(path: Path, rows: Iterator[Row]) -> Iterator[Row]:
    for row in rows:
        if len(row[1]) > MAX_COLUMNS and len([cell for cell in row[1] if cell]) > MAX_COLUMNS:
            raise InputError(
                f"{path} line {row[0]:,} has {len(row[1]):,} columns, and tables have at most "
                f"{MAX_COLUMNS:,} here",
                "keep the columns that are needed",
            )
        yield row[0], row[1][:MAX_COLUMNS]


def _delimited(path: Path, encoding: str, notes: list[str]) -> Iterator[Row]:
    csv.field_size_limit(MAX_CELL)
    with open_text(path, encoding) as file:
        if file.encoding == "cp1252" and not encoding:
            notes.append("read as Windows-1252: it is not in UTF-8")
        first = list(islice(file, 500))
        filled = [line for line in first if line.strip()][:_SAMPLE]
        delimiter = delimiter_of(filled) or delimiter_of(filled[:1]) or ","
        reader = csv.reader(chain(first, file), delimiter=delimiter)
        line = 1
        try:
            for cells in reader:
                yield line, cells if any(map(str.strip, cells)) else []
                line = reader.line_num + 1
        except csv.Error as error:
            raise InputError(
                f"{path} line {line:,} cannot be read as a table: {error}", "check its quotes"
            ) from None


def sheets_of(path: Path) -> list[str]:
    """The names of a workbook's sheets that hold anything, in their order."""
    return [name for name, sheet in _open_workbook(path).items() if sheet.total_height]


def hidden_sheets(path: Path) -> list[str]:
    """The names of a workbook's sheets that nobody sees."""
    return sorted(_open_workbook(path, hidden=True).keys() - _open_workbook(path).keys())


def fullest_sheet(path: Path) -> str:
    """The sheet that is read where none is named."""
    sheets = _open_workbook(path)
    return max(sheets, key=lambda name: sheets[name].total_height or 0)


def _sheet_rows(path: Path, name: str) -> Iterator[Row]:
    """The rows of one sheet, numbered as in the sheet."""
    sheets = _open_workbook(path, hidden=bool(name))
    if name and name not in sheets:
        raise InputError(f"{path} has no sheet {name!r}", f"its sheets are: {', '.join(sheets)}")
    chosen = sheets[name] if name else sheets[fullest_sheet(path)]
    for number, cells in enumerate(chosen.to_python(skip_empty_area=False), 1):
        texts = [_cell_text(c) for c in cells]
        yield number, texts if any(t.strip() for t in texts) else []


_REFERENCE = re.compile(rb"""\br=["']([A-Z]{1,3})([0-9]{1,7})["']""")


def _check_extents(path: Path, archive: zipfile.ZipFile) -> None:
    """Raises InputError for a sheet whose farthest cells span more than it can hold: it would be
    laid out in memory, empty cells and all.
    """
    for info in archive.infolist():
        name = info.filename.lower()
        if name.startswith("xl/worksheets/") and name.endswith(".bin"):
            raise InputError(f"{path} is a binary workbook", "save it as XLSX or CSV")
        if not name.startswith("xl/worksheets/") or not name.endswith(".xml"):
            continue
        right = down = 1
        with archive.open(info) as sheet:
            rest = b""
            while block := sheet.read(1 << 20):
                for letters, digits in set(_REFERENCE.findall(rest + block)):
                    right, down = max(right, _column(letters)), max(down, int(digits))
                rest = block[-32:]
        if right * down > MAX_CELLS:
            raise InputError(
                f"{path} has a sheet of {down:,} rows and {right:,} columns, which is more than "
                f"{MAX_CELLS:,} cells",
                "delete what stands far off below or to the right, or save the sheet as CSV",
            )


def _column(letters: bytes) -> int:
    number = 0
    for letter in letters:
        number = number * 26 + letter - 64
    return number


def _open_workbook(path: Path, *, hidden: bool = False) -> dict[str, Any]:
    """The sheets of a workbook by their names; hidden: those, too, that nobody sees."""
    import python_calamine

    if read_head(path).startswith(OLD_WORKBOOK):
        if path.stat().st_size > MAX_OLD_WORKBOOK:
            raise InputError(
                f"{path} is an old workbook of {path.stat().st_size / 1e6:,.0f} MB",
                "save the sheet as CSV",
            )
    else:
        _check_archive(path)
    try:
        workbook = python_calamine.CalamineWorkbook.from_path(str(path))
        seen = {
            told.name
            for told in workbook.sheets_metadata
            if hidden or told.visible == python_calamine.SheetVisibleEnum.Visible
        }
        sheets = {
            name: workbook.get_sheet_by_name(name) for name in workbook.sheet_names if name in seen
        }
    except (python_calamine.CalamineError, OSError) as error:
        raise InputError(
            f"{path} is a damaged workbook: {error}", "save it again, or as CSV"
        ) from None
    if not sheets:
        raise InputError(f"{path} has no sheets", "save the sheet as CSV")
    return sheets


def _check_archive(path: Path) -> None:
    """Raises InputError for a workbook that is damaged, or would be much larger unpacked."""
    try:
        with zipfile.ZipFile(path) as archive:
            unpacked = sum(info.file_size for info in archive.infolist())
            if unpacked > MAX_WORKBOOK or unpacked > max(
                path.stat().st_size * MAX_PACKING, 1 << 26
            ):
                raise InputError(
                    f"{path} would unpack to {unpacked / 1e6:,.0f} MB, which no export does",
                    "save the sheet as CSV",
                )
            _check_extents(path, archive)
    except (zipfile.BadZipFile, OSError, RuntimeError, EOFError, zlib.error):
        raise InputError(f"{path} is a damaged workbook", "save it again, or as CSV") from None


def _cell_text(value: object) -> str:
    if isinstance(value, float) and value.is_integer():
        return str(int(value))
    return "" if value is None else str(value)


def _objects(path: Path, encoding: str) -> Iterator[Row]:
    """JSON Lines, or one array of objects, as rows under a header of all names that the first lines
    hold.
    """
    with open_text(path, encoding) as file:
        found = _array(path, file.read(_MAX_ARRAY + 1)) if _is_array(path) else enumerate(file, 1)
        objects = ((line, _flat(path, line, text)) for line, text in found)
        first = list(islice(objects, 1000))
        names = list(dict.fromkeys(name for _, values in first for name in values))
        yield 0, names
        for line, values in chain(first, objects):
            cells = [_json_text(values.get(name)) for name in names]
            yield line, cells if any(cells) else []


_MAX_ARRAY = 1 << 27


def _is_array(path: Path) -> bool:
    return read_head(path).lstrip(b"\xef\xbb\xbf \t\r\n").startswith(b"[")


def _array(path: Path, text: str) -> Iterator[tuple[int, Any]]:
    if len(text) > _MAX_ARRAY:
        raise InputError(
            f"{path} is one JSON array of more than {_MAX_ARRAY:,} characters",
            "export it as JSON Lines",
        )
    try:
        return enumerate(read_json(text), 1)
    except ValueError as error:
        raise InputError(f"{path} is damaged JSON: {error}", "export it again") from None


def _flat(path: Path, line: int, text: Any) -> dict[str, Any]:
    """An object with its nested names joined by dots; a line that is none is one cell."""
    if isinstance(text, str):
        if not text.strip():
            return {}
        try:
            text = read_json(text)
        except ValueError as error:
            raise InputError(
                f"{path} line {line:,} is damaged JSON: {error}", "mend or delete the line"
            ) from None
    if not isinstance(text, dict):
        return {"value": text}
    flat: dict[str, Any] = {}
    for name, value in text.items():
        if isinstance(value, dict):
            flat.update({f"{name}.{inner}": v for inner, v in value.items()})
        else:
            flat[str(name)] = value
    return flat


def _json_text(value: Any) -> str:
    if isinstance(value, list):
        return _json_text(value[0]) if value else ""
    if isinstance(value, float) and value.is_integer():
        return str(int(value))
    return "" if value is None or isinstance(value, dict | bool) else str(value)
