"""The journal, and taking steps back."""

from __future__ import annotations

from typing import Any

from upright_ledger.ledger import journal
from upright_ledger.ledger.store import Ledger


def history(ledger: Ledger) -> list[dict[str, Any]]:
    """All steps, the newest first, as plain values."""
    with ledger.reading() as connection:
        return [
            {
                "step": row.id,
                "time": row.time,
                "author": row.author,
                "command": row.command,
                "reason": row.reason,
                "summary": row.summary,
                "undoes": row.undoes,
                "undone_by": row.undone_by,
            }
            for row in journal.history(connection)
        ]


def undo(ledger: Ledger, count: int = 1, target: int | None = None) -> list[str]:
    """Take back the last `count` steps, or one named step, each as a step of its own. Returns what each was."""
    done = []
    if target is not None:
        with ledger.step("undo") as step:
            done.append(journal.undo(step, target))
            step.summary = done[-1]
        return done
    for _ in range(count):
        with ledger.step("undo") as step:
            done.append(journal.undo(step, journal.last_undoable(step.connection, step.id)))
            step.summary = done[-1]
    return done
