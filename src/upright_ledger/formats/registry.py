"""The kinds of files that hold old URLs, and who reads them."""

from __future__ import annotations

from dataclasses import replace
from functools import partial
from importlib import import_module
from pathlib import Path
from typing import cast

from upright_ledger.errors import UsageError
from upright_ledger.formats import detection as kinds
from upright_ledger.formats.records import Reader, Reading, ReadOptions

READERS: dict[str, tuple[str, str]] = {
    kinds.FileKind.TEXT: ("lists.text_list", "read_text_list"),
    **dict.fromkeys(kinds.OF_ROWS, ("tables.url_rows", "read_table_urls")),
    kinds.FileKind.WARC: ("lists.web_archive", "read_web_archive"),
    kinds.FileKind.SITEMAP: ("lists.sitemap", "read_sitemap"),
    kinds.FileKind.FEED: ("lists.sitemap", "read_feed"),
    kinds.FileKind.ROBOTS: ("lists.sitemap", "read_robots"),
    kinds.FileKind.PAGE: ("html.page_head", "read_page_links"),
    kinds.FileKind.ACCESS_LOG: ("logs.access_log", "read_access_log"),
    kinds.FileKind.ARCHIVE_INDEX: ("lists.archive_index", "read_archive_index"),
    kinds.FileKind.HAR: ("lists.archive_index", "read_har"),
    kinds.FileKind.RULES: ("server_config.detection", "read_rules"),
}
"""Kind → the module below `formats` and the `Reader` in it; loaded when a file is of that kind."""


def read_urls(path: Path, kind: str, options: ReadOptions) -> tuple[str, Reading]:
    """The kind of a file (recognised when `kind` is empty) and what it says."""
    check_kind(kind)
    found = kind or kinds.recognise_surely(path)
    return found, _reader_of(found)(path, options)


def read_whole(path: Path, kind: str, options: ReadOptions) -> Reading:
    """What a file says, read from its begin to its end: what a worker sends back."""
    reading = read_urls(path, kind, options)[1]
    # An iterator over a list can be sent, and what is found out on the way is there by then.
    return replace(reading, items=iter(list(reading.items)))


def _reader_of(kind: str) -> Reader:
    module, name = READERS[kind]
    reader = getattr(import_module(f"upright_ledger.formats.{module}"), name)
    return cast("Reader", partial(reader, kind=kind) if kind in kinds.OF_ROWS else reader)


def check_kind(kind: str) -> None:
    """Raises UsageError for a kind that nobody reads."""
    if kind and kind not in READERS:
        raise UsageError(
            f"no kind of file is called {kind!r}", f"choose one of: {', '.join(READERS)}"
        )
