"""A log read in pieces, by whoever has time, says what it says read from its first line on."""

from __future__ import annotations

import io
import pickle
import random
import re
from collections import Counter
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from counting import REQUESTS, WRITERS, Asked, write_log
from log_reading import small
from properties import thorough
from upright_ledger.formats.files.spans import Span, open_span, spans_of
from upright_ledger.formats.logs.access_log import read_access_log
from upright_ledger.formats.logs.line_blocks import Buffers, Lines, line_blocks
from upright_ledger.formats.logs.pieces.pieced_log import begin_reading, read_pieces, sources_of
from upright_ledger.formats.records import (
    Aside,
    Item,
    LogLines,
    Reading,
    ReadOptions,
    Record,
    Reject,
)

PROBES = ["/.env", "/.git/config", "/wp-login.php", "/xmlrpc.php", "/cgi-bin/../../etc/passwd"]
NOISE = {"session parameter": "PHPSESSID", "tracking parameter": "utm_source|gclid|fbclid"}


class Strangers:
    """Workers that do what they are asked in any order, as late as may be, by what came over the
    wire.
    """

    def __init__(self, seed: int) -> None:
        self._rng = random.Random(seed)
        self._asked: dict[int, tuple[Any, tuple[Any, ...]]] = {}
        self._done: dict[int, bytes] = {}

    def begin(self, work: Any, *arguments: Any) -> Any:
        number = len(self._asked)
        self._asked[number] = pickle.loads(pickle.dumps((work, arguments)))
        return _Task(number)

    def results(self, tasks: Sequence[Any]) -> Iterator[Any]:
        for task in self._rng.sample(list(tasks), len(tasks)):
            self._result(task)
        return (self._result(task) for task in tasks)

    def _result(self, thing: Any) -> Any:
        if isinstance(thing, list):
            return [self._result(one) for one in thing]
        if not isinstance(thing, _Task):
            return thing
        # One in five results is lost once, and worked out anew.
        if thing.number not in self._done or self._rng.random() < 0.2:
            work, arguments = self._asked[thing.number]
            self._done[thing.number] = pickle.dumps(work(*map(self._result, arguments)))
        return pickle.loads(self._done[thing.number])


class _Task:
    def __init__(self, number: int) -> None:
        self.number = number


def all_of(reading: Reading) -> dict[str, Any]:
    """All that a reading says, in an order of its own."""
    items: list[Item] = list(reading.items)
    asides: Counter[tuple[str, str]] = Counter()
    for item in items:
        if isinstance(item, Aside):
            asides[item.kind, item.text] += item.lines
    records = [i for i in items if isinstance(i, Record)]
    lines = reading.lines or LogLines("undated")
    return {
        "records": sorted((r.host, r.url, r.line, r.lines, r.real, r.askers, repr(r.figures),
            sorted(r.referrers.items())) for r in records),
        "asides": asides,
        "rejects": sorted((i.line, i.reason, i.text) for i in items if isinstance(i, Reject)),
        "lines": {
            day: sorted(np.frombuffer(data, "<u8").tolist())
            for day, data in lines.found.items()
        },
        "method": lines.method, "repeated": lines.repeated, "let go": lines.let_go,
        "days": reading.days, "folded": reading.folded, "notes": reading.notes,
    }  # fmt: skip


def in_pieces(path: Path, options: ReadOptions, most: int, seed: int) -> Reading:
    workers = Strangers(seed)
    sources = sources_of(path, options, most)
    return read_pieces(sources, begin_reading(sources, workers), options, workers)


@thorough
@given(
    asked=st.lists(st.one_of(REQUESTS, st.sampled_from(PROBES).map(lambda p: Asked(p, 404))),
        min_size=1, max_size=80),
    kind=st.sampled_from(sorted(WRITERS)),
    clients=st.integers(1, 9),
    before=st.integers(0, 30),
    most=st.integers(40, 3000),
    end=st.sampled_from(["\n", "\r\n", "\r"]),
    seed=st.integers(0, 1 << 20),
)  # fmt: skip
def test_a_log_in_pieces_says_what_it_says_as_one(
    tmp_path_factory: pytest.TempPathFactory, asked: list[Asked], kind: str, clients: int,
    before: int, most: int, end: str, seed: int,
) -> None:  # fmt: skip
    folder = tmp_path_factory.mktemp("log")
    rng = random.Random(seed)
    lines = [
        re.sub(r"198\.51\.\d+\.\d+", f"198.51.100.{rng.randrange(clients)}", line)
        for line in WRITERS[kind](asked)
    ]
    for n in range(len(lines) // 9):
        lines.insert(rng.randrange(1, len(lines) + 1), ["no line at all", "", "x" * 300][n % 3])
    with small(1 << 12):
        known = {}
        if before and any(lines[:before]):
            earlier = read_access_log(write_log(folder / "a", kind, lines[:before]), ReadOptions())
            list(earlier.items)
            known = {d: [data] for d, data in earlier.lines.found.items()} if earlier.lines else {}
        if known and rng.random() < 0.2:
            known[min(known)] = [b""]
        options = ReadOptions(
            noise=NOISE, known_lines=lambda _: known, hosts=frozenset(["quillhaven.example"])
        )
        path = write_log(folder / "b.log", kind, lines, end)
        whole, parts = (
            all_of(read_access_log(path, options)),
            all_of(in_pieces(path, options, most, seed)),
        )
    assert parts == whole


@thorough
@given(
    data=st.lists(st.sampled_from([b"\n", b"a", b"bc", b"\r\n", b"\r"]), max_size=60).map(b"".join),
    most=st.integers(1, 20),
)
def test_spans_hold_each_line_once(
    tmp_path_factory: pytest.TempPathFactory, data: bytes, most: int
) -> None:
    path = tmp_path_factory.mktemp("span") / "x"
    path.write_bytes(data)
    found = []
    for span in spans_of(len(data), most):
        with open_span(path, span) as file:
            found.append(file.read())
    assert b"".join(found) == data
    assert all(part.endswith(b"\n") for part in [*filter(None, found)][:-1])

    def texts(of: bytes) -> list[str]:
        blocks = line_blocks(io.BufferedReader(io.BytesIO(of)), Buffers())
        return [text for block in blocks for text in Lines(block).texts()]

    assert [text for part in found for text in texts(part)] == texts(data)


def test_a_file_that_shrank_ends_where_it_ends(tmp_path: Path) -> None:
    path = tmp_path / "x"
    path.write_bytes(b"a\nb\n")
    for span in (Span(2, 100), Span(50, 100)):
        with open_span(path, span) as file:
            assert file.read() == (b"b\n" if span.start == 2 else b"")
