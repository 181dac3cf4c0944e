"""Caddy: JSON routes. Its `map` is linear, so lookups go through a tree of regexes to maps of a few entries.

Facts this relies on (measured on Caddy 2.6.2): a path_regexp sees the path decoded and cleaned; orig_uri is the target as it was
sent; RE2 folds letters beyond ASCII, so letter case is spelled out in templates; of routes with one group name only the first that
matches runs, and each level of the tree needs a name of its own; what a request holds is never expanded again.
"""

from __future__ import annotations

import json
from collections import defaultdict
from collections.abc import Callable, Iterator, Mapping, Sequence
from functools import partial
from itertools import islice
from typing import Any

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
from upright_ledger.core.rules.compiler import ExcludedRule
from upright_ledger.core.rules.ruleset import CARRY, CARRY_TRACKING, GONE, TRACKED_VALUE, Rule, RuleSet
from upright_ledger.core.rules.template_index import TemplateRule
from upright_ledger.core.rules.template_syntax import escaped
from upright_ledger.servers.caddy.routes import (
    Entry,
    Lookup,
    Names,
    Route,
    equals,
    handled,
    matches,
    put,
    subroute,
    var,
)
from upright_ledger.servers.interpreters.caddy import CaddyInterpreter
from upright_ledger.servers.lookup_tables import Key, LookupTables, filled, lower
from upright_ledger.servers.protocol import MOST_TOLD, Translation, decoded, expressible, without_paths
from upright_ledger.servers.reading_back import differences_in_meaning
from upright_ledger.servers.reply_encoding import ranked, whole

RULES_FILE = "redirects.json"
EXAMPLE_FILE = "example/caddy.json"

_HARMLESS = "%(?:2[0-9A-Ea-e]|[346][0-9A-Fa-f]|[89A-Fa-f][0-9A-Fa-f]|5[0-9ABD-Fabd-f]|7[0-9A-Ea-e])"
_GUARD = rf"/(?:[!\x22$&->@-\[\]-~]|{_HARMLESS})*(?:[?][!\x22$-~]*)?"
_HOST, _URI, _QUERY = "{http.request.hostport}", "{http.request.orig_uri}", "{http.request.uri.query}"
_REPLY = r"^([0-9]+)([a-z]?)[|]([^|]*)[|]([^|]*)[|]([^|]*)[|](.*)$"


class Caddy:
    """The Caddy dialect: routes for `apps.http.servers.NAME.routes`."""

    name = "caddy"
    rule_file = RULES_FILE

    def write(self, rules: RuleSet) -> Translation:
        held, refused = expressible(rules, _fault)
        held, odd, more = without_paths(held, lambda path: not _is_utf8(path))
        refused += more
        if odd:
            refused.append(ExcludedRule(f"{len(odd):,} with {odd[0]}", "refused", _NO_LATIN_1))
        routes = _routes(held, lower(held))
        written = {
            RULES_FILE: json.dumps(routes, ensure_ascii=False),
            EXAMPLE_FILE: json.dumps(_example(routes), ensure_ascii=False),
            "README.md": _readme(held),
        }
        return Translation({n: t.encode() for n, t in written.items()}, held, tuple(refused))

    def read_back(self, files: Mapping[str, bytes], rules: RuleSet) -> list[str]:
        wanted = _routes(rules, lower(rules))
        differences = list(islice(_differences(json.loads(files[RULES_FILE]), wanted, "routes"), MOST_TOLD))
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
            found[_text(key)] = f"g{group.number}{'w' if key in low.wild else ''};{plain}"
    return [_entry(text, reply) for text, reply in sorted(found.items())]


def _params(low: LookupTables, site: str) -> dict[tuple[int, int], list[Entry]]:
    """Number of a parameter group and rank → its entries. A map answers as long as the request lives, so each has its own."""
    found: dict[tuple[int, int], list[Entry]] = defaultdict(list)
    for rank, key, tail, reply in ranked(low):
        if key[0] == site:
            entry = _entry(f"{_text(key)}?{tail}", whole(reply))
            found[low.groups[key].number, rank].append(entry)
    return {which: sorted(entries, key=lambda e: e[0]) for which, entries in found.items()}


def _entry(text: str, reply: str) -> Entry:
    return text, {"input": text, "outputs": [reply]}


def _routes(rules: RuleSet, low: LookupTables) -> list[Route]:
    names = Names()
    port = "" if rules.ports_matter else "(?::[^ ]*)?"
    blank = [f"{letter}{n}" for n in range(1, len(low.names) + 1) for letter in "pd"]
    routes = [handled(put(**dict.fromkeys([*blank, "r", "stop", "wild", "folded"], "")))]
    for site in sorted(set(low.sites.values())):
        hosts = [a for a, number in low.sites.items() if number == site]
        told = "|".join(_host_pattern(h) for h in hosts)
        ours = matches(f"{_HOST} {_URI}", f"^(?:{told}){port} {_GUARD}$")
        routes.append(handled(subroute(_site(rules, low, site, hosts, names)), match=ours))
    return routes


# Nothing in Caddy gives a text in lower case but the rewriting of a path, letter by letter; a request that no rule answers
# goes on as it was sent.
_CAPITALS = range(ord("A"), ord("Z") + 1)
_LETTERS = [{"find": chr(n), "replace": chr(n + 32)} for n in _CAPITALS]
_ESCAPED = [{"find": f"(?i:%{n:02x})", "replace": chr(n + 32)} for n in _CAPITALS]
_FOLDED = (
    handled(put(folded="1"), match={"path_regexp": {"pattern": "[A-Z]"}}),
    # Where a letter is escaped the path is rewritten as it was sent, else as it is decoded.
    handled({"handler": "rewrite", "path_regexp": _ESCAPED}, match=matches(_URI, "^[^?]*%[45]")),
    handled({"handler": "rewrite", "path_regexp": _LETTERS}, match=equals(var("folded"), "1")),
)
_UNFOLDED = (handled({"handler": "rewrite", "uri": _URI}, match=equals(var("folded"), "1")),)


def _host_pattern(host: str) -> str:
    name, colon, port = host.partition(":")
    return f"{escaped(name, fold=True)}[.]*{colon}{port}"


def _site(rules: RuleSet, low: LookupTables, site: str, hosts: Sequence[str], names: Names) -> list[Route]:
    """What is done with a request for one old site."""
    clean = {"path_regexp": {"name": "uprightpath", "pattern": "(?s)^(.*)$"}}
    dots = matches(f"{{http.request.uri.path}} {var('path')}", "^.*/[.]{1,2} .*[^/]$")
    return [
        *(_FOLDED if rules.fold_case else ()),
        handled(put(path="{http.regexp.uprightpath.1}"), match=clean),
        handled(put(path=var("path") + "/"), match=dots),  # cleaning takes away the slash that a dot segment leaves
        handled(put(raw="{http.regexp.uprightraw.1}"), match=matches(_URI, "^([^?]*)", "uprightraw")),
        *([handled(subroute(_given(low)), match=matches(_QUERY, "^."))] if low.names else []),
        *_exact(low, site, names),
        *_templates(rules, low, site, names),
        *_answer(rules, low, hosts),
        *_form(rules, low, site, hosts),
        *(_UNFOLDED if rules.fold_case else ()),
    ]


def _given(low: LookupTables) -> list[Route]:
    """Each parameter that matters anywhere: "=" and its first value, and whether it is given twice."""
    routes = []
    for n, name in enumerate(low.names, 1):
        word = escaped(name)
        first = matches(_QUERY, f"^(?:.*?&)??{word}(?:=([^&]*))?(?:&|$)", f"uprightp{n}")
        routes.append(handled(put(**{f"p{n}": f"={{http.regexp.uprightp{n}.1}}"}), match=first))
        twice = f"^(?:.*&)?{word}(?:=[^&]*)?&(?:.*&)?{word}(?:=|&|$)"
        routes.append(handled(put(**{f"d{n}": "1"}), match=matches(_QUERY, twice)))
    return routes


def _exact(low: LookupTables, site: str, names: Names) -> list[Route]:
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


def _templates(rules: RuleSet, low: LookupTables, site: str, names: Names) -> list[Route]:
    """Templates look at the path as it was sent, where no exact rule answers; the first whose path fits decides."""
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
            routes.append(handled(put(r=reply), match=matches(var("raw"), f"^{regex}$", named), group=first))
            continue
        ordered = sorted(group.names)
        given = "&".join(var(f"p{number[x]}") for x in ordered)
        doubled = "".join(var(f"d{number[x]}") for x in ordered)
        inner = names()
        choices = [handled(put(stop="1"), match=matches(doubled, "^1"), group=inner)]
        for at, rule in enumerate(group.rules):
            captures = {c.name: c for c in rule.source.params}
            parts = [f"=({captures[x].regex()})" if x in captures else "[^&]*" if captures else "" for x in ordered]
            chosen = f"uprightc{n}x{at}"
            test = matches(f"{var('raw')}?{given}", f"^{regex}[?]{'&'.join(parts)}$", chosen)
            choices.append(handled(put(r=whole(filled(group, at, _captured(chosen)))), match=test, group=inner))
        routes.append(handled(subroute(choices), match=matches(var("raw"), f"^{regex}$"), group=first))
    if not routes:
        return []
    return [handled(subroute(routes), match=equals(f"{var('r')}{var('stop')}", ""))]


def _captured(name: str) -> Callable[[int], str]:
    return lambda n: f"{{http.regexp.{name}.{n}}}"


def _answer(rules: RuleSet, low: LookupTables, hosts: Sequence[str]) -> list[Route]:
    """From a reply to the response."""
    part = "{{http.regexp.uprightr.{}}}".format
    respond: list[Route] = []
    cached = {"Cache-Control": [rules.cache_control]} if rules.cache_control else {}
    for host in hosts:
        here = matches(f"{var('own')} {_HOST}", f"^{escaped(host)} {_host_pattern(host)}(?::.*)?$")
        respond.append(handled(put(code="0"), match=here))
    if GONE in low.statuses():
        # An error, so that the server's error routes may give it a page.
        gone: list[dict[str, Any]] = [{"handler": "headers", "response": {"set": cached}}] if cached else []
        gone.append({"handler": "error", "status_code": GONE})
        respond.append(handled(*gone, match=equals(var("code"), str(GONE))))
    used = {r.query for r in rules if r.destination}
    if CARRY_TRACKING in used:
        tracked = []
        for n, name in enumerate(rules.tracking, 1):
            pattern = f"^(?:.*?&)??{escaped(name)}=({TRACKED_VALUE})(?:&|$)"
            text = f"{var('args')}&{name}={{http.regexp.uprightq{n}.1}}"
            tracked.append(handled(put(args=text), match=matches(_QUERY, pattern, f"uprightq{n}")))
        respond.append(handled(subroute(tracked), match=matches(f"{var('mode')} {_QUERY}", "^t .")))
    if CARRY in used:
        both = put(args=f"{var('args')}&{_QUERY}")
        respond.append(handled(both, match=matches(f"{var('mode')} {_QUERY}", "^c .")))
    location = cached | {"Location": [f"{var('body')}{var('args')}{var('mark')}"]}
    answer = {"handler": "static_response", "status_code": var("code"), "headers": location}
    respond += [
        handled(put(args="?{http.regexp.uprighta.1}"), match=matches(var("args"), "^&?(.+)$", "uprighta")),
        handled(put(mark=f"#{var('mark')}"), match=matches(var("mark"), "^.")),
        handled(answer, match=matches(var("code"), "^3")),
    ]
    split = put(code=part(1), mode=part(2), own=part(3), body=part(4), args=part(5), mark=part(6))
    return [handled(split, subroute(respond), match=matches(var("r"), _REPLY, "uprightr"))]


def _form(rules: RuleSet, low: LookupTables, site: str, hosts: Sequence[str]) -> list[Route]:
    """Where requests go that no rule answers."""
    form = next((f for f in rules.forms if low.numbers[f.site] == site), None)
    if form is None:
        return []
    off = put(off="1")
    foreign = [_host_pattern(h) for h in hosts if h != form.authority]
    port = "" if rules.ports_matter else "(?::.*)?"
    routes = [handled(put(off="", f=""))]
    if foreign:
        routes.append(handled(off, match=matches(_HOST, f"^(?:{'|'.join(foreign)}){port}$")))
    if form.scheme_from:
        told = (
            "{http.request.scheme}" if form.scheme_from == CONNECTION else f"{{http.request.header.{form.scheme_from}}}"
        )
        routes.append(handled(off, match=matches(told, f"^(?i:{form.wrong_scheme}){FIRST}$")))
    copied = matches(_URI, f"^({PATH})(?:[?]|$)", "uprightf")
    routes.append(handled(put(f="{http.regexp.uprightf.1}"), match=copied))
    routes.append(handled(put(f=""), match=matches(var("f"), f"^{LEFT_ALONE}$")))
    if form.lower:
        # The request's path is in lower case by now; it is cleaned, too, so doubled slashes stay as they come.
        capital = matches(f"{var('f')} {{http.request.uri.path}}", f"^{LOWERED} ([^ ]*)$", "uprightl")
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
    for asked, query in (("[^ ]", f"?{_QUERY}"), ("", "")):
        headers = cached | {"Location": [f"{location}{query}"]}
        answer = {"handler": "static_response", "status_code": 301, "headers": headers}
        routes.append(handled(answer, match=matches(f"{var('off')} {var('f')} {_QUERY}", f"^1 [^ ]+ {asked}")))
    return routes


def _example(routes: list[Route]) -> dict[str, Any]:
    missing = handled({"handler": "static_response", "status_code": 404})
    server = {"listen": ["127.0.0.1:8080"], "automatic_https": {"disable": True}, "routes": [*routes, missing]}
    return {
        "admin": {"disabled": True, "config": {"persist": False}},
        "logging": {"logs": {"default": {"writer": {"output": "discard"}}}},
        "apps": {"http": {"servers": {"old_hosts": server}}},
    }


def _readme(rules: RuleSet) -> str:
    hosts = ", ".join(sorted(rules.site_of))
    return f"""# Redirect rules for Caddy

{len(rules.answering):,} rules, digest `{rules.digest}`, for requests to {hosts}.

1. `{RULES_FILE}` is a list of routes. Put them before the other routes of the server in Caddy's JSON configuration
   (`caddy adapt` turns a Caddyfile into JSON): `jq '.apps.http.servers.srv0.routes = $r[0] + .apps.http.servers.srv0.routes'
   --slurpfile r {RULES_FILE} caddy.json`.
2. Check with `caddy validate --config caddy.json`, then `caddy reload --config caddy.json`.
3. To go back: reload the former configuration.
4. A page that is gone is an error 410: the server's error routes (`handle_errors`, in JSON `errors.routes`) give it the site's own page.

`example/caddy.json` is a complete small configuration to try the rules with: `caddy run --config example/caddy.json`.
Caddy has no hashed lookup for redirects: a request runs through a tree of regular expressions, which costs several times what
a fixed redirect does, and a large set takes seconds to load. Requests without a rule go on untouched. Caddy cannot compare bytes that
are no UTF-8: addresses whose letters are escaped in Latin-1 (`%E9`) get no answer, their UTF-8 spellings (`%C3%A9`) do.
"""
