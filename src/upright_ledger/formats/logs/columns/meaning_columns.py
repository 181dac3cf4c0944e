"""What the values of many lines mean, as columns: each distinct one is looked at once."""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Sequence
from typing import Any, NamedTuple

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from upright_ledger.formats.logs.columns.block_scanner import Columns, NoiseFilter
from upright_ledger.formats.logs.line_blocks import RETURN, Bytes, Lines, Places
from upright_ledger.formats.logs.visitors import Visitors

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


class Told(NamedTuple):
    """What some lines of a block say. rows: which they are; visitor: who asked; all others Arrow
    dictionary arrays.
    """

    rows: Places
    request: Any
    status: Any
    day: Any
    agent: Any
    referrer: Any
    visitor: Visitors

    def whole(self) -> Told:
        """Those that tell request, status and day."""
        whole = pc.and_(
            pc.and_(self.request.is_valid(), self.status.is_valid()), self.day.is_valid()
        )
        kept = whole.to_numpy(zero_copy_only=False)
        return Told(
            self.rows[kept],
            self.request.filter(whole),
            self.status.filter(whole),
            self.day.filter(whole),
            self.agent.filter(whole),
            self.referrer.filter(whole),
            self.visitor[kept],
        )


def columns_of(
    told: Sequence[Told], data: Bytes, lines: Lines, without_noise: NoiseFilter
) -> tuple[Columns, int]:
    """What all parts of a block say, as its columns; what none of them tells of is left for those
    who read line by line.
    """
    rows = np.concatenate([np.zeros(0, np.int64), *(part.rows for part in told)])
    order = np.argsort(rows, kind="stable")
    rows = rows[order]
    request, status, day, agent, referrer = (
        _joined([part[n] for part in told], order) for n in range(1, len(Told._fields) - 1)
    )
    digests = digests_by_line(data, lines.ends)
    odd = np.ones(len(lines.ends), np.bool_)
    odd[rows] = False
    statuses = np.array([int(text) for text in status.dictionary.to_pylist()], np.int64)
    columns = Columns(
        rows,
        digests[rows],
        without_noise(request),
        statuses[status.indices.to_numpy()],
        day,
        agent,
        referrer,
        without_noise.campaigns(request),
        np.concatenate([np.zeros(0, np.uint64), *(part.visitor for part in told)])[order],
        [(at, int(digests[at]), lines.text(at)) for at in np.flatnonzero(odd).tolist()],
    )
    return columns, len(lines.ends)


def _joined(parts: Sequence[Any], order: Places) -> Any:
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
