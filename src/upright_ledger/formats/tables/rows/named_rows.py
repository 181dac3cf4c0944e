"""Records of a name with its value a line (YAML, TOML, tables stood on their side) as rows."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

from upright_ledger.errors import InputError
from upright_ledger.formats.files.text import open_text
from upright_ledger.formats.logs.record_texts import Record, named_records
from upright_ledger.formats.tables.cells import Row
from upright_ledger.formats.tables.rows.json_rows import MAX_DOCUMENT, Named, flat, under_header

_OTHER = "other lines"


def named_rows(path: Path, encoding: str) -> Iterator[Row]:
    """The rows under a header of all names; lines that belong to no record have a column of their
    own. Raises InputError.
    """
    with open_text(path, encoding) as file:
        text = file.read(MAX_DOCUMENT + 1)
    if len(text) > MAX_DOCUMENT:
        raise InputError(
            f"{path} holds records of more than {MAX_DOCUMENT:,} characters", "export it as CSV"
        )
    yield from under_header(enumerate(map(_named, named_records(text)), 1))


def _named(record: Record) -> Named:
    return {_OTHER: record} if isinstance(record, str) else {**flat(record), _OTHER: None}
