"""Template rules for nginx: one ordered map of regexes over the path as it was sent.

Named captures keep their values while further maps are looked up, so a value may name what its own
regex captured.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping

from upright_ledger.core.rules.ruleset import RuleSet
from upright_ledger.core.rules.templates.template_index import TemplateGroup, TemplateRule
from upright_ledger.servers.nginx.parameters import cased, twice

Tables = dict[str, dict[str, str]]

SOURCES = {
    "upright_raw": "$request_uri",
    "upright_template": '"$upright_site$upright_raw"',
    "upright_held": '"$upright_seen$upright_wild"',
}
"""What the tables with fixed names are looked up by."""


def template_tables(
    rules: RuleSet,
    sites: Mapping[str, str],
    value: Callable[[TemplateRule, str], str],
    *,
    by_params: bool,
) -> tuple[Tables, dict[str, str]]:
    """The tables, and what those with numbered names are looked up by.

    value: what a rule and its destination (captures as variables) give. by_params: whether some
    exact rules have parameters.
    """
    out: Tables = {"upright_raw": {"default": "", "~^(?<upright_path>[^?]*)": "$upright_path"}}
    sources: dict[str, str] = {}
    chosen: dict[str, str] = {"default": ""}
    wild: dict[str, str] = {"default": ""}
    for n, group in enumerate(rules.template_index, 1):
        site = sites[group.site]
        pattern = group.source.regex(fold=rules.fold_case, slash=group.rules[0].slash)
        key = f"~^{site}{_named(pattern, 'c')}$"
        for path in group.literal_paths:
            wild[f"{site}{path}"] = "w"
        if not group.names:
            chosen[key] = value(group.rules[0], _filled(group.rules[0]))
            continue
        chosen[key] = f"$upright_chosen_{n}"
        out |= _choice(n, group, value)
        # Variable names of parameters cannot be shared with others' tables: these count their own.
        names = sorted(group.names)
        tuple_of = "&".join(f"$upright_tp_{n}_{m}" for m in range(1, len(names) + 1))
        sources[f"upright_chosen_{n}"] = f'"$upright_double_{n}?{tuple_of}"'
        sources |= {f"upright_tp_{n}_{m}": "$args" for m in range(1, len(names) + 1)}
        sources[f"upright_double_{n}"] = "$args"
    out["upright_template"] = chosen
    held = "$upright_held" if by_params else ""
    if by_params:
        out |= cased("wild", wild, fold=rules.fold_case)
        out["upright_held"] = {"default": "", "1": "x"}
    out["upright_open"] = {"default": "", "": "$upright_template"}
    special = "$upright_by_params" if by_params else "$upright_special"
    sources["upright_open"] = f'"$upright_blocked{special}{held}"'
    return out, sources


def _choice(n: int, group: TemplateGroup, value: Callable[[TemplateRule, str], str]) -> Tables:
    """The tables of one path whose answer depends on parameters."""
    out: Tables = {}
    names = sorted(group.names)
    for m, name in enumerate(names, 1):
        word = re.escape(name)
        out[f"upright_tp_{n}_{m}"] = {
            "default": "",
            f"~(?:^|&){word}=(?<upright_v>[^&]*)": "=$upright_v",
            f"~(?:^|&){word}(?:&|$)": "=",
        }
    out[f"upright_double_{n}"] = {"default": "", **{twice(name): "2" for name in names}}
    table: dict[str, str] = {"default": ""}
    for rule in group.rules:
        captures = {c.name: c for c in rule.source.params}
        if not captures:
            table[f"~^\\?{'&' * (len(names) - 1)}$"] = value(rule, _filled(rule))
            continue
        parts = [
            f"=(?<upright_q{list(captures).index(name) + 1}>{captures[name].regex()})"
            if name in captures
            else "[^&]*"
            for name in names
        ]
        table[f"~^\\?{'&'.join(parts)}$"] = value(rule, _filled(rule))
    out[f"upright_chosen_{n}"] = table
    return out


def _named(regex: str, letter: str) -> str:
    """A regex with its groups named in turn."""
    count = 0

    def name(_: re.Match[str]) -> str:
        nonlocal count
        count += 1
        return f"(?<upright_{letter}{count}>"

    return re.sub(r"\((?!\?)", name, regex)


def _filled(rule: TemplateRule) -> str:
    """The destination with variables for its captures."""
    if not rule.destination:
        return ""
    variables = {c.name: f"${{upright_c{n}}}" for n, c in enumerate(rule.source.captures, 1)}
    variables |= {c.name: f"${{upright_q{n}}}" for n, c in enumerate(rule.source.params, 1)}
    return rule.goal.fill(variables)
