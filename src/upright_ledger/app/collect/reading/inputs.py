"""What the user names to be read: files, folders, patterns, standard input, web addresses; and the
files those name.
"""

from __future__ import annotations

import sys
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import cast

from upright_ledger.errors import InputError
from upright_ledger.formats.detection import DATABASE, IN_COLUMNS, OLD_WORKBOOK
from upright_ledger.formats.files.compressed import (
    MAX_FILES,
    STDIN,
    ZIP,
    Input,
    files_of,
    read_head,
    spooled,
)
from upright_ledger.formats.files.leftovers import temporary_folder
from upright_ledger.formats.files.members import holds_files, members_of
from upright_ledger.web.http.fetch import fetch
from upright_ledger.web.remote import RemotePath, is_remote, remote_files

__all__ = ["Input", "inputs", "neighbours_of"]


def _is_address(text: str) -> bool:
    return text.startswith(("http://", "https://"))


_MOST_NEIGHBOURS = 10_000
"""Sitemaps that one file may name."""


@contextmanager
def inputs(paths: list[str]) -> Iterator[list[Input]]:
    """The files to read. What comes from standard input or the web lies in a temporary folder
    meanwhile.

    Raises InputError for a path that is not there, a folder or pattern without files, an address
    that does not answer.
    """
    with temporary_folder() as folder:
        found: list[Input] = []
        for path in paths:
            if path == STDIN:
                found.append(spooled(_apart(folder), sys.stdin.buffer, "standard input"))
            elif Path(path).is_fifo():
                with Path(path).open("rb") as pipe:
                    found.append(spooled(_apart(folder), pipe, path))
            elif is_remote(path):
                found += (Input(cast("Path", one), str(one)) for one in remote_files(path))
            elif _is_address(path):
                found.append(Input(fetch(path, Path(folder)), path, is_ours=True))
            else:
                found += files_of(Path(path))
        if len(found) > MAX_FILES:
            raise InputError(
                f"{len(found):,} files are more than {MAX_FILES:,}", "gather them in several goes"
            )
        yield list(dict.fromkeys(one for file in found for one in _opened(file, Path(folder))))


def _opened(file: Input, folder: Path) -> list[Input]:
    """A file, or the members of an archive or a mail."""
    if isinstance(file.path, RemotePath) and read_head(file.path).startswith(_READ_WHOLE):
        with file.path.open("rb") as source:
            file = spooled(_apart(folder), source, file.name)
    return members_of(file, _apart(folder)) if holds_files(file.path) else [file]


_READ_WHOLE = (ZIP, OLD_WORKBOOK, DATABASE, *IN_COLUMNS)
"""What nobody reads from its begin to its end."""


def _is_file(path: Path) -> bool:
    try:
        return path.is_file()
    except (OSError, ValueError):  # no file can have such a name
        return False


def _apart(folder: Path) -> Path:
    return Path(tempfile.mkdtemp(dir=folder))


def neighbours_of(file: Input, addresses: list[str], notes: list[str]) -> list[Input]:
    """The files that a sitemap index or robots.txt names: fetched where it was fetched itself, else
    those that lie beside it.

    What cannot be had is said in `notes`.
    """
    found, missing = [], []
    for address in addresses[:_MOST_NEIGHBOURS]:
        if _is_address(file.name):
            try:
                fetched = fetch(address, file.path.parent, named_by=file.name)
                found.append(Input(fetched, address, is_ours=True))
            except InputError as error:
                notes.append(str(error))
            continue
        beside = file.path.parent / address.partition("?")[0].rpartition("/")[2]
        if _is_file(beside) and beside != file.path:
            found.append(Input(beside, beside.name))
        else:
            missing.append(address)
    if missing:
        notes.append(
            f"names {len(missing):,} sitemaps that were not read, such as {missing[0]}: gather "
            "them by address"
        )
    return found
