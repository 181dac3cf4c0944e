"""Blocks of whole lines, against the lines that Python splits."""

from __future__ import annotations

import io

import numpy as np
import pytest
from hypothesis import example, given
from hypothesis import strategies as st
from xxhash import xxh3_64_intdigest

from upright_ledger.formats.logs import line_blocks
from upright_ledger.formats.logs.line_blocks import BLOCK, Buffers, Lines, spelled_out

MOST = 20
DATA = st.lists(st.sampled_from([b"a", b"bc", b"\n", b"\r\n", b"\r", b"\xe9", b"x" * 9])).map(
    b"".join
)


def blocks(data: bytes, size: int) -> list[bytes]:
    """The blocks of a file, each of at most so many bytes and the rest of a line."""
    buffers, found = Buffers(), []
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(line_blocks, "BLOCK", size)
        patch.setattr(line_blocks, "MAX_LINE", MOST)
        for block in line_blocks.line_blocks(io.BytesIO(data), buffers):
            found.append(block.tobytes())
            buffers.give_back(block)
    return found


def split(data: bytes) -> list[bytes]:
    """Lines by all three ends; what ends in a return at the end of a block may keep it."""
    return data.replace(b"\r\n", b"\n").replace(b"\r", b"\n").removesuffix(b"\n").split(b"\n")


@given(DATA, st.integers(1, 12))
@example(b"a\r", 1)
@example(b"\r\n\r\n", 1)
@example(b"y" * 25 + b"\ra", 1)  # the end of a line that is longer than is kept of it
@example(b"y" * 25 + b"\rb\n", 13)
@example(b"y" * 24 + b"\rb\n", 5)
def test_blocks_hold_the_lines_whole_in_their_order(data: bytes, size: int) -> None:
    found = blocks(data, size)
    assert all(block.endswith(b"\n") for block in found)
    lines = [line for block in found for line in split(block)]
    wanted = split(data) if data else []
    long = MOST + 1
    assert [line[:MOST] for line in lines] == [line[:MOST] for line in wanted]
    assert all(
        len(line) >= long for line, whole in zip(lines, wanted, strict=True) if len(whole) > MOST
    )


def test_a_long_line_is_cut_to_a_few_bytes_more_than_is_allowed() -> None:
    (block,) = blocks(b"y" * 500, 8)
    assert block == b"y" * (MOST + 1) + b"\n"
    assert blocks(b"y" * 500 + b"\nnext\n", 8)[-1].endswith(b"next\n")


def test_memory_is_used_again_and_has_room_for_a_block_and_a_line() -> None:
    buffers = Buffers()
    first = buffers.take()
    assert len(first) >= BLOCK + line_blocks.MAX_LINE + 1
    buffers.give_back(first[:10])
    assert buffers.take() is first
    assert buffers.take() is not first
    buffers.give_back(np.zeros(3, np.uint8))  # nobody's
    assert len(buffers.take()) > 3


@given(DATA.filter(lambda d: d.endswith(b"\n")))
def test_lines_are_told_with_their_digests(data: bytes) -> None:
    """What ends in a return and a line feed has the digest of what ends in a line feed; an empty
    line is one whatever it ends in.
    """
    lines = Lines(np.frombuffer(data, np.uint8))
    raw = data.split(b"\n")[:-1]
    assert [lines.text(n) for n in range(len(raw))] == [
        line.decode("utf-8", "backslashreplace").rstrip("\r") for line in raw
    ]
    wanted = [xxh3_64_intdigest(line.removesuffix(b"\r")) for line in raw]
    assert lines.digests().tolist() == wanted
    given_ends = Lines(np.frombuffer(data, np.uint8), lines.ends[:1])
    assert len(given_ends.ends) == min(1, len(raw))


def test_the_end_of_the_last_whole_line_is_found_wherever_it_is() -> None:
    for length in (1, 65_535, 65_536, 65_537, 200_000):
        for at in {0, 1, length // 2, length - 2, length - 1}:
            data = np.zeros(length, np.uint8)
            assert line_blocks._after_last_break(data) == 0
            if 0 <= at < length:
                data[at] = 10
                assert line_blocks._after_last_break(data) == at + 1, (length, at)


@pytest.mark.parametrize(
    ("data", "told"),
    [
        (b"caf\xc3\xa9 \xe9\xff", b"caf\xc3\xa9 \\xe9\\xff"),
        (b"a\x00\x01\x08\tb", b"a\\x00\\x01\\x08\tb"),
        (b"\\udce9", b"\\xe9"),
    ],
)
def test_strange_bytes_are_spelled_out(data: bytes, told: bytes) -> None:
    assert spelled_out(data) == told
