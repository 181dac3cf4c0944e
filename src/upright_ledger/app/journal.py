"""The journal, and taking steps back."""

from __future__ import annotations

from typing import Any

from upright_ledger.ledger.db import journal
from upright_ledger.ledger.db.policies import stored_policy
from upright_ledger.ledger.store import Ledger
from upright_ledger.settings.file import draft_policy, put_draft


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
    """Take back the last `count` steps, or one named step, as one step. Returns what each was."""
    before, policy_before = ledger.stored_policy()
    with ledger.step("undo") as step:
        done = []
        for _ in range(count if target is None else 1):
            found = journal.last_undoable(step.connection, step.id) if target is None else target
            done.append(journal.undo(step, found))
        number, policy = stored_policy(step.connection)
        if number != before or step.sources:
            from upright_ledger.core.inventory.placing.classification import Classifier
            from upright_ledger.ledger.tables.reclassify import know_stock, reclassify
            from upright_ledger.ledger.tables.renormalise import rederive

            placer = Classifier(ledger.settings.sites, policy)
            know_stock(step.connection, placer)
        if number != before:
            # Keys are derived: under the policy that is in force again, every spelling goes back to
            # its entry.
            rederive(step.connection, placer, number, policy_before)
        else:
            for source in step.sources:
                reclassify(step, source, placer)
        step.summary = "; ".join(done)
        if number != before:
            draft_policy(ledger.folder, policy)
    if number != before:
        put_draft(ledger.folder)
        ledger.read_settings()
    return done
