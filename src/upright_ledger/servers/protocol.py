"""What every dialect offers."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Protocol

from upright_ledger.core.plans import HeldBack
from upright_ledger.core.rules import RuleSet


@dataclass(frozen=True, slots=True)
class Translation:
    """The files of a dialect (relative name → bytes) and the rules it cannot express safely.

    rules: the rule set that the files hold, without the refused rules.
    """

    files: Mapping[str, bytes]
    rules: RuleSet
    refused: tuple[HeldBack, ...]


class Dialect(Protocol):
    """A server's language."""

    name: str
    rule_file: str

    def write(self, rules: RuleSet) -> Translation:
        """Translate a rule set. Never approximate: what cannot be said exactly is refused."""

    def read_back(self, files: Mapping[str, bytes], rules: RuleSet) -> list[str]:
        """Parse the written files as the server would and name every difference to the rule set."""
