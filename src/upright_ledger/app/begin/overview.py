"""Where a ledger stands: all that is said of it at a glance."""

from __future__ import annotations

from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from upright_ledger.app.begin.next_step import NextStep, next_step
from upright_ledger.app.decide.balance import Balance, balance
from upright_ledger.core.tracing.run_kind import RunKind
from upright_ledger.ledger.lines.totals import kept_pages
from upright_ledger.ledger.store import Ledger
from upright_ledger.ledger.tables.runs.builds import last_build
from upright_ledger.ledger.tables.runs.runs import last_run
from upright_ledger.ledger.tables.sources import list_sources


@dataclass
class Overview:
    """Where a ledger stands."""

    name: str
    folder: Path
    old: dict[str, list[str]]
    new: list[str]
    sources: list[dict[str, Any]]
    balance: Balance
    pages: int
    build: dict[str, Any] | None
    rehearsal: dict[str, Any] | None
    replay: dict[str, Any] | None
    next: NextStep = field(default_factory=lambda: NextStep("", ""))


def _run(row: Any) -> dict[str, Any] | None:
    return {"time": row.finished, "counts": row.counts} if row else None


def overview(ledger: Ledger) -> Overview:
    """Look over the whole ledger."""
    sites = ledger.settings.sites
    with ledger.reading() as connection:
        sources = [
            {
                "name": s.name,
                "kind": s.kind,
                "purpose": s.purpose,
                "time": s.time,
                "lines": s.lines,
                "accepted": s.accepted,
            }
            for s in list_sources(connection)
        ]
        built, pages = last_build(connection), kept_pages(connection)
        runs = {kind: last_run(connection, kind) for kind in (RunKind.REHEARSE, RunKind.REPLAY)}
    found = Overview(
        ledger.settings.name,
        ledger.folder,
        {site.name: list(site.origins) for site in sites.old},
        list(sites.new),
        sources,
        balance(ledger),
        pages,
        {
            "time": built.time,
            "server": built.dialect,
            "digest": built.digest,
            "rules": built.rules,
            "folder": built.folder,
        }
        if built
        else None,
        _run(runs[RunKind.REHEARSE]),
        _run(runs[RunKind.REPLAY]),
    )
    found.next = next_step(ledger)
    return found
