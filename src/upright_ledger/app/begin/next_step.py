"""The one next useful step, from what a ledger holds."""

from __future__ import annotations

from dataclasses import dataclass

from upright_ledger.app.known_faults import known_faults
from upright_ledger.core.inventory.answer import AnswerKind
from upright_ledger.core.tracing.run_kind import RunKind
from upright_ledger.ledger.lines.listing import Filters, count_fitting
from upright_ledger.ledger.store import Ledger
from upright_ledger.ledger.tables.answers import dated_answers
from upright_ledger.ledger.tables.entries import count_entries
from upright_ledger.ledger.tables.proposals import newest_proposals
from upright_ledger.ledger.tables.runs.builds import last_build
from upright_ledger.ledger.tables.runs.runs import last_run
from upright_ledger.ledger.tables.stock import has_stock


@dataclass(frozen=True, slots=True)
class NextStep:
    """Why, and the command to type."""

    why: str
    command: str


def next_step(ledger: Ledger) -> NextStep:
    """What to do next with this book."""
    with ledger.reading() as connection:
        entries, stocked = count_entries(connection), has_stock(connection)
        waiting = count_fitting(connection, Filters(answer=AnswerKind.OPEN))
        due = sum(d.is_due for d in dated_answers(connection))
        proposed = newest_proposals(connection) is not None
        built, replayed = last_build(connection), last_run(connection, RunKind.REPLAY)
    if not entries:
        return NextStep("no old URLs are gathered yet", "upright gather old-urls.txt access.log")
    if due:
        return NextStep(
            "the day of one answer has come"
            if due == 1
            else f"the days of {due:,} answers have come",
            "upright check",
        )
    if not stocked:
        return NextStep("no pages of the new site are in stock yet", "upright stock new-pages.csv")
    if waiting and not proposed:
        return NextStep(
            f"nothing is proposed yet for the open entries ({waiting:,})", "upright match"
        )
    known = known_faults(ledger)
    if known is not None and known.faults:
        return NextStep(
            "there is a fault in the answers"
            if known.faults == 1
            else f"there are {known.faults:,} faults in the answers",
            "upright check",
        )
    if waiting:
        return NextStep(
            "one entry is open" if waiting == 1 else f"{waiting:,} entries are open",
            "upright review",
        )
    if known is None:
        return NextStep("the answers were not checked since they changed", "upright check")
    if built is None or (built.digest != known.digest and built.step < known.step):
        return NextStep("the answers are not built yet", "upright build --for nginx --out rules/")
    if replayed is None or replayed.digest != built.digest:
        return NextStep(
            "the built rules were not replayed yet",
            "upright replay old-urls.txt --at http://127.0.0.1:8080",
        )
    return NextStep("the books balance", "upright rehearse access.log")
