"""What a redirect changes of an address."""

from __future__ import annotations

from functools import partial

from upright_ledger.core.url.address import Address, NotAnAddressError, parse_address
from upright_ledger.core.url.request_target import canonical_path, lower_ascii, toggle_slash


def what_changed(before: str, after: str, index_files: frozenset[str]) -> tuple[str, ...]:
    """What a redirect changed: scheme, host, slash, case, index file, query or content, in that
    order.
    """
    try:
        return changed_between(parse_address(before), parse_address(after), index_files)
    except NotAnAddressError:
        return ("content",)


def changed_between(old: Address, new: Address, index_files: frozenset[str]) -> tuple[str, ...]:
    """As `what_changed`, for addresses that are read already."""
    changed = []
    if old.scheme != new.scheme:
        changed.append("scheme")
    if old.authority != new.authority:
        changed.append("host")
    changed += _path_changes(canonical_path(old.path), canonical_path(new.path), index_files)
    if old.query != new.query:
        changed.append("query")
    return tuple(changed)


def _path_changes(old: str, new: str, index_files: frozenset[str]) -> list[str]:
    if old == new:
        return []
    found = []
    if lower_ascii(old) != old or lower_ascii(new) != new:
        folded_old, folded_new = lower_ascii(old), lower_ascii(new)
        bare = partial(without_index_file, index_files=index_files)
        if bare(folded_old) == bare(folded_new) and bare(old) != bare(new):
            found.append("case")
        old, new = folded_old, folded_new
    is_index = [path.rpartition("/")[2] in index_files for path in (old, new)]
    if is_index[0] != is_index[1] and without_index_file(old, index_files) == without_index_file(
        new, index_files
    ):
        return [*found, "index file"]
    if old != new and toggle_slash(old) == new:
        return ["slash", *found]
    if old != new:
        return ["content"]
    return found


def without_index_file(path: str, index_files: frozenset[str]) -> str:
    """A path without the name of an index file, and without its closing slash: what both forms of a
    page have in common.
    """
    head, _, last = path.rpartition("/")
    path = head + "/" if lower_ascii(last) in index_files else path
    return path.rstrip("/")
