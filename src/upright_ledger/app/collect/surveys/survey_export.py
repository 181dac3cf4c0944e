"""The lists that come of a survey: faults, links to mend, addresses, and what to search and replace
in a content export.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Iterator
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
    "external",
)
FAULT_COLUMNS = ("audit", "fault", "severity", "url", "beside", "text")
REPLACE_COLUMNS = ("find", "replace", "pages", "caution")


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
    part of another; returns how many of them plain search would do damage with.
    """
    rows = replacements(result.mends, result.site.inbound)
    write_table(path, Sheet("replacements", REPLACE_COLUMNS, rows), otherwise=CSV)
    return sum(1 for *_, caution in rows if caution)


def replacements(
    mends: list[LinkToMend], known: Iterable[str] = ()
) -> list[tuple[str, str, int, str]]:
    """(as it is written, what to write in the same form, pages that hold it, why plain search would
    do damage or nothing) of links that lead to a page; relative ones cannot be replaced everywhere
    alike. known: all addresses to which the site links.
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
    ordered = sorted(pages.items(), key=lambda item: (-len(item[0][0]), item[0]))
    everything = "\n".join(["", *known, ""])
    found: list[tuple[str, str, int, str]] = []
    for (find, put), n in ordered:
        found.append((find, put, n, _caution(find, put, [row[1] for row in found], everything)))
    return found


def _caution(find: str, put: str, put_before: Iterable[str], known: str) -> str:
    """What plain search for a text would damage. put_before: what was put in places by then; known:
    all addresses to which the site links, one a line.
    """
    if find in put:
        return "stands within what is put there: done twice it doubles"
    if within := next((text for text in put_before if find in text), ""):
        return f"stands within {within}, which is put in another place"
    at = known.find(find)
    while at >= 0:
        begin, end = known.rfind("\n", 0, at) + 1, known.index("\n", at)
        address = known[begin:end]
        if (
            address.removeprefix("http:").removeprefix("https:")
            != find.removeprefix("http:").removeprefix("https:")
            and split_text(address)[2] != find
        ):
            return f"stands within {address}, too"
        at = known.find(find, end)
    return ""


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
        "yes" if m.external else "",
    )
