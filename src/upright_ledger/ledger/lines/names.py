"""By which of its spellings an entry is called."""

from __future__ import annotations

from collections.abc import Sequence

from upright_ledger.core.url.address import address_of
from upright_ledger.core.url.escapes import as_utf8
from upright_ledger.core.url.request_target import lower_ascii


def plainest(
    legacy_url: str, key: str, variants: Sequence[str], index_files: frozenset[str]
) -> str:
    """The address an entry is called by: the plainest spelling observed, whatever came first.

    variants: its canonical paths as observed, sorted. index_files: names that do not name an entry
    where another spelling does.
    """
    if not variants:
        return legacy_url
    path = variants[0]
    if len(variants) > 1:
        path = min(variants, key=lambda v: _plainness(v, index_files))
    mark = query = ""
    if "?" in key:
        _, mark, query = key.partition("?")
    if legacy_url.endswith(f"{path}{mark}{query}") and legacy_url.count("/") == path.count("/") + 2:
        return legacy_url
    return f"{address_of(legacy_url).origin}{path}{mark}{query}"


def _plainness(path: str, index_files: frozenset[str]) -> tuple[bool, int, bool, int, str]:
    return (
        as_utf8(path) != path,
        sum(map(str.isupper, path)),
        lower_ascii(path.rpartition("/")[2]) in index_files,
        len(path),
        path,
    )
