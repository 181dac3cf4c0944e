"""A piece of a log, as whoever reads it holds it: what its lines say as numbers, asked step by
step.

Nobody who reads a piece knows the others: which lines count already, what the first line's number
is, and who is a scanner, is said to them when all pieces were read.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any, NamedTuple

import numpy as np
import numpy.typing as npt
from xxhash import xxh3_64_intdigest

from upright_ledger.errors import InputError
from upright_ledger.formats.files.compressed import read_head
from upright_ledger.formats.files.spans import Span, open_span
from upright_ledger.formats.logs.counting.line_identity import Digests
from upright_ledger.formats.logs.counting.request_lines import (
    TARGET_AT,
    RequestLines,
    Told,
    joined,
)
from upright_ledger.formats.logs.counting.request_sums import (
    Summary,
    Sums,
    is_failing,
    pages,
    visitors_of_days,
)
from upright_ledger.formats.logs.log_reader import LogReader
from upright_ledger.formats.logs.log_text import open_log
from upright_ledger.formats.logs.visitors import Conduct, Visitors, conduct_of, is_among, probing
from upright_ledger.formats.records import ReadOptions, Reject

MOST_REJECTS = 100_000
"""Rejected lines of a piece whose text is kept."""


class PieceSource(NamedTuple):
    """Where a piece is read. size: of the file. span: None where it is read whole."""

    path: Path
    size: int
    span: Span | None
    options: ReadOptions


@dataclass
class Others:
    """Lines that tell of no request. lines: of the piece, all of them. rejects: the first ones;
    more: why further ones were rejected → lines. aside: class → lines.
    """

    lines: int = 0
    rejects: list[Reject] = field(default_factory=list)
    more: Counter[str] = field(default_factory=Counter)
    aside: Counter[str] = field(default_factory=Counter)

    def reject(self, found: Reject) -> None:
        """Note a rejected line."""
        if len(self.rejects) < MOST_REJECTS:
            self.rejects.append(found)
        else:
            self.more[found.reason] += 1

    def numbered_from(self, number: int) -> Others:
        """The same, the first line having that number."""
        return replace(self, rejects=[replace(r, line=r.line + number - 1) for r in self.rejects])


class Piece(NamedTuple):
    """A piece that was read. told: its sound lines, numbered from 1."""

    lines: RequestLines
    told: Told
    others: Others


class Days(NamedTuple):
    """The days of sound lines, as codes of these names, and what they are known by."""

    names: Sequence[str]
    codes: npt.NDArray[np.uint16]
    digests: Digests


def read_piece(source: PieceSource) -> Piece:
    """Read a piece. Raises InputError."""
    path, size, span, options = source
    head = read_head(path)
    if path.stat().st_size < size:
        raise InputError(
            f"{path} is shorter where a worker reads it",
            "have all workers see the same files, by a shared folder or a bucket",
        )
    reader = LogReader(head, size, options)
    lines = RequestLines(with_hosts=reader.with_hosts, noise=list(options.noise))
    others, told = Others(), list[Told]()
    opened = open_span(path, span) if span else open_log(path, head, options.encoding)
    with opened as file:
        # A worker has others beside it on the other cores.
        for group in reader.read(file, threads=1):
            for columns in group.columns:
                if len(columns.number):
                    damaged, sound = lines.read(columns)
                    told.append(sound)
                    for one in damaged:
                        others.reject(one)
            for other in group.others:
                if isinstance(other, Reject):
                    others.reject(other)
                else:
                    others.aside[other.kind] += other.lines
            others.lines = group.end - 1
    return Piece(lines, joined(told), others)


def others_of(piece: Piece) -> Others:
    """The lines of a piece that tell of no request."""
    return piece.others


def days_of(piece: Piece) -> Days:
    """By what the lines of a piece are known."""
    return Days(piece.lines.days, piece.told.days.astype(np.uint16), piece.told.digests)


def only_fresh(piece: Piece, fresh: npt.NDArray[np.uint8] | None, number: int) -> Piece:
    """A piece without the lines that count already. fresh: bits, or None where all lines are.
    number: of its first line.
    """
    told = piece.told._replace(numbers=piece.told.numbers + (number - 1))
    if fresh is not None:
        told = told.where(np.unpackbits(fresh, count=len(told.numbers)).astype(np.bool_))
    return piece._replace(told=told)


def probing_in(piece: Piece) -> tuple[Visitors, Any]:
    """Those who probe in a piece, and how often."""
    told = pages(piece.told)
    return probing(
        visitors_of_days(told, piece.lines.days), piece.lines.probes()[told.keys >> TARGET_AT]
    )


def conduct_in(piece: Piece, suspects: Visitors) -> Conduct:
    """What suspects did in a piece."""
    told = pages(piece.told)
    visitors = visitors_of_days(told, piece.lines.days)
    of_them = is_among(visitors, suspects)
    told, numbers = told.where(of_them), (told.keys >> TARGET_AT)[of_them]
    names, places = np.unique(numbers, return_inverse=True)
    targets = list(piece.lines.targets)
    hashes = np.fromiter((_hash(targets[n]) for n in names.tolist()), np.uint64, len(names))
    return conduct_of(
        suspects,
        visitors[of_them],
        hashes[places],
        piece.lines.probes()[numbers],
        is_failing(told),
    )


def _hash(target: tuple[str, str]) -> int:
    return xxh3_64_intdigest("\0".join(target).encode("utf-8", "surrogateescape"))


def summary_in(piece: Piece, guilty: Visitors, number: int) -> Summary:
    """What the lines of a piece amount to. guilty: scanners, in order. number: of the first
    line.
    """
    sums = Sums(piece.lines)
    sums.add_others(piece.told)
    told = pages(piece.told)
    sums.add(told, is_among(visitors_of_days(told, piece.lines.days), guilty))
    found = sums.summary()
    found.first_lines = [line + number - 1 for line in found.first_lines]
    return found
