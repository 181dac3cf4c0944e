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
from upright_ledger.core.url.address import split_text
from upright_ledger.errors import UsageError
from upright_ledger.formats.files.atomic import csv_bytes
from upright_ledger.formats.files.outputs import write_output
from upright_ledger.formats.tables.workbooks import Sheet, workbook_bytes

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
    """Write all of it as .xlsx, or the addresses alone as .csv. Raises UsageError."""
    kind = path.suffix.lower()
    if kind == ".csv":
        write_output(path, csv_bytes(ADDRESS_COLUMNS, _addresses(result)))
    elif kind == ".xlsx":
        ranks = {"error": 0, "warning": 1, "note": 2}
        rows = (
            (f.audit, f.kind, f.severity, url, beside, f.text)
            for f in result.faults
            for url, beside in f.rows or [("", "")]
        )
        sheets = (
            Sheet("faults", FAULT_COLUMNS, rows, ("url",), severity=("severity", ranks)),
            _mend_sheet(result),
            Sheet("broken inbound", InboundRow._fields, result.inbound, ("url",)),
            Sheet("addresses", ADDRESS_COLUMNS, _addresses(result), ("url",)),
        )
        write_output(path, workbook_bytes(*sheets))
    else:
        raise UsageError(f"{path} has no ending that is known", "give it .xlsx or .csv")


def write_mends(result: Audited, path: Path) -> None:
    """Write the links to mend as .csv or .xlsx."""
    if path.suffix.lower() == ".xlsx":
        write_output(path, workbook_bytes(_mend_sheet(result)))
    else:
        write_output(path, csv_bytes(MEND_COLUMNS, map(_mend_cells, result.mends)))


def write_replacements(result: Audited, path: Path) -> int:
    """Write what to search and replace in a content export, the longest first, so that none takes a
    part of another; returns their number.
    """
    rows = replacements(result.mends)
    write_output(path, csv_bytes(REPLACE_COLUMNS, rows))
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
