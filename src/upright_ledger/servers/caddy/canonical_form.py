"""What Caddy does with addresses that no rule answers."""

from __future__ import annotations

from collections.abc import Sequence

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
from upright_ledger.servers.caddy.routes import (
    HOST,
    QUERY,
    URI,
    Route,
    handled,
    host_pattern,
    matches,
    put,
    subroute,
    var,
)
from upright_ledger.servers.lookup_tables import LookupTables


def form_routes(rules: RuleSet, low: LookupTables, site: str, hosts: Sequence[str]) -> list[Route]:
    """Where requests go that no rule answers."""
    form = next((f for f in rules.forms if low.numbers[f.site] == site), None)
    if form is None:
        return []
    off = put(off="1")
    foreign = [host_pattern(h) for h in hosts if h != form.authority]
    port = "" if rules.ports_matter else "(?::.*)?"
    routes = [handled(put(off="", f=""))]
    if foreign:
        routes.append(handled(off, match=matches(HOST, f"^(?:{'|'.join(foreign)}){port}$")))
    if form.scheme_from:
        told = (
            "{http.request.scheme}"
            if form.scheme_from == CONNECTION
            else f"{{http.request.header.{form.scheme_from}}}"
        )
        routes.append(handled(off, match=matches(told, f"^(?i:{form.wrong_scheme}){FIRST}$")))
    copied = matches(URI, f"^({PATH})(?:[?]|$)", "uprightf")
    routes.append(handled(put(f="{http.regexp.uprightf.1}"), match=copied))
    routes.append(handled(put(f=""), match=matches(var("f"), f"^{LEFT_ALONE}$")))
    if form.lower:
        # The request's path is in lower case by now; it is cleaned, too, so doubled slashes stay as
        # they come.
        capital = matches(
            f"{var('f')} {{http.request.uri.path}}", f"^{LOWERED} ([^ ]*)$", "uprightl"
        )
        routes.append(handled(put(off="1", f="{http.regexp.uprightl.1}"), match=capital))
    slash: list[Route] = []
    if form.slash == ALWAYS:
        slash = [handled(put(off="1", f=f"{var('f')}/"), match=matches(var("f"), "^.*[^/]$"))]
    if form.slash == NEVER:
        bare = matches(var("f"), f"^({BARE_PART})/+$", "uprightb")
        slash = [handled(put(off="1", f="{http.regexp.uprightb.1}"), match=bare)]
    if slash:
        group = f"form{site}"
        routes.append(handled(put(named="1"), match=matches(var("f"), f"^{FILE}$"), group=group))
        routes.append(handled(subroute(slash), group=group))
    cached = {"Cache-Control": [rules.cache_control]} if rules.cache_control else {}
    location = f"{form.origin}{var('f')}"
    for asked, query in (("[^ ]", f"?{QUERY}"), ("", "")):
        headers = cached | {"Location": [f"{location}{query}"]}
        answer = {"handler": "static_response", "status_code": 301, "headers": headers}
        routes.append(
            handled(answer, match=matches(f"{var('off')} {var('f')} {QUERY}", f"^1 [^ ]+ {asked}"))
        )
    return routes
