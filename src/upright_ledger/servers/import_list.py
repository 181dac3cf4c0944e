"""Lists for platforms that import redirects: CSV or JSON Lines in the columns and within the limits
that a profile names.
"""

from __future__ import annotations

import csv
import io
import json
from collections.abc import Mapping
from dataclasses import dataclass, replace

from upright_ledger.core.rules.compiler import ExcludedRule, Exclusion
from upright_ledger.core.rules.exact_rule import GONE, ExactRule, Rule
from upright_ledger.core.rules.ruleset import RuleSet
from upright_ledger.core.rules.templates.template_index import PASS, TemplateRule
from upright_ledger.servers.protocol import Translation
from upright_ledger.servers.template_files import readme

CSV, JSON_LINES = "csv", "jsonl"


@dataclass(frozen=True, slots=True)
class Profile:
    """What a platform takes. old, new, status: its names for the columns; an empty status leaves
    that one out.

    paths_only: old addresses without host, and new ones where they lie on the first new origin.
    limit: rows, 0 for no limit. queries, patterns, gone: whether it takes old addresses with a
    query, templates, and 410.
    """

    name: str
    format: str = CSV
    old: str = "old"
    new: str = "new"
    status: str = "status"
    paths_only: bool = False
    limit: int = 0
    queries: bool = True
    patterns: bool = False
    gone: bool = True


@dataclass(frozen=True)
class ListDialect:
    """A list by a profile. worth: of an entry (site, key): the most valuable come first, and fill a
    limited list. home: the first new origin.
    """

    profile: Profile
    worth: Mapping[tuple[str, str], float]
    home: str = ""
    include_file: str = ""
    most_rules: int = 0
    too_many: str = ""

    @property
    def name(self) -> str:
        """The profile's name."""
        return self.profile.name

    @property
    def rule_file(self) -> str:
        """The list itself."""
        return f"import.{self.profile.format}"

    def write(self, rules: RuleSet) -> Translation:
        """The list, and what does not fit into it."""
        reason = "a list tells single addresses: set this up on the platform itself"
        refused = [ExcludedRule(form.legacy_url, Exclusion.REFUSED, reason) for form in rules.forms]
        rows: list[Rule] = []
        told: dict[str, str] = {}
        for rule in self._ordered(rules):
            reason = self._fault(rule)
            if not reason and told.setdefault(self._old(rule), rule.site) != rule.site:
                reason = "the list tells no hosts, and this path is in it for another old site"
            if not reason and self.profile.limit and len(rows) >= self.profile.limit:
                reason = f"the list takes {self.profile.limit:,} rows, and these are worth less"
            if reason:
                refused.append(ExcludedRule(rule.legacy_url, Exclusion.REFUSED, reason))
            else:
                rows.append(rule)
        kept = {id(r) for r in rows}
        held = replace(
            rules,
            rules=tuple(r for r in rules.rules if id(r) in kept or r.status == PASS),
            templates=tuple(t for t in rules.templates if id(t) in kept),
            forms=(),
        )
        return Translation(
            {self.rule_file: self._text(rows).encode(), "README.md": self._readme(held).encode()},
            held,
            tuple(refused),
        )

    def read_back(self, files: Mapping[str, bytes], rules: RuleSet) -> list[str]:
        """Differences between the list as any CSV or JSON reader reads it, and the rules."""
        text = files[self.rule_file].decode()
        if self.profile.format == JSON_LINES:
            found = [json.loads(line) for line in text.splitlines()]
        else:
            found = list(csv.DictReader(io.StringIO(text)))
        wanted = [{k: str(v) for k, v in self._row(r).items()} for r in self._ordered(rules)]
        read = [{k: str(v) for k, v in row.items()} for row in found]
        return [
            f"row {n}: {a} instead of {b}"
            for n, (a, b) in enumerate(zip(read, wanted, strict=False), 1)
            if a != b
        ] + ([f"{len(read)} rows instead of {len(wanted)}"] if len(read) != len(wanted) else [])

    def _ordered(self, rules: RuleSet) -> list[Rule]:
        return sorted(rules.answering, key=lambda r: (-self._worth(r), r.legacy_url))

    def _worth(self, rule: Rule) -> float:
        return (
            self.worth.get((rule.site, rule.key), 0.0)
            if isinstance(rule, ExactRule)
            else float("inf")
        )

    def _fault(self, rule: Rule) -> str:
        p = self.profile
        if isinstance(rule, TemplateRule) and not p.patterns:
            return "the list takes no patterns"
        if isinstance(rule, ExactRule) and rule.params and not p.queries:
            return "the list takes no addresses with a query"
        if rule.status == GONE and not p.gone:
            return "the list takes no 410"
        return ""

    def _row(self, rule: Rule) -> dict[str, object]:
        p, new = self.profile, rule.destination
        if p.paths_only and self.home and new.startswith(f"{self.home}/"):
            new = new.removeprefix(self.home)
        row: dict[str, object] = {p.old: self._old(rule), p.new: new}
        return row | {p.status: rule.status} if p.status else row

    def _old(self, rule: Rule) -> str:
        """The old address as the list tells it."""
        if not self.profile.paths_only:
            return rule.legacy_url
        return f"/{rule.legacy_url.partition('://')[2].partition('/')[2]}"

    def _text(self, rows: list[Rule]) -> str:
        made = [self._row(r) for r in rows]
        if self.profile.format == JSON_LINES:
            return "".join(json.dumps(row, ensure_ascii=False) + "\n" for row in made)
        out = io.StringIO()
        names = [n for n in (self.profile.old, self.profile.new, self.profile.status) if n]
        writer = csv.DictWriter(out, names, lineterminator="\n")
        writer.writeheader()
        writer.writerows(made)
        return out.getvalue()

    def _readme(self, rules: RuleSet) -> str:
        return readme(
            __package__, rules, "import_list.md", profile=self.name, rules_file=self.rule_file
        )
