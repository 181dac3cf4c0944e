"""Caddy: JSON routes. Its `map` is linear, so lookups go through a tree of regexes to maps of a few
entries.

Facts this relies on (measured on Caddy 2.6.2): a path_regexp sees the path decoded and cleaned;
orig_uri is the target as it was sent; RE2 folds letters beyond ASCII, so letter case is spelled out
in templates; of routes with one group name only the first that matches runs, and each level of the
tree needs a name of its own; what a request holds is never expanded again.
"""

from __future__ import annotations

import json
from collections import defaultdict
from collections.abc import Iterator, Mapping, Sequence
from functools import partial
from itertools import islice
from typing import Any

from upright_ledger.core.rules.compiler import ExcludedRule, Exclusion
from upright_ledger.core.rules.exact_rule import GONE, Rule
from upright_ledger.core.rules.ruleset import RuleSet
from upright_ledger.core.rules.templates.template_index import TemplateRule
from upright_ledger.core.rules.templates.template_syntax import escaped
from upright_ledger.core.url.query import TRACKED_VALUE, QueryPolicy
from upright_ledger.servers.caddy.canonical_form import form_routes
from upright_ledger.servers.caddy.routes import (
    HOST,
    QUERY,
    URI,
    Entry,
    Lookup,
    Route,
    RouteNames,
    equals,
    handled,
    host_pattern,
    matches,
    put,
    subroute,
    var,
)
from upright_ledger.servers.caddy.templates import template_routes
from upright_ledger.servers.interpreters.caddy import CaddyInterpreter
from upright_ledger.servers.lookup_tables import Key, LookupTables, lower
from upright_ledger.servers.protocol import (
    MOST_TOLD,
    Launch,
    Translation,
    decoded,
    expressible,
    without_paths,
)
from upright_ledger.servers.reading_back import differences_in_meaning
from upright_ledger.servers.reply_encoding import ranked, whole
from upright_ledger.servers.template_files import readme

RULES_FILE = "redirects.json"
EXAMPLE_FILE = "example/caddy.json"

_HARMLESS = "%(?:2[0-9A-Ea-e]|[346][0-9A-Fa-f]|[89A-Fa-f][0-9A-Fa-f]|5[0-9ABD-Fabd-f]|7[0-9A-Ea-e])"
_GUARD = rf"/(?:[!\x22$&->@-\[\]-~]|{_HARMLESS})*(?:[?][!\x22$-~]*)?"
_REPLY = r"^([0-9]+)([a-z]?)[|]([^|]*)[|]([^|]*)[|]([^|]*)[|](.*)$"


class Caddy:
    """The Caddy dialect: routes for `apps.http.servers.NAME.routes`."""

    name = "caddy"
    rule_file = RULES_FILE
    include_file, most_rules, too_many = "", 0, ""
    launch = Launch(
        "caddy", ("run", "--config", f"{{folder}}/{EXAMPLE_FILE}"), "caddy", EXAMPLE_FILE
    )

    def write(self, rules: RuleSet) -> Translation:
        held, refused = expressible(rules, _fault)
        held, odd, more = without_paths(held, lambda path: not _is_utf8(path))
        refused += more
        if odd:
            refused.append(
                ExcludedRule(f"{len(odd):,} with {odd[0]}", Exclusion.REFUSED, _NO_LATIN_1)
            )
        routes = _routes(held, lower(held))
        written = {
            RULES_FILE: json.dumps(routes, ensure_ascii=False),
            EXAMPLE_FILE: json.dumps(_example(routes), ensure_ascii=False),
            "README.md": _readme(held),
        }
        return Translation({n: t.encode() for n, t in written.items()}, held, tuple(refused))

    def read_back(self, files: Mapping[str, bytes], rules: RuleSet) -> list[str]:
        wanted = _routes(rules, lower(rules))
        differences = list(
            islice(_differences(json.loads(files[RULES_FILE]), wanted, "routes"), MOST_TOLD)
        )
        return differences or differences_in_meaning(partial(self.interpreter, files), rules)

    def interpreter(self, files: Mapping[str, bytes]) -> CaddyInterpreter:
        return CaddyInterpreter(json.loads(files[RULES_FILE]))


DIALECT = Caddy()


def _differences(found: Any, wanted: Any, where: str) -> Iterator[str]:
    """Where JSON differs from what was to be written."""
    if isinstance(found, dict) and isinstance(wanted, dict) and found.keys() == wanted.keys():
        for key in wanted:
            yield from _differences(found[key], wanted[key], f"{where}.{key}")
    elif isinstance(found, list) and isinstance(wanted, list) and len(found) == len(wanted):
        for n, (one, other) in enumerate(zip(found, wanted, strict=True)):
            yield from _differences(one, other, f"{where}[{n}]")
    elif found != wanted:
        yield f"{where} reads as {str(found)[:500]} instead of {str(wanted)[:500]}"


_NO_LATIN_1 = "spellings in Latin-1 get no answer: Caddy cannot compare bytes that are no UTF-8"


def _fault(rule: Rule) -> str:
    """Why Caddy cannot execute a rule, or an empty string."""
    if isinstance(rule, TemplateRule) or any(map(_is_utf8, rule.paths)):
        return ""
    return "its address is no UTF-8, which Caddy cannot compare"


def _is_utf8(path: str) -> bool:
    try:
        decoded(path).encode()
    except UnicodeEncodeError:
        return False
    return True


def _text(key: Key) -> str:
    return decoded(key[1])


def _plain(low: LookupTables, site: str) -> list[Entry]:
    found = {}
    for key, reply in low.plain.items():
        if key[0] == site:
            found[_text(key)] = whole(reply)
    for key, group in low.groups.items():
        if key[0] == site:
            plain = found.get(_text(key), "")
            found[_text(key)] = f"g{group.number}{'w' if key in low.falls_through else ''};{plain}"
    return [_entry(text, reply) for text, reply in sorted(found.items())]


def _params(low: LookupTables, site: str) -> dict[tuple[int, int], list[Entry]]:
    """Number of a parameter group and rank → its entries. A map answers as long as the request
    lives, so each has its own.
    """
    found: dict[tuple[int, int], list[Entry]] = defaultdict(list)
    for rank, key, tail, reply in ranked(low):
        if key[0] == site:
            entry = _entry(f"{_text(key)}?{tail}", whole(reply))
            found[low.groups[key].number, rank].append(entry)
    return {which: sorted(entries, key=lambda e: e[0]) for which, entries in found.items()}


def _entry(text: str, reply: str) -> Entry:
    return text, {"input": text, "outputs": [reply]}


def _routes(rules: RuleSet, low: LookupTables) -> list[Route]:
    names = RouteNames()
    port = "" if rules.ports_matter else "(?::[^ ]*)?"
    blank = [f"{letter}{n}" for n in range(1, len(low.names) + 1) for letter in "pd"]
    routes = [handled(put(**dict.fromkeys([*blank, "r", "stop", "wild", "folded"], "")))]
    for site in sorted(set(low.sites.values())):
        hosts = [a for a, number in low.sites.items() if number == site]
        told = "|".join(host_pattern(h) for h in hosts)
        ours = matches(f"{HOST} {URI}", f"^(?:{told}){port} {_GUARD}$")
        routes.append(handled(subroute(_site(rules, low, site, hosts, names)), match=ours))
    return routes


# Nothing in Caddy gives a text in lower case but the rewriting of a path, letter by letter; a
# request that no rule answers goes on as it was sent.
_CAPITALS = range(ord("A"), ord("Z") + 1)
_LETTERS = [{"find": chr(n), "replace": chr(n + 32)} for n in _CAPITALS]
_ESCAPED = [{"find": f"(?i:%{n:02x})", "replace": chr(n + 32)} for n in _CAPITALS]
_FOLDED = (
    handled(put(folded="1"), match={"path_regexp": {"pattern": "[A-Z]"}}),
    # Where a letter is escaped the path is rewritten as it was sent, else as it is decoded.
    handled({"handler": "rewrite", "path_regexp": _ESCAPED}, match=matches(URI, "^[^?]*%[45]")),
    handled({"handler": "rewrite", "path_regexp": _LETTERS}, match=equals(var("folded"), "1")),
)
_UNFOLDED = (handled({"handler": "rewrite", "uri": URI}, match=equals(var("folded"), "1")),)


def _site(
    rules: RuleSet, low: LookupTables, site: str, hosts: Sequence[str], names: RouteNames
) -> list[Route]:
    """What is done with a request for one old site."""
    clean = {"path_regexp": {"name": "uprightpath", "pattern": "(?s)^(.*)$"}}
    dots = matches(f"{{http.request.uri.path}} {var('path')}", "^.*/[.]{1,2} .*[^/]$")
    return [
        *(_FOLDED if rules.fold_case else ()),
        handled(put(path="{http.regexp.uprightpath.1}"), match=clean),
        handled(
            put(path=var("path") + "/"), match=dots
        ),  # cleaning takes away the slash that a dot segment leaves
        handled(
            put(raw="{http.regexp.uprightraw.1}"), match=matches(URI, "^([^?]*)", "uprightraw")
        ),
        *([handled(subroute(_given(low)), match=matches(QUERY, "^."))] if low.names else []),
        *_exact(low, site, names),
        *template_routes(rules, low, site, names),
        *_answer(rules, low, hosts),
        *form_routes(rules, low, site, hosts),
        *(_UNFOLDED if rules.fold_case else ()),
    ]


def _given(low: LookupTables) -> list[Route]:
    """Each parameter that matters anywhere: "=" and its first value, and whether it is given
    twice.
    """
    routes = []
    for n, name in enumerate(low.names, 1):
        word = escaped(name)
        first = matches(QUERY, f"^(?:.*?&)??{word}(?:=([^&]*))?(?:&|$)", f"uprightp{n}")
        routes.append(handled(put(**{f"p{n}": f"={{http.regexp.uprightp{n}.1}}"}), match=first))
        twice = f"^(?:.*&)?{word}(?:=[^&]*)?&(?:.*&)?{word}(?:=|&|$)"
        routes.append(handled(put(**{f"d{n}": "1"}), match=matches(QUERY, twice)))
    return routes


def _exact(low: LookupTables, site: str, names: RouteNames) -> list[Route]:
    """Exact rules: `upright_r` becomes the reply."""
    hit = f"{{upright_hit_{site}}}"
    plain, params = _plain(low, site), _params(low, site)
    if not plain:
        return []
    found = [handled(subroute(Lookup("path", hit, names).tree(plain))), handled(put(r=hit))]
    if not params:
        return found
    number = {name: n for n, name in enumerate(low.names, 1)}
    choose, groups = names(), []
    for group in low.param_groups:
        name = f"uprightg{group.number}"
        given = "".join(var(f"p{number[n]}") for n in group.names)
        doubled = "".join(var(f"d{number[n]}") for n in group.names)
        told = put(wild=f"{{http.regexp.{name}.1}}", r=f"{{http.regexp.{name}.2}}")
        ranks = [put(r="")]
        for rank, shape in enumerate(group.shapes, 1):
            if (group.number, rank) not in params:
                continue
            found_here = f"{{upright_hit_{site}_{group.number}_{rank}}}"
            look = Lookup("tail", found_here, names).tree(params[group.number, rank])
            tail = "".join(f"&{number[n]}{var(f'p{number[n]}')}" for n in shape)
            values = "&".join(var(f"p{number[n]}") for n in shape)
            every = matches(f"{var('r')};{values}", f"^;{'&'.join('=[^&]*' for _ in shape)}$")
            asked = [put(tail=f"{var('path')}?{tail}"), subroute(look), put(r=found_here)]
            ranks.append(subroute([handled(*asked, match=every)]))
        missed = handled(put(stop="1"), match=equals(f"{var('r')}{var('wild')}", ""))
        inner = names()
        handle = [
            handled(put(r="", stop="1"), match=matches(doubled, "^1"), group=inner),
            handled(*ranks, subroute([missed]), match=matches(given, "^="), group=inner),
        ]
        mine = matches(var("r"), f"^g{group.number}(w?);(.*)$", name)
        groups.append(handled(told, subroute(handle), match=mine, group=choose))
    return [*found, handled(subroute(groups), match=matches(var("r"), "^g"))]


def _answer(rules: RuleSet, low: LookupTables, hosts: Sequence[str]) -> list[Route]:
    """From a reply to the response."""
    part = "{{http.regexp.uprightr.{}}}".format
    respond: list[Route] = []
    cached = {"Cache-Control": [rules.cache_control]} if rules.cache_control else {}
    for host in hosts:
        here = matches(f"{var('own')} {HOST}", f"^{escaped(host)} {host_pattern(host)}(?::.*)?$")
        respond.append(handled(put(code="0"), match=here))
    if GONE in low.statuses():
        # An error, so that the server's error routes may give it a page.
        gone: list[dict[str, Any]] = (
            [{"handler": "headers", "response": {"set": cached}}] if cached else []
        )
        gone.append({"handler": "error", "status_code": GONE})
        respond.append(handled(*gone, match=equals(var("code"), str(GONE))))
    used = {r.query for r in rules if r.destination}
    if QueryPolicy.CARRY_TRACKING in used:
        tracked = []
        for n, name in enumerate(rules.tracking, 1):
            pattern = f"^(?:.*?&)??{escaped(name)}=({TRACKED_VALUE})(?:&|$)"
            text = f"{var('args')}&{name}={{http.regexp.uprightq{n}.1}}"
            tracked.append(handled(put(args=text), match=matches(QUERY, pattern, f"uprightq{n}")))
        respond.append(handled(subroute(tracked), match=matches(f"{var('mode')} {QUERY}", "^t .")))
    if QueryPolicy.CARRY in used:
        both = put(args=f"{var('args')}&{QUERY}")
        respond.append(handled(both, match=matches(f"{var('mode')} {QUERY}", "^c .")))
    location = cached | {"Location": [f"{var('body')}{var('args')}{var('mark')}"]}
    answer = {"handler": "static_response", "status_code": var("code"), "headers": location}
    respond += [
        handled(
            put(args="?{http.regexp.uprighta.1}"),
            match=matches(var("args"), "^&?(.+)$", "uprighta"),
        ),
        handled(put(mark=f"#{var('mark')}"), match=matches(var("mark"), "^.")),
        handled(answer, match=matches(var("code"), "^3")),
    ]
    split = put(code=part(1), mode=part(2), own=part(3), body=part(4), args=part(5), mark=part(6))
    return [handled(split, subroute(respond), match=matches(var("r"), _REPLY, "uprightr"))]


def _example(routes: list[Route]) -> dict[str, Any]:
    missing = handled({"handler": "static_response", "status_code": 404})
    server = {
        "listen": ["127.0.0.1:8080"],
        "automatic_https": {"disable": True},
        "routes": [*routes, missing],
    }
    return {
        "admin": {"disabled": True, "config": {"persist": False}},
        "logging": {"logs": {"default": {"writer": {"output": "discard"}}}},
        "apps": {"http": {"servers": {"old_hosts": server}}},
    }


def _readme(rules: RuleSet) -> str:
    return readme(__package__, rules, rules_file=RULES_FILE)
