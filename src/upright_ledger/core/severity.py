"""How grave a finding is, of rules and of crawls."""

from __future__ import annotations

from upright_ledger.core.word import Word


class Severity(Word):
    """How grave a finding is."""

    ERROR = "error"
    WARNING = "warning"
    NOTE = "note"
