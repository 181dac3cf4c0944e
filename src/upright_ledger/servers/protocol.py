"""What every dialect offers."""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from itertools import islice, zip_longest
from typing import Protocol, TypeVar

from upright_ledger.core.rules.compiler import ExcludedRule, Exclusion
from upright_ledger.core.rules.exact_rule import ExactRule, Rule
from upright_ledger.core.rules.ruleset import RuleSet
from upright_ledger.core.rules.templates.template_index import PASS, TemplateRule
from upright_ledger.core.url.request_target import decoded_path
from upright_ledger.servers.interpreters import Interpreter

R = TypeVar("R", ExactRule, TemplateRule)


@dataclass(frozen=True, slots=True)
class Translation:
    """The files of a dialect (relative name → bytes) and the rules it cannot express safely.

    rules: the rule set that the files hold, without the refused rules.
    """

    files: Mapping[str, bytes]
    rules: RuleSet
    refused: tuple[ExcludedRule, ...]


@dataclass(frozen=True)
class Launch:
    """How a server is started in the foreground, unprivileged, with the example of a build.

    program: looked up on this machine. arguments: {folder} stands for the copied build. package:
    its name on Debian. example: the file whose port is changed. before: commands to run first, one
    after the other, as `sh` would in that folder. node: what makes the example speak TLS (tls.pem
    lies beside it), and hand over to the new site what no rule answers: (what stands there, what is
    to), with {site} and {authority} of that site; empty where nobody wrote it.
    """

    program: str
    arguments: tuple[str, ...]
    package: str
    example: str
    before: tuple[tuple[str, ...], ...] = ()
    node: tuple[tuple[str, str], ...] = ()


class Dialect(Protocol):
    """A server's language, with all that a server needs to be: what it takes, what of it goes into
    files that somebody else keeps, how it is tried.
    """

    @property
    def name(self) -> str:
        """How it is called."""

    @property
    def rule_file(self) -> str:
        """The file that holds most of the rules."""

    @property
    def include_file(self) -> str:
        """The file whose lines may go into a file of the user's (`build --into`); empty: none."""

    @property
    def most_rules(self) -> int:
        """How many rules it bears; 0 for any number."""

    @property
    def too_many(self) -> str:
        """Why it bears no more."""

    def write(self, rules: RuleSet) -> Translation:
        """Translate a rule set. Never approximate: what cannot be said exactly is refused."""

    def read_back(self, files: Mapping[str, bytes], rules: RuleSet) -> list[str]:
        """Parse the written files as the server would and name differences to the rule set."""


class ServerDialect(Dialect, Protocol):
    """The language of a server whose files can be executed here."""

    @property
    def launch(self) -> Launch:
        """How it is started."""

    def interpreter(self, files: Mapping[str, bytes]) -> Interpreter:
        """What the written files do with requests. Raises NotUnderstoodError."""


def expressible(rules: RuleSet, fault: Callable[[Rule], str]) -> tuple[RuleSet, list[ExcludedRule]]:
    """A rule set without the answers that a server cannot give, and these with the reason.

    What is held back leaves a hole that no other rule fills: its address passes where the server
    can say that, and its parameters still choose the page. Templates that would fill one are held
    back, too.
    """
    refused = [
        ExcludedRule(rule.legacy_url, Exclusion.REFUSED, reason)
        for rule in rules
        if (reason := fault(rule))
    ]
    if not refused:
        return rules, []
    exact: list[ExactRule] = []
    holes: list[tuple[str, str]] = []
    significant = dict(rules.significant)
    for rule in rules.rules:
        if (said := _sayable(rule, fault)) is not None:
            exact.append(said)
        else:
            significant[rule.path] = significant.get(rule.path, frozenset()) | {
                name for name, _ in rule.params
            }
            holes += [(rule.site, path) for path in rule.paths]
    held, more = _without_those_that_fill(
        replace(rules, rules=tuple(exact), significant=significant), holes
    )
    templates: list[TemplateRule] = []
    closed: set[str] = set()
    for template in held.templates:
        if (said_too := _sayable(template, fault)) is not None:
            templates.append(said_too)
        else:  # all that is asked after it would answer what is its own
            closed.add(template.site)
    more += [
        ExcludedRule(t.legacy_url, Exclusion.REFUSED, "an earlier template is held back")
        for t in templates
        if t.site in closed and t.status != PASS
    ]
    return replace(held, templates=tuple(t for t in templates if t.site not in closed)), [
        *refused,
        *more,
    ]


def _sayable(rule: R, fault: Callable[[Rule], str]) -> R | None:
    """A rule, or that its address passes, whichever a server can say; None where it can say
    neither.
    """
    return next((said for said in (rule, rule.passing) if not fault(said)), None)


def without_paths(
    rules: RuleSet, odd: Callable[[str], bool]
) -> tuple[RuleSet, list[str], list[ExcludedRule]]:
    """A rule set without the paths that a server cannot compare, these paths, of which rules answer
    other spellings, and the templates that would take them.
    """
    holes = [(rule.site, path) for rule in rules.rules for path in rule.paths if odd(path)]
    kept = (
        tuple(
            rule._replace(paths=tuple(p for p in rule.paths if not odd(p))) for rule in rules.rules
        )
        if holes
        else rules.rules
    )
    held, more = _without_those_that_fill(replace(rules, rules=kept), holes)
    return held, [path for _, path in holes], more


def _without_those_that_fill(
    rules: RuleSet, holes: Sequence[tuple[str, str]]
) -> tuple[RuleSet, list[ExcludedRule]]:
    """A rule set without the templates that fit a path (site, path) whose own rule is held back,
    and these.
    """
    patterns = (
        [re.compile(t.source.regex(fold=rules.fold_case)) for t in rules.templates] if holes else []
    )
    filling = [
        template
        for template, pattern in zip(rules.templates, patterns, strict=False)
        if template.status != PASS
        and any(site == template.site and pattern.fullmatch(path) for site, path in holes)
    ]
    told = [
        ExcludedRule(
            t.legacy_url,
            Exclusion.REFUSED,
            "it would answer an address whose own rule is held back",
        )
        for t in filling
    ]
    left = tuple(t for t in rules.templates if t not in filling)
    return replace(rules, templates=left), told


MOST_TOLD = 5
"""Differences of one kind that are told."""


def differing_entries(name: str, found: Mapping[str, str], wanted: Mapping[str, str]) -> list[str]:
    """The entries of a table that read otherwise than they were to be written; at most a few."""
    if found == wanted:
        return []
    odd = (key for key in sorted(wanted.keys() | found.keys()) if wanted.get(key) != found.get(key))
    return [
        f"{name}: {key!r} reads as {found.get(key)!r} instead of {wanted.get(key)!r}"
        for key in islice(odd, MOST_TOLD)
    ]


def differing_lines(name: str, found: str, wanted: str) -> list[str]:
    """The lines of a file that are not those that were to be written; at most a few."""
    if found == wanted:
        return []
    pairs = zip_longest(found.split("\n"), wanted.split("\n"), fillvalue="")
    odd = (
        f"{name}, line {n}: {a!r} instead of {b!r}" for n, (a, b) in enumerate(pairs, 1) if a != b
    )
    return list(islice(odd, MOST_TOLD))


NO_LOWER_CASE = "this server cannot put a path into lower case: capitals are left as they come"


def without_lower_case(rules: RuleSet) -> RuleSet:
    """A rule set whose forms leave letter case alone."""
    if not any(form.lower for form in rules.forms):
        return rules
    return replace(rules, forms=tuple(replace(form, lower=False) for form in rules.forms))


def decoded(path: str) -> str:
    """A canonical path as the decoded bytes a server compares, in a text that round-trips
    (surrogateescape).
    """
    return decoded_path(path).decode("utf-8", "surrogateescape") if "%" in path else path
