"""Spellings of answered entries that the rules may leave without an answer."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING

from upright_ledger.core.inventory.answer import AnsweredBy, AnswerKind
from upright_ledger.core.url.address import address_of
from upright_ledger.core.url.redaction import has_masked_segment
from upright_ledger.ledger.tables.entries import sessions_in_paths

if TYPE_CHECKING:
    from upright_ledger.app.book import Book


def unanswered_in_paths(book: Book) -> Iterator[tuple[str, str]]:
    """Spellings with the identifier of a visit, or a secret, in their path that no rule answers,
    and the address of the entry.
    """
    with book.ledger.reading() as connection:
        seen = sessions_in_paths(connection)
    by_id = {e.id: e for e in book.entries if e.answer.has_rule or e.answer.kind == AnswerKind.KEEP}
    for number, spelling in seen:
        entry, address = by_id.get(number), address_of(spelling)
        if entry is None:
            continue
        masked = has_masked_segment(address.path)
        if (
            entry.by != AnsweredBy.TEMPLATE
            if masked
            else book.rules.answer_of_rules(address.authority, address.target) is None
        ):
            yield spelling, entry.legacy_url


def spelled_by_template(book: Book) -> Iterator[tuple[str, str, str, str]]:
    """Host, target, template and destination of every spelling of the entries that a template
    answers.
    """
    for entry in (e for e in book.entries if e.by == AnsweredBy.TEMPLATE and e.answer.has_rule):
        template = entry.where.partition("://")[2].partition("/")[2]
        for host, target in entry.requests:
            yield host, target, template, entry.answer.destination
