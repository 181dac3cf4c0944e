"""The kinds of files that hold old URLs, and who reads them."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

from upright_ledger.errors import UsageError
from upright_ledger.formats.accesslog import read_access_log
from upright_ledger.formats.reading import ACCESS_LOG, SITEMAP, TABLE, TEXT, recognise
from upright_ledger.formats.records import Item, Reader, ReadOptions
from upright_ledger.formats.sitemaps import read_sitemap
from upright_ledger.formats.tables import read_table_urls
from upright_ledger.formats.textlist import read_text_list

READERS: dict[str, Reader] = {
    TEXT: read_text_list,
    TABLE: read_table_urls,
    SITEMAP: read_sitemap,
    ACCESS_LOG: read_access_log,
}


def read_urls(path: Path, kind: str, options: ReadOptions) -> tuple[str, Iterator[Item]]:
    """The kind of a file (recognised when `kind` is empty) and its items."""
    if kind and kind not in READERS:
        raise UsageError(f"no kind of file is called {kind!r}", f"choose one of: {', '.join(READERS)}")
    found = kind or recognise(path)
    return found, READERS[found](path, options)
