"""What Apache does with addresses that no rule answers."""

from __future__ import annotations

import re

from upright_ledger.core.rules.canonical_form import (
    ALWAYS,
    BARE_PART,
    CONNECTION,
    FILE,
    FIRST,
    LEFT_ALONE,
    LOWERED,
    NEVER,
    PATH,
)
from upright_ledger.core.rules.ruleset import RuleSet
from upright_ledger.servers.apache.rules import Program, env
from upright_ledger.servers.lookup_tables import LookupTables


def forms(p: Program, rules: RuleSet, low: LookupTables) -> None:
    """Where requests go that no rule answers. The site is set where the guard lets the target
    pass.
    """
    for form in rules.forms:
        number = low.numbers[form.site]
        p.rule((env("site"), f"={number}"), flags=[f"E=upright_to:{form.origin}"])
        p.rule(
            (env("site"), f"={number}"),
            (env("host"), f"!^(?i:{re.escape(form.authority)})$"),
            flags=["E=upright_off:1"],
        )
        if form.scheme_from:
            told = (
                "%{REQUEST_SCHEME}"
                if form.scheme_from == CONNECTION
                else f"%{{HTTP:{form.scheme_from}}}"
            )
            p.rule(
                (env("site"), f"={number}"),
                (told, f"^(?i:{form.wrong_scheme}){FIRST}$"),
                flags=["E=upright_off:1"],
            )
    if rules.forms:
        form = rules.forms[0]
        asked = "%{THE_REQUEST}"
        p.rule((env("to"), "^$"), goto="out")
        p.rule((asked, f"^[^ ]+ {LEFT_ALONE}(?:[?][^ ]*)? HTTP/"), goto="out")
        p.rule((asked, f"^[^ ]+ ({PATH})(?:[?][^ ]*)? HTTP/"), flags=["E=upright_f:%1"])
        if form.lower:
            p.rule(
                (env("f"), f"^{LOWERED}$"),
                flags=[f"E=upright_f:${{upright_lower:{env('f')}}}", "E=upright_off:1"],
            )
        if form.slash:
            p.rule((env("f"), f"^{FILE}$"), goto="settled")
        if form.slash == ALWAYS:
            p.rule((env("f"), "[^/]$"), flags=[f"E=upright_f:{env('f')}/", "E=upright_off:1"])
        if form.slash == NEVER:
            p.rule((env("f"), f"^({BARE_PART})/+$"), flags=["E=upright_f:%1", "E=upright_off:1"])
        p.label("settled")
        p.rule((env("off"), "^$"), goto="out")
        p.rule((env("f"), "^$"), goto="out")
        address, flags = f"{env('to')}{env('f')}", ["R=301", "L", "NE"]
        p.rule(("%{QUERY_STRING}", "^."), to=f"{address}?%{{QUERY_STRING}}", flags=flags)
        p.rule(to=address, flags=[*flags, "QSD"])
        p.label("out")
    p.rule()
