"""Findings about answers as such, whatever rules they make: addresses that end though they are in
use, and answers whose day has come.
"""

from __future__ import annotations

from collections.abc import Iterable

from upright_ledger.core.inventory.answer import AnsweredBy, AnswerKind
from upright_ledger.core.rules.finding import SEVERITIES, Finding, FindingKind, in_order
from upright_ledger.core.severity import Severity
from upright_ledger.ledger.db.connection import Connection
from upright_ledger.ledger.lines.listing import gone_in_use, used_figures
from upright_ledger.ledger.tables.answers import ALL_OF, dated_answers

_NAMES = {
    "links": ("link", "links"),
    "hits": ("hit", "hits"),
    "visits": ("visit", "visits"),
    "clicks": ("click", "clicks"),
    "impressions": ("impression", "impressions"),
}


def figures_in_words(figures: dict[str, float]) -> str:
    """Figures of an entry by their names (`USED`), as in "2 links, 30 hits"."""
    return ", ".join(
        f"{amount:,.0f} {_NAMES[name][amount != 1]}" for name, amount in figures.items()
    )


def with_standing(connection: Connection, found: Iterable[Finding]) -> list[Finding]:
    """Findings about rules, and those about answers as such. That a move is for a time is none
    where a day is set on which to look at it again.
    """
    dated = dated_answers(connection)
    meant = {text for d in dated for text in (d.legacy_url, d.old)}
    rules = [f for f in found if f.kind != FindingKind.TEMPORARY or f.legacy_url not in meant]
    due = [
        Finding(
            FindingKind.REVIEW_DUE,
            SEVERITIES[FindingKind.REVIEW_DUE],
            d.legacy_url,
            d.answer.destination,
            f"its answer ({d.answer.kind}) was to be looked at again on {d.day}: decide anew, with "
            "--until for a later day",
            "the day has come on which an answer was to be looked at again",
        )
        for d in dated
        if d.is_due
    ]
    return in_order([*rules, *_gone_with_links(connection), *due])


def _gone_with_links(connection: Connection) -> list[Finding]:
    """Addresses that end though others link to them or people ask for them: a warning where an
    answer for many took in one that is linked, and where somebody named just that one, a note.
    """
    found = []
    for url, by, where, *amounts in gone_in_use(connection):
        figures = used_figures(amounts)
        linked = "links" in figures
        named = by == AnsweredBy.IMPORT or (
            by == AnsweredBy.PERSON and not where.startswith(ALL_OF)
        )
        grave = linked and not named
        what = "others link to it" if linked else "people ask for it"
        found.append(
            Finding(
                FindingKind.GONE_WITH_LINKS,
                Severity.WARNING if grave else Severity.NOTE,
                url,
                "",
                f"it ends ({AnswerKind.GONE}), and {what}: {figures_in_words(figures)}"
                + ("; lead it to a page, or say --gone for it alone" if grave else ""),
                f"addresses end, and {what.removesuffix(' it')} them",
            )
        )
    return found
