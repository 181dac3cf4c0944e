"""How Apache reads queries: parameters that choose, and those that are carried."""

from __future__ import annotations

import re

from upright_ledger.core.rules.ruleset import RuleSet
from upright_ledger.core.url.query import TRACKED_VALUE, QueryPolicy
from upright_ledger.servers.apache.rules import Program, env
from upright_ledger.servers.lookup_tables import LookupTables


def read_query(p: Program, rules: RuleSet, low: LookupTables) -> None:
    """Parameters that matter anywhere ("=" and the first value of each), and what campaigns carry
    on.
    """
    for n, name in enumerate(low.names, 1):
        word = re.escape(name)
        p.rule(
            ("%{QUERY_STRING}", f"(?:^|&){word}(?:=([^&]*))?(?:&|$)"), flags=[f"E=upright_p{n}:=%1"]
        )
        twice = f"(?:^|&){word}(?:=[^&]*)?&(?:.*&)?{word}(?:=|&|$)"
        p.rule(("%{QUERY_STRING}", twice), flags=[f"E=upright_d{n}:1"])
    used = {r.query for r in rules if r.destination}
    if QueryPolicy.CARRY_TRACKING not in used:
        return
    words = "|".join(re.escape(n) for n in rules.tracking)
    p.rule(("%{QUERY_STRING}", f"!(?:^|&)(?:{words or '^'})="), goto="carried")
    for name in rules.tracking:
        pattern = f"(?:^|&){re.escape(name)}=({TRACKED_VALUE})(?:&|$)"
        p.rule(("%{QUERY_STRING}", pattern), flags=[f"E=upright_t:{env('t')}&{name}=%1"])
    p.rule((env("t"), "^&(.*)"), flags=["E=upright_t:%1"])
    p.label("carried")
    p.rule()


def write_groups(p: Program, low: LookupTables) -> None:
    """Paths where parameters choose the page: the rules with the most parameters are asked
    first.
    """
    number = {name: n for n, name in enumerate(low.names, 1)}
    p.rule(flags=[f"E=upright_group:${{upright_groups:{env('key')}}}"])
    p.rule((env("group"), "^$"), goto="plain")
    for group in low.param_groups:
        after = f"group{group.number}"
        p.rule((env("group"), f"!=g{group.number}"), goto=after)
        p.rule(("".join(env(f"d{number[n]}") for n in group.names), "^."), goto="end")
        p.rule(("".join(env(f"p{number[n]}") for n in group.names), "^$"), goto="plain")
        for shape in group.shapes:
            tail = "".join(f"&{number[n]}{env(f'p{number[n]}')}" for n in shape)
            given = [(env(f"p{number[n]}"), "^.") for n in shape]
            p.rule(*given, flags=[f"E=upright_r:${{upright_params:{env('key')}?{tail}}}"])
            p.rule((env("r"), "^."), goto="answer")
        p.label(after)
    p.rule((f"${{upright_wild:{env('key')}}}", "^."), goto="templates")
    p.rule(goto="end")
    p.label("plain")
