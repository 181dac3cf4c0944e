"""Opening a ledger, and saying where one is."""

from __future__ import annotations

from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from upright_ledger.app.begin.next_step import NextStep, next_step
from upright_ledger.app.decide.balance import Balance, balance
from upright_ledger.core.inventory.normalisation import FoldingPolicy
from upright_ledger.core.tracing.run_kind import RunKind
from upright_ledger.core.url.address import NotAnAddressError
from upright_ledger.core.url.origins import Sites, group_origins, read_origin
from upright_ledger.errors import UsageError
from upright_ledger.ledger.creating import create_ledger
from upright_ledger.ledger.db.databases import refuse_password
from upright_ledger.ledger.lines.totals import kept_pages
from upright_ledger.ledger.store import Ledger
from upright_ledger.ledger.tables.runs.builds import last_build
from upright_ledger.ledger.tables.runs.runs import last_run
from upright_ledger.ledger.tables.sources import list_sources
from upright_ledger.settings.file import new_settings_text


def open_new(
    folder: Path,
    old: list[str],
    new: list[str],
    *,
    database: str = "",
    slash: str = "as-stock",
    case: str = "fold",
    significant: list[str] | None = None,
) -> Ledger:
    """Make a new ledger. significant: texts such as "/catalogue.php=item,view"."""
    try:
        sites = Sites(group_origins(old), tuple(dict.fromkeys(read_origin(u) for u in new)))
    except NotAnAddressError as error:
        raise UsageError(
            f"an origin cannot be used: {error}", "write it as in https://www.quillhaven.example"
        ) from None
    chosen = dict(_significant(text) for text in significant or [])
    policy = FoldingPolicy(case=case, significant=chosen)
    refuse_password(database)
    return create_ledger(
        folder, new_settings_text(folder.resolve().name, database, sites, slash, policy)
    )


def _significant(text: str) -> tuple[str, tuple[str, ...]]:
    path, mark, names = text.partition("=")
    if not mark or not path or not names:
        raise UsageError(
            f"{text!r} names no path and parameters",
            "write it as in --significant /catalogue.php=item",
        )
    return path if path.startswith("/") else f"/{path}", tuple(n for n in names.split(",") if n)


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
