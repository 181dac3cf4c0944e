"""What the values of many lines mean, as columns: each distinct one is looked at once."""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Sequence
from typing import Any

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from upright_ledger.formats.logs.line_blocks import RETURN, Bytes, Places

_APART = "\x1f"  # no value holds it bare


def meanings(
    columns: Sequence[Any], rows: int, meaning: Callable[[Sequence[str]], str | None]
) -> Any:
    """What the values of each row mean together (null: nothing): an Arrow dictionary array.

    columns: of texts, none of which holds a control character; perhaps none at all.
    """
    alike = (
        pc.binary_join_element_wise(*columns, _APART)
        if len(columns) > 1
        else columns[0]
        if columns
        else pa.repeat(pa.scalar("", pa.string()), rows)
    ).dictionary_encode()
    width = len(columns)
    told = [meaning(t.split(_APART) if width else ()) for t in alike.dictionary.to_pylist()]
    return by_number(alike.indices, told)


def by_number(indices: Any, texts: Sequence[str | None]) -> Any:
    """Texts by their numbers: an Arrow dictionary array, null where there is none."""
    numbers: dict[str, int] = {}
    of_texts = [-1 if t is None else numbers.setdefault(t, len(numbers)) for t in texts]
    codes = np.array(of_texts, np.int32)[indices.to_numpy()]
    return pa.DictionaryArray.from_arrays(
        pa.array(codes, mask=codes < 0), pa.array(list(numbers), pa.string())
    )


def joined(parts: Sequence[Any], order: Places) -> Any:
    """Dictionary arrays of several outlines as one, in this order."""
    if not parts:
        return pa.array([], pa.string()).dictionary_encode()
    if len(parts) == 1:
        return parts[0]
    whole = pa.chunked_array(list(parts)).unify_dictionaries().combine_chunks()
    return whole.take(pa.array(order))


def digests_by_line(data: Bytes, breaks: Places) -> npt.NDArray[np.uint64]:
    """The digest of each line without its break, as logs that are read line by line have it."""
    starts = np.r_[0, breaks[:-1] + 1]
    ends = breaks - (data.take(np.maximum(breaks - 1, 0)) == RETURN)
    view, told = memoryview(data.data), hashlib.blake2b
    digests = [
        told(view[start:end], digest_size=8).digest()
        for start, end in zip(starts.tolist(), np.maximum(starts, ends).tolist(), strict=True)
    ]
    return np.frombuffer(b"".join(digests), "<u8").astype(np.uint64)
