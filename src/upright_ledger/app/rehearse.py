"""Rehearsing: old URL lists and logs through the rule set, without any server."""

from __future__ import annotations

from upright_ledger.app.book import Book
from upright_ledger.app.requests import read_requests
from upright_ledger.app.results import Results, Row
from upright_ledger.core.checks import StockPage
from upright_ledger.core.tracing import trace_offline
from upright_ledger.core.verdicts import judge
from upright_ledger.formats.records import ReadOptions
from upright_ledger.ledger.runs import add_traces, begin_run, finish_run


def rehearse(
    book: Book, paths: list[str], *, options: ReadOptions | None = None, kind: str = "", host: str = ""
) -> Results:
    """Trace every distinct request of the files through the rules, and keep the run."""
    asked = read_requests(book, paths, options, kind, host)
    stock = {page: StockPage(d.status, d.redirects_to) for page, d in book.stock.items()}
    rows = []
    for text, address in asked.addresses.items():
        trace = trace_offline(address, book.all_rules, book.sites, stock)
        expected = book.expected(address)
        rows.append(Row(trace, asked.hits[text], judge(trace, expected, book.homes), expected))
    results = Results("rehearse", rows, asked.left_out)
    with book.ledger.writing() as connection:
        run = begin_run(connection, "rehearse", book.rules.digest, "")
        add_traces(connection, run, ((n, r.trace, r.hits, r.verdicts, r.expected_text) for n, r in enumerate(rows)))
        finish_run(connection, run, results.counts)
    return results
