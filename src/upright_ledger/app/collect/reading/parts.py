"""Files of several parts: each sheet of a workbook, and each member of an archive, that holds
addresses is an input of its own, and the others are named.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import replace
from pathlib import Path

from upright_ledger.app.collect.reading.sorting import Gathered
from upright_ledger.errors import InputError, NoAddressesError
from upright_ledger.formats.detection import FileKind
from upright_ledger.formats.files.compressed import Input
from upright_ledger.formats.logs.request_rows import request_lines
from upright_ledger.formats.records import ReadOptions
from upright_ledger.formats.tables.rows.workbook_rows import hidden_note, sheets_of
from upright_ledger.formats.tables.url_table import read_table


def parts_of(
    file: Input, kinds: Mapping[Input, str], options: ReadOptions, notes: dict[Path, list[str]]
) -> list[Input]:
    """A file, or the sheets of a workbook that hold addresses. notes: of each file, what is to be
    said of its others.
    """
    if kinds.get(file) != FileKind.SHEET:
        return [file]
    return by_sheets(file, options, notes.setdefault(file.path, []).append)


def say_what_was_left(results: list[Gathered], left: Mapping[str, Sequence[str]]) -> None:
    """Name the members of archives that hold no address, with the first of each that does. Raises
    InputError for an archive in which none does.
    """
    for archive, names in left.items():
        first = next((r for r in results if r.name.startswith(f"{archive}: ")), None)
        if first is None:
            raise NoAddressesError(
                f"{archive} holds no file with addresses",
                "check that it is the right one, or unpack it and name the --kind of its files",
            )
        inner = [name.removeprefix(f"{archive}: ") for name in names]
        more = f" and {len(inner) - 5:,} more" if len(inner) > 5 else ""
        first.notes.append(f"without addresses, and left out: {', '.join(inner[:5])}{more}")


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
    if note := hidden_note(file.path):
        left(note)
    if len(names) < 2:
        return [file]
    good, rest = [], []
    for name in names:
        its = replace(options, sheet=name)
        if request_lines(file.path, FileKind.SHEET, its) is not None:
            good.append(name)
            continue
        try:
            read_table(file.path, its, FileKind.SHEET)
        except InputError:
            rest.append(name)
        else:
            good.append(name)
    if not good:
        return [file]
    if rest:
        left(f"without a column of addresses, and left out: the sheets {', '.join(rest)}")
    return [replace(file, name=f"{file.name} ({name})", sheet=name) for name in good]
