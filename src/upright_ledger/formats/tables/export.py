"""Tables that leave the ledger as files. A new format is one line of `FORMATS`."""

from __future__ import annotations

import json
from collections.abc import Callable, Collection, Mapping, Sequence
from pathlib import Path

from upright_ledger.errors import UsageError
from upright_ledger.formats.files.atomic import csv_bytes
from upright_ledger.formats.files.outputs import write_output
from upright_ledger.formats.tables.workbooks import Sheet, workbook_bytes

CSV, XLSX, JSON_LINES = ".csv", ".xlsx", ".jsonl"


def _csv(sheets: Sequence[Sheet]) -> bytes:
    return csv_bytes(sheets[0].header, sheets[0].rows)


def _json_lines(sheets: Sequence[Sheet]) -> bytes:
    rows = (dict(zip(sheets[0].header, row, strict=True)) for row in sheets[0].rows)
    text = "".join(json.dumps(row, ensure_ascii=False) + "\n" for row in rows)
    return text.encode("utf-8", "backslashreplace")


FORMATS: Mapping[str, Callable[[Sequence[Sheet]], bytes]] = {
    CSV: _csv,
    XLSX: lambda sheets: workbook_bytes(*sheets),
    JSON_LINES: _json_lines,
}
"""Ending of a file's name → how it is written. Formats of one table take the first sheet."""


def write_table(
    path: Path,
    sheet: Sheet,
    workbook: Sequence[Sheet] = (),
    *,
    only: Collection[str] = tuple(FORMATS),
    others: Mapping[str, Callable[[], bytes]] | None = None,
    otherwise: str = "",
) -> None:
    """Write a table in the format that a file's name asks for; CSV where it has no ending.

    workbook: what a workbook holds instead of the one sheet. only: endings that are possible here.
    others: formats of its own. otherwise: the ending as which one that nobody knows is taken.
    Raises UsageError for such a one where none is named.
    """
    ending, others = path.suffix.lower() or CSV, others or {}
    ending = otherwise if otherwise and ending not in {*only, *others} else ending
    if ending in others:
        write_output(path, others[ending]())
    elif ending in only:
        write_output(path, FORMATS[ending](workbook if workbook and ending == XLSX else [sheet]))
    else:
        *most, last = [*only, *others]
        raise UsageError(
            f"{path} has no ending that is known", f"give it {', '.join(most)} or {last}"
        )
