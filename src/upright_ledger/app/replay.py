"""Replaying: old URLs over HTTP against a staging or live server, every hop recorded."""

from __future__ import annotations

import time
from collections.abc import Callable

from upright_ledger.app.book import Book
from upright_ledger.app.requests import read_requests
from upright_ledger.app.results import Results, Row
from upright_ledger.core.addresses import Address, NotAnAddressError, parse_address
from upright_ledger.core.verdicts import Trace, judge
from upright_ledger.errors import UsageError
from upright_ledger.formats.pages import read_page
from upright_ledger.formats.records import ReadOptions
from upright_ledger.ledger.runs import add_traces, begin_run, finish_run, last_build

COMMIT_SECONDS = 1.0


def replay(
    book: Book,
    paths: list[str],
    at: str,
    *,
    options: ReadOptions | None = None,
    kind: str = "",
    host: str = "",
    progress: Callable[[int, int], None] | None = None,
) -> Results:
    """Ask for every distinct URL at the given place, production host names kept, and keep the run.

    progress: called with how many traces are done, and of how many.
    """
    from upright_ledger.web.client import Place, trace_all

    try:
        place = parse_address(at if "://" in at else f"http://{at}")
    except NotAnAddressError as error:
        raise UsageError(f"--at {at} cannot be used: {error}", "such as --at http://127.0.0.1:8080") from None
    asked = read_requests(book, paths, options, kind, host)
    addresses = list(asked.addresses.values())
    rows: dict[int, Row] = {}
    waiting: list[int] = []
    with book.ledger.reading() as connection:
        built = last_build(connection)
    with book.ledger.writing() as connection:
        run = begin_run(connection, "replay", built.digest if built else "", place.origin)
    saved = time.monotonic()

    def save() -> None:
        nonlocal saved
        stored = ((n, rows[n].trace, rows[n].hits, rows[n].verdicts, rows[n].expected_text) for n in waiting)
        with book.ledger.writing() as connection:
            add_traces(connection, run, stored)
        waiting.clear()
        saved = time.monotonic()

    def done(number: int, trace: Trace) -> None:
        address = addresses[number]
        expected = book.expected(address)
        rows[number] = Row(trace, asked.hits[address.without_fragment], judge(trace, expected, book.homes), expected)
        waiting.append(number)
        if progress is not None:
            progress(len(rows), len(addresses))
        if time.monotonic() - saved >= COMMIT_SECONDS:
            save()

    trace_all(addresses, Place(_bare(place), book.sites.hosts), read_page, done)
    save()
    results = Results("replay", [rows[n] for n in sorted(rows)], asked.left_out)
    with book.ledger.writing() as connection:
        finish_run(connection, run, results.counts)
    return results


def _bare(place: Address) -> Address:
    return Address(place.scheme, place.host, place.port, "/", "")
