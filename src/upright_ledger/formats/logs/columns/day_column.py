"""The days of lines in columns."""

from __future__ import annotations

from collections.abc import Sequence
from itertools import pairwise
from typing import Any

import numpy as np
import numpy.typing as npt

from upright_ledger.core.monitoring.deploy_days import Split, label_of, split_days
from upright_ledger.formats.logs.line_blocks import ZERO, Bytes, Places

DAY_LENGTH = 11
TIME_LENGTH = 28  # "03/May/2026:10:00:00 +0000] "


def days_of(data: Bytes, opened: Places) -> Any:
    """The days ("03/May/2026") before the opening quotes of requests; logs run in time, so few
    places begin another.
    """
    import pyarrow as pa

    # Day, month and year, a letter or digit after the other, as one number each; two digits of the
    # century in one byte.
    keys = np.zeros(len(opened), np.int64)
    for at in (0, 1, 4, 5, 9, 10):
        keys = keys << 8 | data.take(opened + (at - TIME_LENGTH))
    keys = keys << 8 | data.take(opened + (3 - TIME_LENGTH))
    century = (data.take(opened + (at - TIME_LENGTH)).astype(np.int64) & 15 for at in (7, 8))
    keys = keys << 8 | next(century) << 4 | next(century)
    begins = np.flatnonzero(np.r_[len(keys) > 0, keys[1:] != keys[:-1]])
    lengths = np.diff(np.r_[begins, len(keys)])
    texts = data[(opened[begins] - TIME_LENGTH)[:, None] + np.arange(DAY_LENGTH)]
    runs = pa.array([text.tobytes().decode() for text in texts], pa.string()).dictionary_encode()
    return pa.DictionaryArray.from_arrays(
        np.repeat(runs.indices.to_numpy(), lengths), runs.dictionary
    )


def taken_apart(days: Any, data: Bytes, opened: Places, splits: Sequence[Split]) -> Any:
    """Days with labels in the place of those on which a build went live (see
    core.monitoring.deploy_days).
    """
    import pyarrow as pa

    texts: list[str] = days.dictionary.to_pylist()
    codes = None
    for split_day in split_days(splits):
        year, month, day = split_day.split("-")
        text = f"{day}/{_MONTHS[int(month)]}/{year}"
        if text not in texts:
            continue
        codes = days.indices.to_numpy().copy() if codes is None else codes
        rows = np.flatnonzero(codes == texts.index(text))
        clock = opened[rows] - TIME_LENGTH + DAY_LENGTH + 1
        h, m, s = (10 * _digit(data, clock + at) + _digit(data, clock + at + 1) for at in (0, 3, 6))
        seconds = 3600 * h + 60 * m + s
        here = [split for split in splits if split.day == split_day]
        bounds = [-1, *(split.second for split in here), 1 << 30]
        for first, end in pairwise(bounds):
            within = rows[(seconds >= first) & (seconds < end)]
            if len(within):
                codes[within] = len(texts)
                texts.append(label_of(split_day, first, splits))
    return (
        days
        if codes is None
        else pa.DictionaryArray.from_arrays(pa.array(codes), pa.array(texts, pa.string()))
    )


_MONTHS = ("", "Jan", "Feb", "Mar", "Apr", "May", "Jun", "Jul", "Aug", "Sep", "Oct", "Nov", "Dec")


def _digit(data: Bytes, places: Places) -> Places:
    found: Places = data.take(places).astype(np.int64) - ZERO
    return found


def slices_of(data: Bytes, starts: Places, ends: Places) -> Any:
    """The texts between places of a block, which follow each other, as an Arrow array."""
    import pyarrow as pa

    if not len(starts):
        return pa.array([], pa.string())
    offsets = np.empty(2 * len(starts), np.int32)
    offsets[0::2], offsets[1::2] = starts, ends
    return _texts(offsets, data, len(offsets) - 1).take(pa.array(np.arange(0, len(offsets) - 1, 2)))


def _texts(offsets: npt.NDArray[np.int32], data: Bytes, count: int) -> Any:
    import pyarrow as pa

    return pa.StringArray.from_buffers(count, pa.py_buffer(offsets), pa.py_buffer(data))
