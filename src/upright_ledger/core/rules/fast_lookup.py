"""The short way to an answer, for requests whose path is plain and that have no query: most of a
list are such.

It leaves out only what cannot change the answer (guard, canonical form, parameters), and says so
where something else may play a part.
"""

from __future__ import annotations

import re
from typing import Final

from upright_ledger.core.rules.ruleset import RuleSet
from upright_ledger.core.rules.templates.template_index import PASS, TemplateGroup, TemplateRule

UNSURE: Final = (-1, "")
"""The short way does not tell: ask the rules themselves."""

NOTHING: Final = (0, "")
"""No rule answers."""

# Small letters and what no server changes; no segment is empty or begins with a dot.
is_plain = re.compile(r"(?:/[a-z0-9_~-][a-z0-9._~-]*)+/?\Z").match


class PlainRules:
    """A rule set, asked for plain paths alone."""

    def __init__(self, rules: RuleSet) -> None:
        self._groups = {
            (site, path): (group.plain.status, group.plain.destination)
            if self._is_sure(rules, group.plain.destination)
            else UNSURE
            for site, path, group in rules.paths()
            if group.plain is not None and group.plain.status != PASS
        }
        self._passed = {
            (s, p) for s, p, g in rules.paths() if g.plain is not None and g.plain.status == PASS
        }
        self._templates = rules.template_index if rules.templates else None
        self._made: dict[int, tuple[int, str, bool]] = {}
        self._rules = rules
        # What no rule answers may be answered by an imported block, or by the form of the site.
        self._otherwise = UNSURE if rules.blocks or rules.forms else NOTHING

    @staticmethod
    def _is_sure(rules: RuleSet, destination: str) -> bool:
        """Whether a destination lies on no old host, so that no request can ask for it itself."""
        return not destination or destination.split("/", 3)[2] not in rules.site_of

    def answer(self, site: str, target: str) -> tuple[int, str]:
        """Status and Location for a plain target of a site, NOTHING, or UNSURE."""
        key = (site, target)
        found = self._groups.get(key)
        if found is not None:
            return found
        if key in self._passed:
            return self._otherwise
        if self._templates is None:
            return self._otherwise
        fitting = self._templates.find(site, target)
        if fitting is None:
            return self._otherwise
        group, match = fitting
        made = self._made.get(id(group))
        if made is None:
            made = self._made[id(group)] = self._make(group)
        status, form, natural = made
        if not natural:
            return status, form
        return status, form % match.groups()

    def _make(self, group: TemplateGroup) -> tuple[int, str, bool]:
        """What a group answers without parameters: a status, a destination with %s for each capture
        in the order of the path, and whether it has any. One that takes them in another order is
        left to the rules.
        """
        rule = next((r for r in group.rules if not r.params), None)
        if rule is None or rule.status == PASS:
            return (*self._otherwise, False)
        if not rule.destination:
            return rule.status, "", False
        if not self._is_sure(self._rules, rule.destination) or not _in_order(rule):
            return (*UNSURE, False)
        pieces = rule.goal.pieces
        form = "%s".join(piece.replace("%", "%%") for piece in pieces[0::2])
        return (
            (rule.status, form, True) if len(pieces) > 1 else (rule.status, rule.destination, False)
        )


def _in_order(rule: TemplateRule) -> bool:
    """Whether a destination takes all captures of the path, in their order; or none."""
    return rule.goal.names in {(), tuple(c.name for c in rule.source.captures)}
