"""Texts of many addresses at a time, as Arrow columns."""

from __future__ import annotations

import re
from collections.abc import Iterable
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
from numpy.typing import NDArray

from upright_ledger.core.inventory.normalisation import SIMPLE_PATH, FoldingPolicy

_ADDRESS = rf"^https?://[^/?#]+{SIMPLE_PATH}".replace(r"\Z", r"\z")
_AUTHORITY = len("https://")  # no host is so short that its slash came before that
_FILE_NAME = r"\.[A-Za-z0-9]{1,5}\z"
_NO_NAME = r"\z."


def column(texts: Iterable[str]) -> Any:
    """A column of texts, in which those are empty that are not plain ASCII."""
    return pa.array([t if t.isascii() else "" for t in texts], pa.string())


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


def origins_and_paths(addresses: Any) -> tuple[NDArray[np.bool_], Any, Any]:
    """Which addresses are an origin with a path of plain names between single slashes, and these
    two as columns; empty where they are not.
    """
    plain = array(pc.match_substring_regex(addresses, _ADDRESS))
    # An expression that need not tell its parts is some times as fast.
    written = texts(pc.if_else(pa.array(plain), addresses, ""))
    ends = [text.find("/", _AUTHORITY) for text in written]
    origins = [text[:end] for text, end in zip(written, ends, strict=True)]
    paths = [text[end:] for text, end in zip(written, ends, strict=True)]
    return plain, pa.array(origins, pa.string()), pa.array(paths, pa.string())


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
