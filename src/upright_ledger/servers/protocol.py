"""What every dialect offers."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Iterator, Mapping
from contextlib import suppress
from dataclasses import dataclass, replace
from itertools import islice, zip_longest
from typing import Protocol

from upright_ledger.core.addresses import decoded_path
from upright_ledger.core.compiling import HeldBack, make_template
from upright_ledger.core.rules import DROP, ExactRule, Rule, RuleSet
from upright_ledger.core.template_rules import PASS, TemplateRule
from upright_ledger.core.templates import TemplateError
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
    """A rule set without the answers that a server cannot give, and these with the reason.

    What is held back leaves a hole that no other rule fills: its address passes, and its parameters still choose the page. A template that
    would fill one all the same is held back, too.
    """
    refused = [HeldBack(rule.legacy_url, "refused", reason) for rule in rules if (reason := fault(rule))]
    if not refused:
        return rules, []
    exact: list[ExactRule] = []
    holes: list[TemplateRule] = []
    open_paths: list[tuple[str, str]] = []
    significant = dict(rules.significant)
    for rule in rules.rules:
        hole = replace(rule, status=PASS, destination="", query=DROP)
        if not fault(rule):
            exact.append(rule)
        elif not fault(hole):
            exact.append(hole)
        else:
            significant[rule.path] = significant.get(rule.path, frozenset()) | {name for name, _ in rule.params}
            more = list(_literal_passes(rule.site, rule.paths, rule.legacy_url, fold=rules.fold_case))
            holes += [pas for pas in more if not fault(pas)]
            open_paths += (
                [(rule.site, path) for path in rule.paths]
                if len(more) < len(rule.paths) or any(map(fault, more))
                else []
            )
    templates: list[TemplateRule] = []
    closed: set[str] = set()
    for template in rules.templates:
        passing = replace(template, status=PASS, destination="", query=DROP)
        pattern = re.compile(template.source.regex(fold=rules.fold_case))
        if any(site == template.site and pattern.fullmatch(path) for site, path in open_paths):
            refused.append(
                HeldBack(template.legacy_url, "refused", "it would answer an address whose own rule is held back")
            )
        elif not fault(template):
            templates.append(template)
        elif not fault(passing):
            templates.append(passing)
        else:  # all that is asked after it would answer what is its own
            closed.add(template.site)
    refused += [
        HeldBack(t.legacy_url, "refused", "an earlier template is held back") for t in templates if t.site in closed
    ]
    templates = [t for t in (*holes, *templates) if t.site not in closed]
    return replace(rules, rules=tuple(exact), templates=tuple(templates), significant=significant), refused


def _literal_passes(site: str, paths: Iterable[str], label: str, *, fold: bool) -> Iterator[TemplateRule]:
    """Templates without captures that keep all others from some paths."""
    for path in paths:
        with suppress(TemplateError):  # of such paths no template can speak
            yield make_template(site, path, PASS, "", label, fold=fold)


def without_paths(rules: RuleSet, odd: Callable[[str], bool]) -> tuple[RuleSet, list[str]]:
    """A rule set without the paths that a server cannot compare, and these: rules answer their other spellings, and nothing else takes these."""
    left = [path for rule in rules.rules for path in rule.paths if odd(path)]
    if not left:
        return rules, []
    kept: list[ExactRule] = []
    holes: list[TemplateRule] = []
    for rule in rules.rules:
        kept.append(replace(rule, paths=tuple(p for p in rule.paths if not odd(p))))
        holes += _literal_passes(rule.site, filter(odd, rule.paths), rule.legacy_url, fold=rules.fold_case)
    return replace(rules, rules=tuple(kept), templates=(*holes, *rules.templates)), left


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


def decoded(path: str) -> str:
    """A canonical path as the decoded bytes a server compares, in a text that round-trips (surrogateescape)."""
    return decoded_path(path).decode("utf-8", "surrogateescape") if "%" in path else path
