"""Looking at old pages that are still up: their titles, headings and texts, before matching."""

from __future__ import annotations

from upright_ledger.app.collect.surveys.crawling import Surveying
from upright_ledger.app.collect.surveys.survey import Progress, Surveyed, survey
from upright_ledger.app.collect.surveys.survey_request import OLD, SurveyRequest
from upright_ledger.app.decide.match import pages_to_propose
from upright_ledger.app.decide.page_texts import load_texts
from upright_ledger.app.move_state import MoveState
from upright_ledger.core.inventory.answer import AnswerKind
from upright_ledger.core.url.address import address_of
from upright_ledger.ledger.store import Ledger
from upright_ledger.web.http.options import RequestOptions


def unseen_pages(ledger: Ledger) -> tuple[str, ...]:
    """The addresses of open entries that no survey has asked for, the most valuable first. Raises
    UsageError where no page is in stock to match them with.
    """
    move = MoveState(ledger)
    pages_to_propose(move)
    asked = load_texts(move).old
    waiting = [e for e in move.entries if e.answer.kind == AnswerKind.OPEN and e.id not in asked]
    waiting.sort(key=lambda e: (-e.evidence.value, e.legacy_url))
    return tuple(address_of(e.legacy_url).without_fragment for e in waiting)


def look(
    ledger: Ledger,
    pages: tuple[str, ...],
    manner: RequestOptions,
    surveying: Surveying,
    progress: Progress | None = None,
) -> Surveyed:
    """Ask for old pages alone, and gather what they say of themselves. Ctrl-C keeps what was
    seen, so that the next look goes on with the others.
    """
    request = SurveyRequest(pages, OLD, depth=0, most=len(pages), alone=True)
    return survey(ledger, request, manner, surveying, progress)
