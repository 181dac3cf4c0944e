"""Texts of many addresses at a time, as Arrow columns."""

from __future__ import annotations

import re
from collections.abc import Sequence
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from numpy.typing import NDArray

from upright_ledger.core.inventory.noise import ASIDE_IN_RE2
from upright_ledger.core.inventory.normalisation import SIMPLE_PATH, FoldingPolicy
from upright_ledger.core.url.repair import PLAIN_SIGNS, is_sound

_ADDRESS = rf"^https?://[^/?#]+{SIMPLE_PATH}".replace(r"\Z", r"\z")
_SOUND = rf"^(?:https?://|/)(?:[{re.escape(PLAIN_SIGNS)}]*[A-Za-z0-9_~/=])?$"
_DOUBTFUL = r":///|/http|^.{8,}/www\."
_FILE_NAME = r"\.[A-Za-z0-9]{1,5}\z"
_NO_NAME = r"\z."


def column(texts: Sequence[str] | NDArray[np.object_]) -> Any:
    """A column of texts, in which those are empty that are not plain ASCII."""
    try:
        found = pa.array(texts, pa.string())
    except UnicodeEncodeError:  # a byte that is no letter
        return pa.array([t if t.isascii() else "" for t in texts], pa.string())
    plain = pc.string_is_ascii(found)
    return found if pc.all(plain).as_py() is not False else pc.if_else(plain, found, "")


def are_sound(texts: Sequence[str]) -> NDArray[np.bool_]:
    """As `is_sound`, of many texts."""
    told = column(texts)
    found = array(
        pc.and_not(
            pc.match_substring_regex(told, _SOUND), pc.match_substring_regex(told, _DOUBTFUL)
        )
    )
    escaped = np.flatnonzero(found & array(pc.match_substring(told, "%")))
    found = found.copy()
    found[escaped] = [is_sound(texts[n]) for n in escaped.tolist()]
    return found


def may_be_no_pages(targets: Sequence[str]) -> NDArray[np.bool_]:
    """Which targets may be set aside, or be page assets: a quick look that may say so too often."""
    told = column(targets)
    return array(
        pc.or_(
            pc.match_substring_regex(pc.ascii_lower(told), ASIDE_IN_RE2),
            pc.invert(pc.match_substring_regex(told, "^[A-Za-z0-9/_.~-]+$")),
        )
    )


def path_and_query(targets: Any) -> tuple[Any, Any, NDArray[np.bool_]]:
    """Targets as paths and queries, empty where there is none, and whether they have one."""
    cut = pc.split_pattern(targets, "?", max_splits=1)
    path = pc.list_element(cut, 0)
    asked = pc.match_substring(targets, "?")
    query = pa.repeat(pa.scalar("", pa.string()), len(targets))
    if pc.any(asked).as_py():
        query = pc.replace_with_mask(query, asked, pc.list_element(cut.filter(asked), 1))
    return path, query, array(asked)


def of_origins(addresses: Any, origins: Sequence[str]) -> tuple[NDArray[np.intp], Any, Any]:
    """Addresses that begin with one of these origins: which they are, the number of each one's
    origin, and its target as a column.
    """
    rows, numbers, targets = list[Any](), list[Any](), list[Any]()
    for number, origin in enumerate(origins):
        here = np.flatnonzero(array(pc.starts_with(addresses, f"{origin}/")))
        if len(here):
            rows.append(here)
            numbers.append(np.full(len(here), number))
            targets.append(pc.utf8_slice_codeunits(addresses.take(pa.array(here)), len(origin)))
    if not rows:
        nothing = np.zeros(0, dtype=np.intp)
        return nothing, nothing, pa.array([], pa.string())
    if len(rows) == 1:
        return rows[0], numbers[0], targets[0]
    at = np.concatenate(rows)
    order = np.argsort(at, kind="stable")
    target = pa.concat_arrays(targets).take(pa.array(order))
    return at[order], np.concatenate(numbers)[order], target


def array(values: Any) -> NDArray[Any]:
    """A column as NumPy has it."""
    found: NDArray[Any] = values.to_numpy(zero_copy_only=False)
    return found


def texts(values: Any) -> list[str]:
    """A column of texts as a list."""
    found: list[str] = array(values).tolist()
    return found


def those(which: NDArray[np.bool_], *columns: Any) -> list[Any]:
    """Columns without the rows that are not wanted."""
    if which.all():
        return list(columns)
    mask = pa.array(which)
    return [c[which] if isinstance(c, np.ndarray) else c.filter(mask) for c in columns]


def plain_paths(
    addresses: Any, origins: Sequence[str]
) -> tuple[NDArray[np.bool_], NDArray[np.intp], Any]:
    """Which addresses are one of these origins with a path of plain names between single slashes;
    the numbers of their origins, and the paths as a column: 0 and empty where they are not.
    """
    plain = array(pc.match_substring_regex(addresses, _ADDRESS))
    # An expression that need not tell its parts is some times as fast.
    rows, numbers, path = of_origins(pc.if_else(pa.array(plain), addresses, ""), origins)
    found, origin = np.zeros(len(plain), dtype=np.bool_), np.zeros(len(plain), dtype=np.intp)
    found[rows], origin[rows] = True, numbers
    if len(rows) < len(plain):
        nothing = pa.repeat(pa.scalar("", pa.string()), len(plain))
        path = pc.replace_with_mask(nothing, pa.array(found), path)
    return found, origin, path


def name_files(paths: Any) -> NDArray[np.bool_]:
    """As `request_target.names_file`, of paths of plain names."""
    return array(pc.match_substring_regex(paths, _FILE_NAME))


class PathFolds:
    """Folds paths of plain names under a policy, as `FoldingPolicy.fold_and_keep` does."""

    def __init__(self, policy: FoldingPolicy) -> None:
        self._case = policy.folds_case
        self._index = rf"(?i)/(?:{_either(policy.index_set)})\z"
        views = _either(policy.last_names - policy.index_set)
        self._careful = rf"(?i)/(?:{views}|page/[0-9]+)\z"

    def lowered(self, paths: Any) -> Any:
        """Paths with their letters as they are compared."""
        return pc.ascii_lower(paths) if self._case else paths

    def folded(self, paths: Any) -> tuple[Any, NDArray[np.bool_]]:
        """Paths without index file and trailing slash; and whether that is all: not where the last
        name asks for a view or a number of pages.
        """
        bare = pc.replace_substring_regex(self.lowered(paths), self._index, "/", max_replacements=1)
        trimmed = pc.utf8_rtrim(bare, "/")
        folded = pc.if_else(pc.equal(trimmed, ""), "/", trimmed)
        return folded, ~array(pc.match_substring_regex(folded, self._careful))


def _either(names: frozenset[str]) -> str:
    return "|".join(map(re.escape, sorted(names))) or _NO_NAME
