"""Columns of a log beside what its lines say one by one."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from upright_ledger.formats.logs.columns.block_scanner import BlockScanner
from upright_ledger.formats.logs.line_blocks import Lines
from upright_ledger.formats.logs.log_line import LogLine, NotALineError, Parser
from upright_ledger.formats.logs.visitors import visitors_named


def assert_alike(lines: Sequence[str], scanner: BlockScanner, parser: Parser) -> int:
    """Each line stands in a column or is left to the parser, and columns say what the parser says.
    How many stand in columns.
    """
    data = "".join(f"{line}\n" for line in lines).encode("utf-8", "surrogateescape")
    block = np.frombuffer(data, np.uint8)
    columns, count = scanner.take_apart(block)
    assert count == len(lines)
    assert sorted([*columns.number.tolist(), *(at for at, _, _ in columns.odd)]) == [*range(count)]
    said: dict[int, LogLine | str | None] = {}
    for at, line in enumerate(Lines(block).texts()):  # directives stand among them
        try:
            said[at] = parser(line)
        except NotALineError:
            said[at] = None
    told = zip(
        columns.number.tolist(),
        columns.request.to_pylist(),
        columns.status.tolist(),
        columns.day.to_pylist(),
        columns.agent.to_pylist(),
        columns.referrer.to_pylist(),
        columns.visitor.tolist(),
        strict=True,
    )
    for at, request, status, day, agent, referrer, visitor in told:
        line = said[at]
        assert isinstance(line, LogLine), lines[at]
        assert (request, status, day) == (f"{line.host} {line.request}", int(line.status), line.day)
        assert (agent, referrer) == (line.agent, line.referrer)
        assert visitor == visitors_named([line.client])[0]
    return len(columns.number)
