"""The kinds of files that hold old URLs, and who reads them."""

from __future__ import annotations

from functools import partial
from pathlib import Path

from upright_ledger.errors import UsageError
from upright_ledger.formats import detection as kinds
from upright_ledger.formats.html.page_head import read_page_links
from upright_ledger.formats.lists.archive_index import read_archive_index, read_har
from upright_ledger.formats.lists.sitemap import read_feed, read_robots, read_sitemap
from upright_ledger.formats.lists.text_list import read_text_list
from upright_ledger.formats.lists.web_archive import read_web_archive
from upright_ledger.formats.logs.access_log import read_access_log
from upright_ledger.formats.records import Reader, Reading, ReadOptions
from upright_ledger.formats.server_config.detection import read_rules
from upright_ledger.formats.tables.url_rows import read_table_urls

READERS: dict[str, Reader] = {
    kinds.FileKind.TEXT: read_text_list,
    **{kind: partial(read_table_urls, kind=kind) for kind in kinds.OF_ROWS},
    kinds.FileKind.WARC: read_web_archive,
    kinds.FileKind.SITEMAP: read_sitemap,
    kinds.FileKind.FEED: read_feed,
    kinds.FileKind.ROBOTS: read_robots,
    kinds.FileKind.PAGE: read_page_links,
    kinds.FileKind.ACCESS_LOG: read_access_log,
    kinds.FileKind.ARCHIVE_INDEX: read_archive_index,
    kinds.FileKind.HAR: read_har,
    kinds.FileKind.RULES: read_rules,
}


def read_urls(path: Path, kind: str, options: ReadOptions) -> tuple[str, Reading]:
    """The kind of a file (recognised when `kind` is empty) and what it says."""
    check_kind(kind)
    found = kind or kinds.recognise_surely(path)
    return found, READERS[found](path, options)


def check_kind(kind: str) -> None:
    """Raises UsageError for a kind that nobody reads."""
    if kind and kind not in READERS:
        raise UsageError(
            f"no kind of file is called {kind!r}", f"choose one of: {', '.join(READERS)}"
        )
