"""Template rules as routes."""

from __future__ import annotations

from collections.abc import Callable

from upright_ledger.core.rules.ruleset import RuleSet
from upright_ledger.servers.caddy.routes import (
    Route,
    RouteNames,
    equals,
    handled,
    matches,
    put,
    subroute,
    var,
)
from upright_ledger.servers.lookup_tables import LookupTables, filled
from upright_ledger.servers.reply_encoding import whole


def template_routes(rules: RuleSet, low: LookupTables, site: str, names: RouteNames) -> list[Route]:
    """Templates look at the path as it was sent, where no exact rule answers; the first whose path
    fits decides.
    """
    number = {name: n for n, name in enumerate(low.names, 1)}
    first = names()
    routes = []
    for n, (mine, group) in enumerate(low.templates, 1):
        if mine != site:
            continue
        regex = group.source.regex(fold=rules.fold_case, slash=group.rules[0].slash, spelled=True)
        named = f"uprightt{n}"
        if not group.names:
            reply = whole(filled(group, 0, _captured(named)))
            routes.append(
                handled(put(r=reply), match=matches(var("raw"), f"^{regex}$", named), group=first)
            )
            continue
        ordered = sorted(group.names)
        given = "&".join(var(f"p{number[x]}") for x in ordered)
        doubled = "".join(var(f"d{number[x]}") for x in ordered)
        inner = names()
        choices = [handled(put(stop="1"), match=matches(doubled, "^1"), group=inner)]
        for at, rule in enumerate(group.rules):
            captures = {c.name: c for c in rule.source.params}
            parts = [
                f"=({captures[x].regex()})" if x in captures else "[^&]*" if captures else ""
                for x in ordered
            ]
            chosen = f"uprightc{n}x{at}"
            test = matches(f"{var('raw')}?{given}", f"^{regex}[?]{'&'.join(parts)}$", chosen)
            choices.append(
                handled(put(r=whole(filled(group, at, _captured(chosen)))), match=test, group=inner)
            )
        routes.append(
            handled(subroute(choices), match=matches(var("raw"), f"^{regex}$"), group=first)
        )
    if not routes:
        return []
    return [handled(subroute(routes), match=equals(f"{var('r')}{var('stop')}", ""))]


def _captured(name: str) -> Callable[[int], str]:
    return lambda n: f"{{http.regexp.{name}.{n}}}"
