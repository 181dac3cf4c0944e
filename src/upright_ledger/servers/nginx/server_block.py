"""What nginx does with the outcome of the lookups: a few lines a server block."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence

from upright_ledger.core.rules.exact_rule import GONE, Rule
from upright_ledger.core.rules.ruleset import RuleSet
from upright_ledger.core.rules.templates.template_index import PASS
from upright_ledger.core.url.query import QueryPolicy
from upright_ledger.servers.lookup_tables import remembered


def special_variable(rules: RuleSet) -> str:
    """The variable that holds the outcome of all but the plainest exact rules."""
    return "$upright_by_params" if rules.judges_parameters else "$upright_special"


@remembered
def server_file(rules: RuleSet) -> str:
    """The lines of a server block."""
    special = special_variable(rules)
    lines = [
        f"# Upright Ledger: answers for a server block, digest {rules.digest}",
        "if ($upright_common) { return 301 $upright_common$upright_ask; }",
        *_answers(special, rules.rules),
        *(_answers("$upright_open", rules.templates) if rules.templates else ()),
        *(["if ($upright_form) { return 301 $upright_form; }"] if rules.forms else ()),
        *(["add_header Cache-Control $upright_cache always;"] if rules.cache_control else ()),
    ]
    return "\n".join(lines) + "\n"


def _answers(variable: str, rules: Sequence[Rule]) -> list[str]:
    """What a server block does with the outcome of a lookup: one line a status, the commonest
    first.
    """
    kinds = Counter([(r.status, _is_composed(r)) for r in rules if r.status != PASS])
    counts = Counter[int]()
    for (code, _), n in kinds.items():
        counts[code] += n
    lines = []
    for code in sorted(counts, key=lambda c: (-counts[c], c)):
        if code == GONE:
            lines.append(f'if ({variable} = "410:") {{ return 410; }}')
            continue
        if kinds[code, False]:
            lines.append(
                f'if ({variable} ~ "^{code}:(?<upright_to>[^=].*)$") {{ return {code} '
                f"$upright_to$upright_ask; }}"
            )
        if kinds[code, True]:
            lines.append(
                f'if ({variable} ~ "^{code}:?=(?<upright_to>.+)$") {{ return {code} $upright_to; }}'
            )
    return lines


def _is_composed(rule: Rule) -> bool:
    return (
        rule.query != QueryPolicy.CARRY_TRACKING
        or "?" in rule.destination
        or "#" in rule.destination
    )
