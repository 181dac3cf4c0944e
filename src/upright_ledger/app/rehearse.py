"""Rehearsing: old URL lists and logs through the rule set, without any server."""

from __future__ import annotations

from upright_ledger.app.book import Book
from upright_ledger.app.requests import own_requests, read_requests
from upright_ledger.app.results import Results, Row
from upright_ledger.app.runs import expected_text
from upright_ledger.core.causes import with_rules
from upright_ledger.core.checks import StockPage
from upright_ledger.core.tracing import trace_offline
from upright_ledger.core.verdicts import judge
from upright_ledger.formats.records import ReadOptions
from upright_ledger.ledger.runs import add_traces, begin_run, finish_run, name_run


def rehearse(
    book: Book,
    paths: list[str],
    *,
    options: ReadOptions | None = None,
    kind: str = "",
    host: str = "",
    name: str = "",
) -> Results:
    """Trace every distinct request of the files (without any, of the ledger's entries) through the rules, and keep the run.

    name: what the run is called.
    """
    asked = read_requests(book, paths, options, kind, host) if paths else own_requests(book)
    stock = {page: StockPage(d.status, d.redirects_to) for page, d in book.stock.items()}
    rules, homes = book.all_rules, book.homes
    rows = []
    for text, address in asked.addresses.items():
        trace = trace_offline(address, rules, book.sites, stock)
        entry = asked.entry(book, text)
        expected = book.expected_of(entry, address)
        verdicts = judge(trace, expected, homes)
        if verdicts[0] != "ok":
            trace = with_rules(trace, rules)
        value = entry.evidence.value if entry else 0.0
        rows.append(Row(trace, asked.hits[text], verdicts, expected_text(expected), value))
    results = Results("rehearse", rows, asked.left_out, name=name)
    with book.ledger.writing() as connection:
        results.run = begin_run(connection, "rehearse", book.rules.digest, "")
        add_traces(connection, results.run, (r.stored(n) for n, r in enumerate(rows)))
        finish_run(connection, results.run, results.counts)
        if name:
            name_run(connection, results.run, name)
    return results
