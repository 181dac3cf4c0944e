"""The audits of a survey that was kept, and the lists that come of them."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from upright_ledger.app.survey import NEW
from upright_ledger.core.addresses import address_of
from upright_ledger.core.audits.audit import audit
from upright_ledger.core.audits.forms import FormRow, form_table
from upright_ledger.core.audits.renamings import LED, Renamed, compare
from upright_ledger.core.audits.site import Fault, LinkToMend, OutcomeRow, Site, Wanted, look_at, outcomes
from upright_ledger.core.families import Sections
from upright_ledger.core.surveying import Seen
from upright_ledger.errors import UsageError
from upright_ledger.formats.workbooks import Sheet, workbook_bytes
from upright_ledger.formats.writing import csv_bytes, write_whole
from upright_ledger.ledger.runs import SURVEY, Run, find_run
from upright_ledger.ledger.store import Ledger
from upright_ledger.ledger.surveys import load_seen

ADDRESS_COLUMNS = (
    "url",
    "outcome",
    "status",
    "linked_from",
    "depth",
    "leads_to",
    "title",
    "canonical",
    "language",
    "noindex",
    "reason",
)
MEND_COLUMNS = ("source", "url", "final_url", "status", "text", "place", "pages", "in_template", "written")
FAULT_COLUMNS = ("audit", "fault", "severity", "url", "beside", "text")


@dataclass
class Audited:
    """A survey with its audits. groups: what answers how, by section or first folder."""

    run: int
    name: str
    at: str
    site: Site
    groups: list[OutcomeRow]
    faults: list[Fault]
    forms: list[FormRow]
    renamed: Renamed | None = None

    @property
    def mends(self) -> list[LinkToMend]:
        """Links that lead to redirects and errors, those of templates first."""
        return self.site.mends

    @property
    def counts(self) -> dict[str, int]:
        """Outcome → addresses."""
        found: dict[str, int] = {}
        for row in self.groups:
            found[row.outcome] = found.get(row.outcome, 0) + row.addresses
        return found

    def as_dict(self) -> dict[str, Any]:
        told = {}
        if self.renamed is not None:
            told = {
                "renamings": [r._asdict() for r in self.renamed.renamings],
                "vanished": self.renamed.vanished,
                "appeared": self.renamed.appeared,
            }
        return told | {
            "run": self.run,
            "name": self.name,
            "at": self.at,
            "counts": self.counts,
            "pages": self.site.pages,
            "groups": [row._asdict() for row in self.groups],
            "faults": [
                {
                    "audit": f.audit,
                    "kind": f.kind,
                    "severity": f.severity,
                    "text": f.text,
                    "rows": [list(r) for r in f.rows],
                }
                for f in self.faults
            ],
            "links_to_mend": [m._asdict() for m in self.mends],
            "forms": [
                {
                    "use": f.use,
                    "scheme": dict(f.schemes),
                    "host": dict(f.hosts),
                    "slash": dict(f.slashes),
                    "case": dict(f.cases),
                }
                for f in self.forms
            ],
        }

    def write(self, path: Path) -> None:
        """Write all of it as .xlsx, or the addresses alone as .csv."""
        kind = path.suffix.lower()
        if kind == ".csv":
            write_whole(path, csv_bytes(ADDRESS_COLUMNS, self._addresses()))
        elif kind == ".xlsx":
            ranks = {"error": 0, "warning": 1, "note": 2}
            rows = (
                (f.audit, f.kind, f.severity, url, beside, f.text)
                for f in self.faults
                for url, beside in f.rows or [("", "")]
            )
            faults = Sheet("faults", FAULT_COLUMNS, rows, ("url",), severity=("severity", ranks))
            mends = Sheet("links to mend", MEND_COLUMNS, map(_mend_cells, self.mends), ("source", "url", "final_url"))
            write_whole(
                path, workbook_bytes(faults, mends, Sheet("addresses", ADDRESS_COLUMNS, self._addresses(), ("url",)))
            )
        else:
            raise UsageError(f"{path} has no ending that is known", "give it .xlsx or .csv")

    def write_mends(self, path: Path) -> None:
        """Write the links to mend as .csv or .xlsx."""
        if path.suffix.lower() == ".xlsx":
            write_whole(
                path,
                workbook_bytes(
                    Sheet("links to mend", MEND_COLUMNS, map(_mend_cells, self.mends), ("source", "url", "final_url"))
                ),
            )
        else:
            write_whole(path, csv_bytes(MEND_COLUMNS, map(_mend_cells, self.mends)))

    def write_pairs(self, path: Path) -> None:
        """Write the renamings that have no redirect yet as pairs, for `decide --from`."""
        renamed = self.renamed.renamings if self.renamed else []
        write_whole(path, csv_bytes(("old", "new", "status"), ((r.old, r.new, 301) for r in renamed if r.state != LED)))

    def _addresses(self) -> Iterator[tuple[Any, ...]]:
        for url, line in self.site.lines.items():
            yield (
                url, line.outcome, line.status or "", self.site.inbound[url], line.depth, line.location, line.title, line.canonical, line.language,
                "yes" if line.noindex else "", line.reason,
            )  # fmt: skip


def _mend_cells(m: LinkToMend) -> tuple[Any, ...]:
    return (m.source, m.target, m.final, m.status, m.text, m.place, m.pages, "yes" if m.in_template else "", m.written)


def audited(
    ledger: Ledger, which: str, *, side: str = NEW, staging: bool = False, site: Site | None = None, since: str = ""
) -> Audited:
    """The audits of a survey, by its number or name ("last": the newest). site: what is kept of it already, where it was just made. since: an
    earlier survey to compare it with.

    Raises UsageError where there is none.
    """
    found, site = _looked_at(ledger, which, site)
    renamed = compare(_looked_at(ledger, since, None)[1], site) if since else None
    settings = ledger.settings
    start = address_of(f"{found.at.split()[0]}/")
    origin = start.origin if side != NEW or not settings.sites.is_new(start) else settings.sites.new[0]
    wanted = Wanted(origin, settings.slash if side == NEW and settings.slash != "as-stock" else "", staging)
    sections = Sections(settings.sections)

    def group_of(url: str) -> str:
        address = address_of(url)
        of_site = settings.sites.site_of(address)
        named = sections.of(of_site, address.path) if of_site and settings.sections else ""
        return named or (f"/{address.path.split('/')[1]}/" if address.path.count("/") > 1 else "/")

    return Audited(
        found.id,
        found.name,
        found.at,
        site,
        outcomes(site, group_of),
        audit(site, wanted),
        form_table(site, wanted),
        renamed,
    )


def _looked_at(ledger: Ledger, which: str, site: Site | None) -> tuple[Run, Site]:
    """A survey, and what is kept of it for the audits."""
    with ledger.reading() as connection:
        found = find_run(connection, which, SURVEY)
        if found is None:
            raise UsageError(f"there is no survey {which!r}", "upright runs lists them")

        def load() -> Iterator[Seen]:
            return load_seen(connection, found.id)

        return found, look_at(load, site)
