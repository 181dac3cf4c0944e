"""What every dialect offers."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, replace
from itertools import islice, zip_longest
from typing import Protocol

from upright_ledger.core.addresses import decoded_path
from upright_ledger.core.compiling import HeldBack
from upright_ledger.core.rules import Rule, RuleSet
from upright_ledger.core.template_rules import TemplateRule
from upright_ledger.servers.interpreters import Interpreter


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

    @property
    def name(self) -> str:
        """How it is called."""

    @property
    def rule_file(self) -> str:
        """The file that holds most of the rules."""

    def write(self, rules: RuleSet) -> Translation:
        """Translate a rule set. Never approximate: what cannot be said exactly is refused."""

    def read_back(self, files: Mapping[str, bytes], rules: RuleSet) -> list[str]:
        """Parse the written files as the server would and name differences to the rule set."""


class ServerDialect(Dialect, Protocol):
    """The language of a server whose files can be executed here."""

    def interpreter(self, files: Mapping[str, bytes]) -> Interpreter:
        """What the written files do with requests. Raises NotUnderstoodError."""


def expressible(rules: RuleSet, fault: Callable[[Rule], str]) -> tuple[RuleSet, list[HeldBack]]:
    """A rule set without the rules in which a server finds a fault, and these with the reason."""
    refused = [HeldBack(rule.legacy_url, "refused", reason) for rule in rules if (reason := fault(rule))]
    if not refused:
        return rules, []
    exact = tuple(r for r in rules.rules if not fault(r))
    return replace(rules, rules=exact, templates=tuple(t for t in rules.templates if not fault(t))), refused


MOST_TOLD = 5
"""Differences of one kind that are told."""


def differing_entries(name: str, found: Mapping[str, str], wanted: Mapping[str, str]) -> list[str]:
    """The entries of a table that read otherwise than they were to be written; at most a few."""
    odd = (key for key in sorted(wanted.keys() | found.keys()) if wanted.get(key) != found.get(key))
    return [
        f"{name}: {key!r} reads as {found.get(key)!r} instead of {wanted.get(key)!r}" for key in islice(odd, MOST_TOLD)
    ]


def differing_lines(name: str, found: str, wanted: str) -> list[str]:
    """The lines of a file that are not those that were to be written; at most a few."""
    if found == wanted:
        return []
    pairs = zip_longest(found.split("\n"), wanted.split("\n"), fillvalue="")
    odd = (f"{name}, line {n}: {a!r} instead of {b!r}" for n, (a, b) in enumerate(pairs, 1) if a != b)
    return list(islice(odd, MOST_TOLD))


NO_LOWER_CASE = "this server cannot put a path into lower case: capitals are left as they come"


def without_lower_case(rules: RuleSet) -> RuleSet:
    """A rule set whose forms leave letter case alone."""
    return replace(rules, forms=tuple(replace(form, lower=False) for form in rules.forms))


def param_names(rule: Rule) -> tuple[str, ...]:
    """The names of the parameters that a rule asks for."""
    return rule.params if isinstance(rule, TemplateRule) else tuple(n for n, _ in rule.params)


def decoded(path: str) -> str:
    """A canonical path as the decoded bytes a server compares, in a text that round-trips (surrogateescape)."""
    return decoded_path(path).decode("utf-8", "surrogateescape") if "%" in path else path
