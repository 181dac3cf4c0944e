"""Advice: what an entry without a sure destination might be answered with, from its evidence."""

from __future__ import annotations

from upright_ledger.core.inventory.evidence import EntryEvidence

NO_LINK_DATA = "no link data was gathered, so nobody knows whether others link to it"


def advice(
    evidence: EntryEvidence, *, has_proposal: bool, has_fallback: bool, links_known: bool = True
) -> str:
    """A sentence for a person who has to decide; empty where a proposal says enough. links_known:
    whether anything tells which pages others link to.
    """
    if has_proposal:
        return ""
    asked = evidence.hits or evidence.visits or evidence.clicks
    if evidence.links:
        where = "its section's page" if has_fallback else "a page that serves the same need"
        return f"no page fits, but others link to it: 301 to {where} keeps the links, or wanted"
    more = "" if links_known else f"; {NO_LINK_DATA}"
    if asked:
        told = "no page fits, but people ask for it: gone (410), 302 if it comes back, or wanted"
        return told + more
    if links_known:
        return "no page fits, and nobody links to it or asks for it: gone (410)"
    return f"no page fits, and nobody asks for it: gone (410){more}"
