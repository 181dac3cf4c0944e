"""Files of columns as rows: Parquet (https://parquet.apache.org/docs/file-format/), ORC
(https://orc.apache.org/specification/), and Arrow
(https://arrow.apache.org/docs/format/Columnar.html), which some call Feather.
"""

from __future__ import annotations

from collections.abc import Iterator
from datetime import date
from pathlib import Path
from typing import TYPE_CHECKING, Any

from upright_ledger.errors import InputError
from upright_ledger.formats.tables.cells import Row
from upright_ledger.formats.tables.rows.json_rows import Named, flat, under_header

if TYPE_CHECKING:
    import pyarrow as pa

_ROWS = 10_000  # at a time
_PARQUET, _ORC = b"PAR1", b"ORC"


def column_file_rows(path: Path) -> Iterator[Row]:
    """The rows under a header of all names; what stands in objects is named by them. Raises
    InputError.
    """
    import pyarrow as pa

    try:
        yield from under_header(_named(path))
    except (pa.ArrowException, OSError, UnicodeDecodeError) as error:
        raise InputError(
            f"{path} is damaged: {str(error).partition(chr(10))[0][:200].rstrip('.')}",
            "export it again",
        ) from None


def _named(path: Path) -> Iterator[tuple[int, Named]]:
    number = 0
    for batch in _batches(path):
        for row in batch.to_pylist():
            number += 1
            yield number, flat({name: _plain(value) for name, value in row.items()})


def _batches(path: Path) -> Iterator[pa.RecordBatch]:
    import pyarrow as pa
    import pyarrow.parquet as pq

    with path.open("rb") as file:
        magic = file.read(len(_PARQUET))
        file.seek(0)
        if magic == _PARQUET:
            yield from pq.ParquetFile(file).iter_batches(_ROWS)
            return
        if magic.startswith(_ORC):
            from pyarrow import orc

            stripes = orc.ORCFile(file)
            yield from (stripes.read_stripe(n) for n in range(stripes.nstripes))
            return
        arrow = pa.ipc.open_file(file)
        for n in range(arrow.num_record_batches):
            batch = arrow.get_batch(n)
            for at in range(0, batch.num_rows, _ROWS):
                yield batch.slice(at, _ROWS)


def _plain(value: Any) -> Any:
    """A value as JSON would tell it."""
    if isinstance(value, dict):
        return {str(name): _plain(inner) for name, inner in value.items()}
    if isinstance(value, list):
        return [_plain(inner) for inner in value]
    if isinstance(value, bytes):
        return value.decode("utf-8", "replace")
    if isinstance(value, date):
        return value.isoformat()
    return value if value is None or isinstance(value, str | int | float) else str(value)
