"""The audits of a survey that was kept, and the lists that come of them."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable
from dataclasses import dataclass
from functools import cached_property
from typing import Any

from upright_ledger.app.collect.moved_pages import renamed_dict
from upright_ledger.app.collect.surveys.survey_request import NEW
from upright_ledger.app.move_state import MoveState
from upright_ledger.core.crawl.audits.all_audits import audit
from upright_ledger.core.crawl.audits.broken_inbound import InboundRow, broken_inbound
from upright_ledger.core.crawl.audits.moved_pages import Renamed, compare_surveys
from upright_ledger.core.crawl.audits.site_index import (
    AuditFinding,
    ExpectedSite,
    LinkToMend,
    OutcomeRow,
    SurveyedSite,
    outcomes,
)
from upright_ledger.core.crawl.audits.url_consistency import PARTS, FormRow, form_table
from upright_ledger.core.crawl.observation import OUTCOMES, CrawlOutcome
from upright_ledger.core.inventory.evidence import EntryEvidence
from upright_ledger.core.inventory.sections import Sections
from upright_ledger.core.inventory.url_patterns import templates
from upright_ledger.core.tracing.run_kind import RunKind
from upright_ledger.core.url.address import address_of, split_text
from upright_ledger.errors import UsageError
from upright_ledger.ledger.store import Ledger
from upright_ledger.ledger.tables.runs.crawl_blocks import load_seen
from upright_ledger.ledger.tables.runs.runs import Run, find_run
from upright_ledger.ledger.tables.sources import links_are_known
from upright_ledger.settings.model import Settings

SECTION, FAMILY = "section", "family"


@dataclass
class Audited:
    """A survey with its audits. groups: what answers how, by part; group_of: the part (section or
    first folder, or family) of an address. inbound: dead addresses to which others link. wanted:
    what the site should be. renamed: since an earlier survey, where one was named. links_known:
    whether anything tells which pages of other sites link here.
    """

    run: int
    name: str
    at: str
    site: SurveyedSite
    groups: list[OutcomeRow]
    group_of: Callable[[str], str]
    faults: list[AuditFinding]
    forms: list[FormRow]
    inbound: list[InboundRow]
    wanted: ExpectedSite
    renamed: Renamed | None = None
    links_known: bool = True

    @cached_property
    def mends(self) -> list[LinkToMend]:
        """Links that lead to redirects and errors, those of templates first, but for those that the
        settings say are all right.
        """
        return self.wanted.to_mend(self.site)

    @property
    def left_alone(self) -> int:
        """How many links the settings say are all right."""
        return len(self.site.mends) - len(self.mends)

    @property
    def counts(self) -> dict[str, int]:
        """Outcome → addresses."""
        found: dict[str, int] = {}
        for row in self.groups:
            found[row.outcome] = found.get(row.outcome, 0) + row.addresses
        return found

    @property
    def not_asked(self) -> Counter[str]:
        """Why addresses were not asked for → how many."""
        return Counter(
            line.reason
            for line in self.site.lines.values()
            if line.outcome == CrawlOutcome.NOT_ASKED
        )

    def as_dict(self) -> dict[str, Any]:
        told = renamed_dict(self.renamed) if self.renamed is not None else {}
        return told | {
            "run": self.run,
            "name": self.name,
            "at": self.at,
            "counts": self.counts,
            "not_asked": dict(self.not_asked),
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
            "broken_inbound": [row._asdict() for row in self.inbound],
            "links_known": self.links_known,
            "forms": [
                {"use": f.use}
                | {
                    name: dict(f.counts[part])
                    for name, part in zip(("scheme", "host", "slash", "case"), PARTS, strict=True)
                }
                for f in self.forms
            ],
        }

    def parts(self, what: str, part: str = "") -> list[tuple[str, str]]:
        """The rows behind a figure: addresses of an outcome or of a fault, each with what stands
        beside it; of one part alone where one is named.

        Raises UsageError where nothing is called so.
        """
        rows = [
            (url, beside)
            for f in self.faults
            if what in {f.kind, f.audit}
            for url, beside in f.rows
        ]
        if what in OUTCOMES:
            rows = [
                (url, line.location or line.reason)
                for url, line in self.site.lines.items()
                if line.outcome == what
            ]
        elif not any(what in {f.kind, f.audit} for f in self.faults):
            known = dict.fromkeys([*self.counts, *(f.kind for f in self.faults)])
            raise UsageError(f"nothing here is called {what!r}", f"one of: {', '.join(known)}")
        return [row for row in rows if not part or self.group_of(row[0]) == part]


def audited(
    ledger: Ledger,
    which: str,
    *,
    side: str = NEW,
    staging: bool = False,
    site: SurveyedSite | None = None,
    since: str = "",
    by: str = SECTION,
) -> Audited:
    """The audits of a survey, by its number or name ("last": the newest). site: what is kept of it
    already, where it was just made. since: an earlier survey to compare it with. by: the parts of
    the site.

    Raises UsageError where there is none.
    """
    found, site = _looked_at(ledger, which, site)
    renamed = compare_surveys(_looked_at(ledger, since, None)[1], site) if since else None
    with ledger.reading() as connection:
        links_known = links_are_known(connection)
    settings = ledger.settings
    starts = [address_of(f"{origin}/") for origin in found.at.split()]
    of_new = side == NEW and settings.sites.is_new(starts[0])
    origins = settings.sites.new if of_new else tuple(a.origin for a in starts)
    slash = settings.slash if side == NEW and settings.slash != "as-stock" else ""
    known = _known(ledger)

    def is_old(url: str) -> bool:
        address = address_of(url)
        return bool(settings.sites.site_of(address)) and not settings.sites.is_new(address)

    wanted = ExpectedSite(
        origins[0],
        slash,
        staging,
        origins,
        settings.policy.index_set,
        known,
        is_old if of_new else (lambda _: False),
        settings.links.ignored,
    )
    table = form_table(site, wanted)
    group_of = _families(site) if by == FAMILY else _sections(settings)
    return Audited(
        found.id,
        found.name,
        found.at,
        site,
        outcomes(site, group_of),
        group_of,
        audit(site, wanted, table),
        table,
        broken_inbound(site, known),
        wanted,
        renamed,
        links_known,
    )


def _sections(settings: Settings) -> Callable[[str], str]:
    sections = Sections(settings.sections)

    def group_of(url: str) -> str:
        address = address_of(url)
        of_site = settings.sites.site_of(address)
        named = sections.of(of_site, address.path) if of_site and settings.sections else ""
        return named or (f"/{address.path.split('/')[1]}/" if address.path.count("/") > 1 else "/")

    return group_of


def _families(site: SurveyedSite) -> Callable[[str], str]:
    found = templates(list(dict.fromkeys(split_text(url)[2] for url in site.lines)))
    return lambda url: found.get(split_text(url)[2], "no family")


def _known(ledger: Ledger) -> Callable[[str], EntryEvidence | None]:
    """What the ledger knows of an address; it is read only where one may be an old one."""
    sites = ledger.settings.sites
    move = MoveState(ledger)

    def known(url: str) -> EntryEvidence | None:
        address = address_of(url)
        entry = move.entry_of(address) if sites.site_of(address) else None
        return entry.evidence if entry is not None else None

    return known


def _looked_at(ledger: Ledger, which: str, site: SurveyedSite | None) -> tuple[Run, SurveyedSite]:
    """A survey, and what is kept of it for the audits."""
    with ledger.reading() as connection:
        found = find_run(connection, which, RunKind.SURVEY)
        if found is None:
            raise UsageError(f"there is no survey {which!r}", "upright runs lists them")

        if site is None:
            site = SurveyedSite()
            for seen in load_seen(connection, found.id):
                site.add(seen)
    site.settle()
    return found, site
