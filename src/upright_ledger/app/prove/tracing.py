"""Following requests over HTTP, in processes of their own, which load no more than they need."""

from __future__ import annotations

import os
from dataclasses import replace

from upright_ledger.app.worker_process import Few, Put, WorkerProcess, is_ending
from upright_ledger.core.tracing.trace import Trace
from upright_ledger.core.url.address import Address
from upright_ledger.formats.html.page_head import read_page
from upright_ledger.web.http.options import RequestOptions
from upright_ledger.web.http.tracer import Target, trace_all

_PATIENCE = 0.1  # seconds
_AT_ONCE = 200  # traces
_WORTH_SHARING = 500  # requests

Tracing = WorkerProcess[list[tuple[int, Trace]]]
"""Traces with the numbers of their requests."""


def start_tracing(manner: RequestOptions) -> Tracing:
    """Processes in which `replay` traces: two where no politeness is due, to be started before all
    else.
    """
    return Tracing(_trace, 2 if not manner.rate and (os.cpu_count() or 1) > 1 else 1)


def shares(
    left: list[tuple[int, Address]], place: Target, manner: RequestOptions, processes: int
) -> list[tuple[list[tuple[int, Address]], Target, RequestOptions]]:
    """What each process traces, and how: requests at once are shared out, too."""
    shares = processes if len(left) >= _WORTH_SHARING and manner.concurrent >= processes else 1
    each = replace(manner, concurrent=manner.concurrent // shares)
    return [(left[n::shares], place, each) for n in range(shares)]


def _trace(
    put: Put, left: list[tuple[int, Address]], place: Target, manner: RequestOptions
) -> None:
    """Trace numbered addresses, handing them over a few at a time."""
    few = Few[tuple[int, Trace]](put, _AT_ONCE, _PATIENCE)

    def done(number: int, trace: Trace) -> None:
        few.found.append((number, trace))

    trace_all(left, place, manner, read_page, done, few.hand_over, is_ending)
    put(few.found)
