"""The lists that come of a survey: faults, links to mend, addresses, and what to search and replace
in a content export.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from upright_ledger.app.collect.surveys.audit import Audited
from upright_ledger.core.crawl.audits.broken_inbound import InboundRow
from upright_ledger.core.crawl.audits.site_index import LinkToMend
from upright_ledger.core.severity import Severity
from upright_ledger.core.url.address import split_text
from upright_ledger.formats.tables.export import CSV, write_table
from upright_ledger.formats.tables.workbooks import Sheet

ADDRESS_COLUMNS = (
    "url", "outcome", "status", "linked_from", "depth", "leads_to", "title", "canonical",
    "language", "noindex", "reason",
)  # fmt: skip
MEND_COLUMNS = (
    "source",
    "url",
    "final_url",
    "status",
    "text",
    "place",
    "pages",
    "in_template",
    "written",
)
FAULT_COLUMNS = ("audit", "fault", "severity", "url", "beside", "text")
REPLACE_COLUMNS = ("find", "replace", "pages")


def write_survey(result: Audited, path: Path) -> None:
    """Write all of it as a workbook, or the addresses alone. Raises UsageError."""
    ranks = {Severity.ERROR: 0, Severity.WARNING: 1, Severity.NOTE: 2}
    rows = (
        (f.audit, f.kind, f.severity, url, beside, f.text)
        for f in result.faults
        for url, beside in f.rows or [("", "")]
    )
    addresses = Sheet("addresses", ADDRESS_COLUMNS, _addresses(result), ("url",))
    sheets = (
        Sheet("faults", FAULT_COLUMNS, rows, ("url",), severity=("severity", ranks)),
        _mend_sheet(result),
        Sheet("broken inbound", InboundRow._fields, result.inbound, ("url",)),
        addresses,
    )
    write_table(path, addresses, sheets)


def write_mends(result: Audited, path: Path) -> None:
    """Write the links to mend. Raises UsageError."""
    write_table(path, _mend_sheet(result), otherwise=CSV)


def write_replacements(result: Audited, path: Path) -> int:
    """Write what to search and replace in a content export, the longest first, so that none takes a
    part of another; returns their number.
    """
    rows = replacements(result.mends)
    write_table(path, Sheet("replacements", REPLACE_COLUMNS, rows), otherwise=CSV)
    return len(rows)


def replacements(mends: list[LinkToMend]) -> list[tuple[str, str, int]]:
    """(as it is written, what to write in the same form, pages that hold it) of links that lead to
    a page; relative ones cannot be replaced everywhere alike.
    """
    pages: Counter[tuple[str, str]] = Counter()
    for m in mends:
        find = m.written.partition("#")[0]
        _, authority, target = split_text(m.final)
        if not m.final:
            continue
        if find.startswith("//"):
            put = f"//{authority}{target}"
        elif find.startswith("/"):
            put = target if authority == split_text(m.target)[1] else m.final
        elif "://" in find:
            put = m.final
        else:
            continue
        pages[find, put] += m.pages
    return sorted(
        ((find, put, n) for (find, put), n in pages.items()), key=lambda row: (-len(row[0]), row)
    )


def _mend_sheet(result: Audited) -> Sheet:
    return Sheet(
        "links to mend",
        MEND_COLUMNS,
        map(_mend_cells, result.mends),
        ("source", "url", "final_url"),
    )


def _addresses(result: Audited) -> Iterator[tuple[Any, ...]]:
    site = result.site
    for url, line in site.lines.items():
        yield (
            url, line.outcome, line.status or "", site.inbound[url], line.depth, line.location,
            line.title, line.canonical, line.language,
            "yes" if line.noindex else "", line.reason,
        )  # fmt: skip


def _mend_cells(m: LinkToMend) -> tuple[Any, ...]:
    return (
        m.source,
        m.target,
        m.final,
        m.status,
        m.text,
        m.place,
        m.pages,
        "yes" if m.in_template else "",
        m.written,
    )
