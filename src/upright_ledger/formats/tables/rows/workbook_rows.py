"""The sheets of workbooks as rows: XLSX, XLS and ODS."""

from __future__ import annotations

import re
import zipfile
import zlib
from collections.abc import Iterator
from functools import lru_cache
from pathlib import Path
from typing import Any

from upright_ledger.errors import InputError
from upright_ledger.formats.detection import OLD_WORKBOOK
from upright_ledger.formats.files.compressed import read_head
from upright_ledger.formats.tables.cells import Row, cell_text, looks_like_address
from upright_ledger.formats.tables.rows.sheet_links import links_behind

MAX_WORKBOOK = 1 << 30  # bytes when unpacked
MAX_OLD_WORKBOOK = 1 << 26  # bytes; its sheets have at most 65,536 rows and 256 columns
MAX_PACKING = 200
MAX_CELLS = 1 << 25


def sheets_of(path: Path) -> list[str]:
    """The names of a workbook's sheets that hold anything, in their order."""
    return [name for name, sheet in _open_workbook(path).items() if sheet.total_height]


def hidden_note(path: Path) -> str:
    """What to say of the sheets that nobody sees; nothing where there is none."""
    names = sorted(_open_workbook(path, hidden=True).keys() - _open_workbook(path).keys())
    if not names:
        return ""
    return f"hidden, and not read unless --sheet names it: the sheets {', '.join(names)}"


def fullest_sheet(path: Path, wanted: str = "") -> str:
    """The sheet that is read where none is named: the one that is wanted, if it is there."""
    sheets = _open_workbook(path)
    return (
        wanted if wanted in sheets else max(sheets, key=lambda name: sheets[name].total_height or 0)
    )


def sheet_rows(path: Path, name: str) -> Iterator[Row]:
    """The rows of one sheet, numbered as in the sheet."""
    sheets = _open_workbook(path, hidden=bool(name))
    if name and name not in sheets:
        raise InputError(f"{path} has no sheet {name!r}", f"its sheets are: {', '.join(sheets)}")
    name = name or fullest_sheet(path)
    links = links_behind(path, name)
    for number, cells in enumerate(sheets[name].to_python(skip_empty_area=False), 1):
        texts = [cell_text(c) for c in cells]
        if links:
            texts = [_or_link(text, links.get((number, n))) for n, text in enumerate(texts)]
        yield number, texts if any(t.strip() for t in texts) else []


def _or_link(text: str, link: str | None) -> str:
    """What a cell says: the address behind it, unless its words are an address themselves."""
    return link if link and not looks_like_address(text) else text


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
    stands = path.stat()
    sheets = _sheets(path, (stands.st_ino, stands.st_size, stands.st_mtime_ns))
    found = {name: sheet for name, (sheet, seen) in sheets.items() if seen or hidden}
    if not found:
        raise InputError(f"{path} has no sheets", "save the sheet as CSV")
    return found


@lru_cache(maxsize=1)  # what is in it is asked several times
def _sheets(path: Path, _stands: tuple[int, ...]) -> dict[str, tuple[Any, bool]]:
    """The sheets of a workbook by their names, and whether somebody sees them. _stands: which file
    it is, and of when.
    """
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
        visible = {
            told.name: told.visible == python_calamine.SheetVisibleEnum.Visible
            for told in workbook.sheets_metadata
        }
        return {
            name: (workbook.get_sheet_by_name(name), visible[name])
            for name in workbook.sheet_names
            if name in visible
        }
    except (python_calamine.CalamineError, OSError) as error:
        raise InputError(
            f"{path} is a damaged workbook: {error}", "save it again, or as CSV"
        ) from None


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
