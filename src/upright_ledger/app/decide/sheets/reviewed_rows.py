"""What a row of a reviewed sheet means."""

from __future__ import annotations

from collections.abc import Collection, Mapping

from upright_ledger.app.decide.decide import read_new
from upright_ledger.app.decide.sheets.pair_rows import read_until
from upright_ledger.core.inventory.answer import ANSWERS, STATUSES, AnswerKind, Decision, usual
from upright_ledger.core.url.address import NotAnAddressError
from upright_ledger.formats.tables.meanings.days import day_of
from upright_ledger.ledger.store import Ledger
from upright_ledger.ledger.tables.answers import Standing


def wanted_by(
    ledger: Ledger,
    cells: Mapping[str, str],
    known: tuple[Standing, Standing],
    offered: Collection[str],
) -> Standing:
    """The answer that a row wants, by the names of its columns. known: what stood when the sheet
    was written, and what stands now. offered: destinations that were proposed. Raises
    NotAnAddressError where it means nothing.
    """
    was, now = known
    answer = _answer(ledger, cells, was.answer, offered)
    day = cells.get("until", now.until if answer == now.answer else "")
    # Spreadsheets write a day anew as their country does, with the month first in some.
    readings = {day, day_of(day) or day, day_of(day, month_first=True) or day}
    if stood := [known for known in (was.until, now.until) if known in readings]:
        day = stood[0]
    else:
        day = read_until(day)
        if day and answer.kind == AnswerKind.OPEN:
            raise NotAnAddressError(f"{day} is the day of an answer, and the row has none")
    return Standing(answer, cells.get("note", ""), day if answer.kind != AnswerKind.OPEN else "")


def is_typed(cells: Mapping[str, str], answer: Decision) -> bool:
    """Whether a destination was typed where the answer still says open, which is taken as move."""
    said = cells["answer"].lower() or AnswerKind.OPEN
    return said == AnswerKind.OPEN and answer.kind == AnswerKind.MOVE


def _answer(
    ledger: Ledger, cells: Mapping[str, str], was: Decision, offered: Collection[str]
) -> Decision:
    """The answer a row means. Raises NotAnAddressError where it means none."""
    said = cells["answer"].lower() or AnswerKind.OPEN
    if said not in ANSWERS:
        raise NotAnAddressError(f"{cells['answer']!r} is no answer; use {', '.join(ANSWERS)}")
    kind = AnswerKind(said)
    written = cells.get("destination", "")
    destination = read_new(ledger, written) if written else ""
    status = _status(cells.get("status", ""))
    if kind == AnswerKind.OPEN:
        if not destination or destination in offered or was.kind != AnswerKind.OPEN:
            return Decision(AnswerKind.OPEN)
        kind = AnswerKind.MOVE
    if kind in {AnswerKind.MOVE, AnswerKind.TEMPORARY}:
        if not destination:
            raise NotAnAddressError(f"the answer {kind} needs a destination")
        if not status or STATUSES[status] != kind:
            if status and status != was.status:
                raise NotAnAddressError(f"{status} is no status of the answer {kind}")
            return usual(kind, destination)
        return Decision(kind, status, destination)
    return usual(kind)


def _status(text: str) -> int:
    if not text:
        return 0
    digits = text.partition(".")[0]
    if (
        not digits.isdigit()
        or not digits.isascii()
        or len(digits) > 3
        or int(digits) not in STATUSES
    ):
        raise NotAnAddressError(f"{text!r} is no status; use {', '.join(map(str, STATUSES))}")
    return int(digits)
