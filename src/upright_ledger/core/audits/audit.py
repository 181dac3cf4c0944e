"""All audits of a survey, in the order in which people should read them."""

from __future__ import annotations

from collections.abc import Callable, Iterator

from upright_ledger.core.audits.forms import FormRow, forms
from upright_ledger.core.audits.gate import GATE, gate
from upright_ledger.core.audits.old_links import old_links
from upright_ledger.core.audits.pages import canonicals, doubles, languages
from upright_ledger.core.audits.server import server
from upright_ledger.core.audits.site import ERROR, NOTE, WARNING, Fault, Site, Wanted
from upright_ledger.core.audits.sitemap import sitemap


def audit(site: Site, wanted: Wanted, table: list[FormRow]) -> list[Fault]:
    """All faults, the launch gate first. table: the forms of addresses, by use."""
    parts: tuple[Callable[[Site, Wanted], Iterator[Fault]], ...] = (
        gate,
        sitemap,
        canonicals,
        languages,
        server,
        doubles,
        old_links,
    )
    order = {ERROR: 0, WARNING: 1, NOTE: 2}
    found = [*forms(table, wanted), *(fault for part in parts for fault in part(site, wanted))]
    return sorted(found, key=lambda f: (f.audit != GATE, order[f.severity], -len(f.rows), f.kind))
