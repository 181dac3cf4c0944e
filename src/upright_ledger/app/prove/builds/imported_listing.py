"""The rules that were read from servers' files: where each stands, what it answers, and whether it
is built.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable
from typing import NamedTuple

from upright_ledger.app.move_state import MoveState
from upright_ledger.core.inventory.answer import AnsweredBy
from upright_ledger.core.rules.imported.rule import HOST, ImportedRule, PieceKind
from upright_ledger.core.rules.templates.template_index import PASS


class ImportedLine(NamedTuple):
    """A rule of a server's file. where: file and line; hosts: it is for; asks: the address or the
    pattern; status 0: it only keeps others from answering; answers: the destination as it is
    written, with $1 for what a pattern captures; entries: that it answers; built: how, or why not.
    """

    where: str
    hosts: str
    asks: str
    status: int
    answers: str
    entries: int
    built: str


COLUMNS = ImportedLine._fields


def imported_lines(move: MoveState) -> list[ImportedLine]:
    """The imported rules of a ledger, in the order of their files."""
    compiled = move.worked_out
    why_not = {rule.legacy_url: rule.reason.rpartition(": ")[2] for rule in compiled.left_out}
    answered: dict[str, int] = defaultdict(int)
    for entry in move.entries:
        if entry.by == AnsweredBy.RULE:
            answered[entry.where] += 1
    lines = []
    for _, rule in compiled.imported:
        count = answered[rule.where]
        lines.append(
            ImportedLine(
                rule.where,
                " ".join(_hosts(rule)),
                rule.address if not rule.is_pattern else rule.pattern,
                rule.status,
                _written(rule),
                count,
                _built(rule, count, why_not.get(rule.where, "")),
            )
        )
    return lines


def _built(rule: ImportedRule, entries: int, why_not: str) -> str:
    if rule.status == PASS:
        return "as what keeps others from answering"
    own = f"for {entries:,} {'entry' if entries == 1 else 'entries'}" if entries else ""
    if not rule.is_pattern:
        return own or "no: another rule, or an answer of yours, comes before it"
    if not why_not:
        return f"as a template{f', and {own}' if own else ''}"
    return f"{own or 'no'}; not as a pattern: {why_not}"


def _hosts(rule: ImportedRule) -> Iterable[str]:
    return dict.fromkeys(c.pattern for c in rule.conditions if c.subject == HOST and not c.negate)


def _written(rule: ImportedRule) -> str:
    signs = {PieceKind.GROUP: "$", PieceKind.CONDITION: "%", PieceKind.VARIABLE: "$"}
    return "".join(signs.get(PieceKind(kind), "") + text for kind, text in rule.destination)
