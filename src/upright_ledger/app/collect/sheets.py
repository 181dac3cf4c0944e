"""Workbooks with several sheets: each that holds addresses is an input of its own, and the others
are named.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

from upright_ledger.errors import InputError
from upright_ledger.formats.detection import FileKind
from upright_ledger.formats.files.compressed import Input
from upright_ledger.formats.records import ReadOptions
from upright_ledger.formats.tables.rows.workbook_rows import hidden_sheets, sheets_of
from upright_ledger.formats.tables.url_table import read_table


def by_sheets(file: Input, options: ReadOptions, left: Callable[[str], None]) -> list[Input]:
    """The sheets of a workbook that hold addresses. options.sheet: the one that is wanted. left:
    told of those that hold none.

    A workbook with one such sheet, or none, stays as it is: then its reader says what is wrong.
    """
    names = sheets_of(file.path)
    if options.sheet:
        return [
            replace(
                file,
                name=f"{file.name} ({options.sheet})" if len(names) > 1 else file.name,
                sheet=options.sheet,
            )
        ]
    if hidden := hidden_sheets(file.path):
        left(f"hidden, and not read unless --sheet names it: the sheets {', '.join(hidden)}")
    if len(names) < 2:
        return [file]
    good, rest = [], []
    for name in names:
        try:
            read_table(file.path, replace(options, sheet=name), FileKind.SHEET)
        except InputError:
            rest.append(name)
        else:
            good.append(name)
    if not good:
        return [file]
    if rest:
        left(f"without a column of addresses, and left out: the sheets {', '.join(rest)}")
    return [replace(file, name=f"{file.name} ({name})", sheet=name) for name in good]
