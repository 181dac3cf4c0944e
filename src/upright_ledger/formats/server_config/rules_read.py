"""What is read of a server's rule file, and what is known of the place it stands in."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from pathlib import PurePosixPath

from upright_ledger.core.rules.imported.rule import (
    INNER,
    PATH,
    SCHEME,
    Condition,
    ImportedRule,
    PatternNotUnderstoodError,
)
from upright_ledger.core.rules.templates.template_index import PASS

BEGINNING = re.compile(r"\^(?:(?:[A-Za-z0-9_/~,;:@=&!'-]|\\[^A-Za-z0-9])(?![?*{]))*")
"""What a pattern says in plain letters, but for one that is optional or repeated."""

MISSED_LENGTH = 300
"""How much of a line that was not understood is told."""


@dataclass(frozen=True, slots=True)
class ServerSetup:
    """What somebody says of the server that a file is for.

    present, absent: names of modules, defines and included files: those that are there, and those
    that are not, or hold no rules. document_root: the folder of the site's root, as the file, or
    the path of the file, names it.
    """

    present: frozenset[str] = frozenset()
    absent: frozenset[str] = frozenset()
    document_root: str = ""

    def holds(self, name: str) -> bool | None:
        """Whether a module, define or included file is there; None where nobody said so."""
        plain = _plain(name)
        if plain in map(_plain, self.present):
            return True
        return False if plain in map(_plain, self.absent) else None


NOTHING_SAID = ServerSetup()
"""Where nobody said anything."""


def _plain(name: str) -> str:
    """One name of a module for its two spellings: mod_rewrite.c and rewrite_module."""
    found = re.fullmatch(r"mod_(\w+)(?:\.c)?|(\w+)_module", name)
    return f"module {found[1] or found[2]}" if found else name


@dataclass
class RulesRead:
    """Rules in the order in which they are asked, lines that were not understood: (line, why,
    text), and what else is to be known: (line, what).
    """

    rules: list[ImportedRule] = field(default_factory=list)
    missed: list[tuple[int, str, str]] = field(default_factory=list)
    notes: list[tuple[int, str]] = field(default_factory=list)
    _told: set[tuple[int, str]] = field(default_factory=set, repr=False)

    def miss(self, line: int, why: str, text: str) -> None:
        """Note, once, what was not understood."""
        if (line, why) not in self._told:
            self._told.add((line, why))
            self.missed.append((line, why, text[:MISSED_LENGTH]))


def understood(rule: ImportedRule) -> ImportedRule:
    """A rule whose patterns can be read, without needless conditions. Raises NotUnderstoodError for
    another.
    """
    rule.check()
    return plainer(rule)


def everything(where: str, *, ends: bool = True, stage: int = 0) -> ImportedRule:
    """What stands for something that may answer any request: nothing later does."""
    return ImportedRule(where, PATH, "^/", PASS, ends=ends, stage=stage)


def or_everything(rule: ImportedRule) -> ImportedRule:
    """A rule, or where its pattern cannot be read one that fits every path that begins as it
    does.
    """
    try:
        rule.check()
    except PatternNotUnderstoodError:
        match = BEGINNING.match(rule.pattern)
        whole = match is not None and "|" not in rule.pattern and not rule.negate
        return replace(rule, pattern=match[0] if match and whole else "^", negate=False)
    return rule


_PATHS_BELOW = re.compile(r"\^((?:[A-Za-z0-9_/~,;:@=&!'-]|\\[^A-Za-z0-9])*)(\(\?:/\|\$\))?")


def plainer(rule: ImportedRule) -> ImportedRule:
    """A rule without the conditions on its path that its own pattern settles."""
    if not rule.conditions or rule.nocase or rule.negate or rule.subject not in {PATH, INNER}:
        return rule
    head = rule.pattern if rule.literal else rule.head
    kept = [
        c for group in rule.groups if not any(_is_settled(c, head) for c in group) for c in group
    ]
    return rule if len(kept) == len(rule.conditions) else replace(rule, conditions=tuple(kept))


def _is_settled(condition: Condition, head: str) -> bool:
    """Whether a condition holds for every path that begins with some letters."""
    match = _PATHS_BELOW.fullmatch(condition.pattern)
    if condition.subject != PATH or condition.literal or condition.nocase or match is None:
        return False
    begins = re.sub(r"\\(.)", r"\1", match[1])
    if condition.negate:
        return not head.startswith(begins) and not begins.startswith(head)
    return head.startswith(begins) and (
        match[2] is None or head[len(begins) : len(begins) + 1] == "/"
    )


HTTP_AND_HTTPS = ("http", "https")
SCHEME_OF_PORT = {"80": "http", "443": "https"}


def only_by(schemes: Sequence[str]) -> tuple[Condition, ...]:
    """The condition that a request comes by one scheme, where it is one alone."""
    return (Condition(SCHEME, schemes[0], literal=True),) if len(schemes) == 1 else ()


def path_below(folder: str, root: str) -> str | None:
    """A folder as the path of its pages (/ at both ends), by the folder of the site's root; None
    where it does not lie in it.
    """
    here, top = PurePosixPath(folder), PurePosixPath(root)
    if ".." in here.parts or not here.is_relative_to(top):
        return None
    inner = here.relative_to(top).as_posix()
    return "/" if inner == "." else f"/{inner}/"
