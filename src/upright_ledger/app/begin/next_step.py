"""The one next useful step, from what a ledger holds."""

from __future__ import annotations

from dataclasses import dataclass

from upright_ledger.app.move_state import MoveState
from upright_ledger.core.inventory.answer import AnswerKind
from upright_ledger.core.severity import Severity
from upright_ledger.core.tracing.run_kind import RunKind
from upright_ledger.ledger.tables.proposals import load_proposals
from upright_ledger.ledger.tables.runs.builds import last_build
from upright_ledger.ledger.tables.runs.runs import last_run


@dataclass(frozen=True, slots=True)
class NextStep:
    """Why, and the command to type."""

    why: str
    command: str


def next_step(move: MoveState) -> NextStep:
    """What to do next with this book."""
    if not move.entries:
        return NextStep("no old URLs are gathered yet", "upright gather old-urls.txt access.log")
    if not move.stock:
        return NextStep("no pages of the new site are in stock yet", "upright stock new-pages.csv")
    waiting = sum(1 for e in move.entries if e.answer.kind == AnswerKind.OPEN)
    with move.ledger.reading() as connection:
        proposals, built, replayed = (
            load_proposals(connection),
            last_build(connection),
            last_run(connection, RunKind.REPLAY),
        )
    if waiting and not proposals:
        return NextStep(
            f"nothing is proposed yet for the open entries ({waiting:,})", "upright match"
        )
    faults = sum(1 for f in move.compiled.findings if f.severity != Severity.NOTE)
    if faults:
        return NextStep(
            "there is a fault in the answers"
            if faults == 1
            else f"there are {faults:,} faults in the answers",
            "upright check",
        )
    if waiting:
        return NextStep(
            "one entry is open" if waiting == 1 else f"{waiting:,} entries are open",
            "upright review",
        )
    if built is None or built.digest != move.compiled.rules.digest:
        return NextStep("the answers are not built yet", "upright build --for nginx --out rules/")
    if replayed is None or replayed.digest != built.digest:
        return NextStep(
            "the built rules were not replayed yet",
            "upright replay old-urls.txt --at http://127.0.0.1:8080",
        )
    return NextStep("the books balance", "upright rehearse access.log")
