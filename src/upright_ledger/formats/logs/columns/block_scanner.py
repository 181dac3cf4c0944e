"""Scanning logs: blocks of lines taken apart as columns, many thousands at a time, on all cores."""

from __future__ import annotations

import os
from abc import ABC, abstractmethod
from collections import deque
from collections.abc import Iterable, Iterator, Mapping, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from dataclasses import dataclass, replace
from itertools import chain
from typing import Any, BinaryIO, ClassVar

import numpy as np
import numpy.typing as npt

from upright_ledger.core.inventory.normalisation import TRACKING_PARAMETER
from upright_ledger.core.monitoring.campaigns import BY_CAMPAIGN, Campaigns
from upright_ledger.core.monitoring.deploy_days import Split
from upright_ledger.formats.logs.line_blocks import Buffers, Bytes, Places, line_blocks
from upright_ledger.formats.logs.visitors import Visitors

_TOGETHER = 12  # blocks


@dataclass(frozen=True, slots=True)
class Columns:
    """What the lines of a block say. All but `odd` have one value a line that came apart.

    number, digest (64 bits), visitor (see `visitors`), status: integers. request, day, agent,
    referrer, campaign (as it stands among referrers; null where none is told): Arrow dictionary
    arrays. odd: the other lines, as (number, digest, line).
    """

    number: Places
    digest: npt.NDArray[np.uint64]
    request: Any
    status: Places
    day: Any
    agent: Any
    referrer: Any
    campaign: Any
    visitor: Visitors
    odd: Sequence[tuple[int, int, str]] = ()

    def numbered_from(self, number: int) -> Columns:
        """The same columns, their lines numbered from there instead of 0."""
        odd = [(at + number, digest, line) for at, digest, line in self.odd]
        return replace(self, number=self.number + number, odd=odd)


class BlockScanner(ABC):
    """Takes blocks apart on several threads. with_hosts: requests begin with the host they were
    sent to and a blank. splits: where days are taken apart.

    noise: kind → names (a regular expression) of parameters that tell nothing of the page; requests
    come without them, with the sign of that kind (see `sign_of`) in the place of each run.
    """

    most_workers: ClassVar[int] = 4
    """Blocks that are taken apart at the same time; of one, in their order."""

    def __init__(
        self, *, with_hosts: bool, noise: Mapping[str, str], splits: Sequence[Split] = ()
    ) -> None:
        self.with_hosts = with_hosts
        self.splits = splits
        self.without_noise = NoiseFilter(noise)

    def scan(self, file: BinaryIO, threads: int = 0) -> Iterator[tuple[Columns, int]]:
        """The columns of a file's lines, in their order, those of several blocks together, with the
        number of the line after them. threads: how many at most; 0: as many as there are cores.
        """
        found: list[Columns] = []
        number = 1
        for columns, lines in self._each(file, threads or os.cpu_count() or 1):
            found.append(columns.numbered_from(number))
            number += lines
            if len(found) == _TOGETHER:
                yield _together(found), number
                found = []
        if found:
            yield _together(found), number

    def _each(self, file: BinaryIO, threads: int) -> Iterator[tuple[Columns, int]]:
        """The columns of each block, its lines numbered from 0, and how many they are."""
        workers = min(self.most_workers, threads)
        waiting: deque[Future[tuple[Columns, int]]] = deque()
        buffers = Buffers()

        def take_apart(block: Bytes) -> tuple[Columns, int]:
            found = self.take_apart(block)
            buffers.give_back(block)
            return found

        with ThreadPoolExecutor(workers) as pool:
            try:
                for block in line_blocks(file, buffers):
                    waiting.append(pool.submit(take_apart, block))
                    if len(waiting) > workers:
                        yield waiting.popleft().result()
                while waiting:
                    yield waiting.popleft().result()
            finally:
                for future in waiting:
                    future.cancel()

    @abstractmethod
    def take_apart(self, data: Bytes) -> tuple[Columns, int]:
        """The columns of one block, its lines numbered from 0, and how many lines it has."""


class NoiseFilter:
    """Takes out of requests the parameters that tell nothing. noise: kind → their names (a regular
    expression).
    """

    def __init__(self, noise: Mapping[str, str]) -> None:
        self._noise = [(sign_of(number), names) for number, names in enumerate(noise.values())]
        self._tracking = noise.get(TRACKING_PARAMETER, "")
        self._campaigns = Campaigns(self._tracking)

    def __call__(self, requests: Any) -> Any:
        """Requests (an Arrow dictionary array) without them, worked out once for each distinct
        request.
        """
        import pyarrow as pa
        import pyarrow.compute as pc

        if not self._noise:
            return requests
        texts = requests.dictionary
        for sign, names in self._noise:
            # A query has begun, with "?" or with a sign; a path that holds "&" is left for those
            # who place it.
            noisy = pc.match_substring_regex(texts, rf"^[^?&]*[?\x01-\x08](?:[^ ]*&)?(?i:{names})=")
            cleaned = pc.replace_substring_regex(
                texts.filter(noisy), rf"(?:[?&](?i:{names})=[^& \x01-\x08]*)+", sign
            )
            texts = pc.replace_with_mask(texts, noisy, cleaned)
        return pa.DictionaryArray.from_arrays(requests.indices, texts)

    def campaigns(self, requests: Any) -> Any:
        """The campaigns by which requests came (both Arrow dictionary arrays), as they stand among
        referrers; null where none is told.
        """
        import pyarrow as pa
        import pyarrow.compute as pc

        texts, found = requests.dictionary, dict[str, int]()
        of_texts = np.full(len(texts), -1, np.int32)
        if self._tracking:
            told = pc.match_substring_regex(texts, rf"[?&](?i:{self._tracking})=")
            places = np.flatnonzero(told.to_numpy(zero_copy_only=False))
            for at, text in zip(places.tolist(), texts.take(places).to_pylist(), strict=True):
                name = f"{BY_CAMPAIGN}{self._campaigns.of(text)}"
                of_texts[at] = found.setdefault(name, len(found))
        codes = pa.array(of_texts, mask=of_texts < 0).take(requests.indices)
        return pa.DictionaryArray.from_arrays(codes, pa.array(list(found), pa.string()))


def sign_of(number: int) -> str:
    """The control character that stands for parameters of a kind of noise; logs hold none but as
    \\xHH.
    """
    return chr(number + 1)


def _together(parts: list[Columns]) -> Columns:
    """The columns of several blocks as one: each distinct text is then handed on once for all of
    them.
    """
    import pyarrow as pa

    def joined(columns: Iterable[Any]) -> Any:
        return pa.chunked_array(list(columns)).unify_dictionaries().combine_chunks()

    return Columns(
        np.concatenate([p.number for p in parts]),
        np.concatenate([p.digest for p in parts]),
        joined(p.request for p in parts),
        np.concatenate([p.status for p in parts]),
        joined(p.day for p in parts),
        joined(p.agent for p in parts),
        joined(p.referrer for p in parts),
        joined(p.campaign for p in parts),
        np.concatenate([p.visitor for p in parts]),
        list(chain.from_iterable(p.odd for p in parts)),
    )
