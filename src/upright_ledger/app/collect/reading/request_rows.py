"""Workbooks, databases and documents whose rows are requests are read as the log that they are."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import replace

from upright_ledger.formats.detection import FileKind
from upright_ledger.formats.files.compressed import Input
from upright_ledger.formats.files.leftovers import temporary_folder
from upright_ledger.formats.logs.request_rows import request_lines
from upright_ledger.formats.records import ReadOptions


@contextmanager
def as_read(file: Input, kind: str, options: ReadOptions) -> Iterator[tuple[Input, str]]:
    """A file and its kind as they are to be read: rows of requests lie meanwhile as the lines of a
    log in a folder of our own, where the user did not say what the file is. Raises InputError.
    """
    lines = None
    if not options.kind:
        lines = request_lines(file.path, kind, replace(options, sheet=file.sheet))
    if lines is None:
        yield file, kind
        return
    with temporary_folder() as folder:
        path = folder / "requests"
        with path.open("wb") as log:
            log.writelines(lines)
        yield replace(file, path=path, sheet="", is_ours=True), FileKind.ACCESS_LOG
