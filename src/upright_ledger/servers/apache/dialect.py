"""Apache: mod_rewrite with hashed maps, for a server's or virtual host's configuration.

Facts this relies on (measured on Apache 2.4.71): REQUEST_URI is decoded, merged and dot-resolved;
`int:tolower` folds ASCII only; `int:escape` writes lower-case hex and makes blanks fit for a key;
values of a map are not expanded again; a "?" in a destination must be literal in the rule, so
replies are kept in parts.
"""

from __future__ import annotations

import re
from collections.abc import Mapping
from functools import partial

from upright_ledger.core.rules.exact_rule import GONE, Rule
from upright_ledger.core.rules.ruleset import RuleSet
from upright_ledger.core.rules.templates.template_index import PASS, TemplateRule
from upright_ledger.core.url.query import QueryPolicy
from upright_ledger.core.url.request_target import decoded_path
from upright_ledger.servers.apache.canonical_form import forms
from upright_ledger.servers.apache.parameters import read_query, write_groups
from upright_ledger.servers.apache.rules import Program, env, literal
from upright_ledger.servers.interpreters.apache import ApacheInterpreter, read_map
from upright_ledger.servers.lookup_tables import (
    Key,
    LookupTables,
    RuleReply,
    filled,
    lower,
    remembered,
)
from upright_ledger.servers.protocol import (
    Launch,
    Translation,
    differing_entries,
    differing_lines,
    expressible,
)
from upright_ledger.servers.reading_back import differences_in_meaning
from upright_ledger.servers.reply_encoding import map_text, ranked, whole
from upright_ledger.servers.template_files import file_text, readme

RULES_FILE = "redirects.conf"
MAPS_FILE = "make-maps.sh"
EXAMPLE_FILE = "example/httpd.conf"
MAX_PAIR = 1000  # bytes of key and value in an SDBM file

_HARMLESS = r"[!\x22$&->@-\[\]-~]*"
_GUARD = (
    rf"{_HARMLESS}(?:%(?!2[Ff]|5[Cc]|[01]|"
    rf"7[Ff])[0-9A-Fa-f][0-9A-Fa-f]{_HARMLESS})*(?:[?][!\x22$-~]*)?"
)
_AS_IT_STANDS = re.compile(r"[A-Za-z0-9$\-_.+!*'(),:;@&=/~]*")
_BARE = frozenset(
    b"ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789$-_.+!*'(),:;@&=/~"
)  # by int:escape


APACHE = (
    "apache2",
    ("-d", "{folder}/example", "-f", f"{{folder}}/{EXAMPLE_FILE}", "-D", "FOREGROUND"),
    "apache2",
    EXAMPLE_FILE,
)
"""How Apache is started."""

_MODULES = "".join(
    f"LoadModule {name}_module /usr/lib/apache2/modules/mod_{name}.so\n"
    for name in ("ssl", "proxy", "proxy_http")
)
_TLS = "SSLEngine on\nSSLCertificateFile tls.pem\nProxyPreserveHost on"
_NODE = (
    (
        "<VirtualHost *>",
        f"{_MODULES}<VirtualHost *>\n{_TLS}",
    ),
    ("</VirtualHost>", "ProxyPass / {site}/\n</VirtualHost>"),
)


class Apache:
    """The Apache dialect: `redirects.conf` for a virtual host, and texts of which `make-maps.sh`
    makes hashed maps.
    """

    name = "apache"
    rule_file = "plain.txt"
    include_file = RULES_FILE
    most_rules, too_many = 0, ""
    launch = Launch(*APACHE, before=(("sh", MAPS_FILE),), node=_NODE)

    def write(self, rules: RuleSet) -> Translation:
        held, refused = expressible(rules, fault)
        low = lower(held)
        maps = _maps(low)
        written = {f"{name}.txt": map_text(table) for name, table in maps.items()}
        written |= {
            RULES_FILE: _rule_file(held, low),
            MAPS_FILE: _make_maps(sorted(maps)),
            EXAMPLE_FILE: example(_INCLUDED),
            "example/htdocs/.keep": "",
            "README.md": _readme(held),
        }
        return Translation({n: t.encode() for n, t in written.items()}, held, tuple(refused))

    def read_back(self, files: Mapping[str, bytes], rules: RuleSet) -> list[str]:
        low = lower(rules)
        differences = []
        for name, wanted in _maps(low).items():
            text = files[f"{name}.txt"].decode("latin-1")
            differences += differing_lines(f"{name}.txt", text, map_text(wanted))
            differences += differing_entries(f"{name}.txt", read_map(text), wanted)
        differences += differing_lines(
            RULES_FILE, files[RULES_FILE].decode("latin-1"), _rule_file(rules, low)
        )
        return differences or differences_in_meaning(partial(self.interpreter, files), rules)

    def interpreter(self, files: Mapping[str, bytes]) -> ApacheInterpreter:
        maps = {
            n.removesuffix(".txt"): data.decode("latin-1")
            for n, data in files.items()
            if n.endswith(".txt")
        }
        return ApacheInterpreter(files[RULES_FILE].decode("latin-1"), maps)


DIALECT = Apache()


def fault(rule: Rule) -> str:
    """Why Apache cannot execute a rule, or an empty string."""
    if isinstance(rule, TemplateRule):
        return ""
    longest = 3 * max(map(len, rule.paths)) + sum(len(n) + 3 * len(v) + 2 for n, v in rule.params)
    if longest + len(rule.destination) + 40 > MAX_PAIR:
        return (
            f"Apache's hashed maps take no more than {MAX_PAIR:,} bytes of address and destination"
        )
    return ""


def _key(key: Key) -> str:
    """The site and the path as `int:escape` writes it."""
    if _AS_IT_STANDS.fullmatch(key[1]):
        return "".join(key)
    return key[0] + "".join(chr(b) if b in _BARE else f"%{b:02x}" for b in decoded_path(key[1]))


def _marked(reply: RuleReply) -> str:
    """A reply whose fragment carries its own "#"."""
    return (
        whole(reply)
        if not reply.fragment
        else whole(reply)[: -len(reply.fragment)] + f"#{reply.fragment}"
    )


@remembered
def _maps(low: LookupTables) -> dict[str, dict[str, str]]:
    out = {"plain": {_key(key): _marked(reply) for key, reply in low.plain.items()}}
    if low.groups:
        out["groups"] = {_key(key): f"g{group.number}" for key, group in low.groups.items()}
        out["params"] = {
            f"{_key(key)}?{tail}": _marked(reply) for _, key, tail, reply in ranked(low)
        }
        out["wild"] = {_key(key): "1" for key in sorted(low.falls_through)}
    return out


def _rule_file(rules: RuleSet, low: LookupTables) -> str:
    head = (
        f"# Upright Ledger: {len(rules.answering):,} redirect rules for Apache, digest "
        f"{rules.digest}"
    )
    return "\n".join([head, *_configuration(rules, low)]) + "\n"


def _configuration(rules: RuleSet, low: LookupTables) -> list[str]:
    maps = [f'RewriteMap upright_{name} "dbm=sdbm:${{UPRIGHT}}/{name}"' for name in _maps(low)]
    return [
        (
            "# Include this file in the virtual host of each old host, before its own rewrites; "
            "`Define UPRIGHT` names the folder."
        ),
        "RewriteEngine On",
        'RewriteMap upright_lower "int:tolower"',
        'RewriteMap upright_escape "int:escape"',
        *maps,
        *_program(rules, low).lines(marked=bool(rules.cache_control)),
        *cache_lines(rules),
    ]


def cache_lines(rules: RuleSet) -> list[str]:
    """A header that goes with our answers alone."""
    if not rules.cache_control:
        return []
    header = f'Header always set Cache-Control "{rules.cache_control}" env=upright_answered'
    return ["<IfModule mod_headers.c>", header, "</IfModule>"]


def match_site(p: Program, rules: RuleSet, low: LookupTables, *, maps: bool = True) -> None:
    """Host and site of a request; those of other hosts, and targets that the guard forbids, go to
    the end.

    maps: whether there may be any; without them the host keeps its letter case.
    """
    host = "${upright_lower:%{HTTP_HOST}}" if maps else "%{HTTP_HOST}"
    port = "((?::.*)?)" if rules.ports_matter else "()(?::.*)?"
    p.rule((host, f"^([^:]*?)[.]*{port}$"), flags=["E=upright_host:%1%2"])
    for number in sorted(set(low.sites.values())):
        names = "|".join(re.escape(a) for a, n in low.sites.items() if n == number)
        p.rule(
            (env("host"), f"^(?i:{names})$"),
            ("%{THE_REQUEST}", f"^[^ ]+ /{_GUARD} HTTP/"),
            # An error page is fetched by a second look at the same request.
            ("%{ENV:REDIRECT_STATUS}", "!^[45]"),
            flags=[f"E=upright_site:{number}"],
        )
    p.rule((env("site"), "^$"), goto="end")


def _program(rules: RuleSet, low: LookupTables) -> Program:
    """What is done with a request."""
    p = Program()
    match_site(p, rules, low)
    path = "%{REQUEST_URI}"
    folded = f"${{upright_lower:{path}}}" if rules.fold_case else path
    p.rule(flags=[f"E=upright_key:{env('site')}${{upright_escape:{folded}}}"])
    p.rule(("%{QUERY_STRING}", "^$"), goto="asked")
    read_query(p, rules, low)
    p.label("asked")
    if low.groups:
        write_groups(p, low)
    p.rule(flags=[f"E=upright_r:${{upright_plain:{env('key')}}}"])
    p.rule((env("r"), "^."), goto="answer")
    p.label("templates")
    templates(p, rules, low)
    p.rule(goto="end")
    p.label("answer")
    _answer(p, low)
    p.label("end")
    forms(p, rules, low)
    return p


def templates(p: Program, rules: RuleSet, low: LookupTables) -> None:
    """Templates look at the path as it was sent; the first whose path fits decides."""
    number = {name: n for n, name in enumerate(low.names, 1)}
    if low.templates:
        p.rule(("%{THE_REQUEST}", "^[^ ]+ ([^? ]*)"), flags=[f"E=upright_raw:{env('site')}%1"])
    for n, (site, group) in enumerate(low.templates, 1):
        regex = f"{site}{group.source.regex(fold=rules.fold_case, slash=group.rules[0].slash)}"
        if not group.names:
            _template_answer(p, filled(group, 0, "{{{}}}".format), [(env("raw"), f"^{regex}$")])
            continue
        names = sorted(group.names)
        p.rule((env("raw"), f"!^{regex}$"), goto=f"template{n}")
        p.rule(("".join(env(f"d{number[x]}") for x in names), "^."), goto="end")
        test = f"{env('raw')}?{'&'.join(env(f'p{number[x]}') for x in names)}"
        for at, rule in enumerate(group.rules):
            captures = {c.name: c for c in rule.source.params}
            parts = [
                f"=({captures[x].regex()})" if x in captures else "[^&]*" if captures else ""
                for x in names
            ]
            _template_answer(
                p, filled(group, at, "{{{}}}".format), [(test, f"^{regex}[?]{'&'.join(parts)}$")]
            )
        p.rule(goto="end")
        p.label(f"template{n}")


def _template_answer(p: Program, reply: RuleReply, conditions: list[tuple[str, str]]) -> None:
    if reply.status == PASS:
        p.rule(*conditions, goto="end")
        return
    if reply.status == GONE:
        p.rule(*conditions, flags=["G"])
        return
    # The last condition is the one whose captures the substitution names.
    body, args, mark = (_with_captures(t) for t in (reply.body, reply.args, reply.fragment))
    mark = f"#{mark}" if mark else ""
    carried = {QueryPolicy.CARRY_TRACKING: env("t"), QueryPolicy.CARRY: "%{QUERY_STRING}"}.get(
        reply.query
    )
    code = f"R={reply.status}"
    if carried:
        joined = f"{args}&{carried}" if args else carried
        p.rule((carried, "^."), *conditions, to=f"{body}?{joined}{mark}", flags=[code, "L", "NE"])
    whole = f"{body}?{args}{mark}" if args else f"{body}{mark}"
    p.rule(*conditions, to=whole, flags=[code, "L", "NE"] + ([] if args else ["QSD"]))


def _with_captures(text: str) -> str:
    """A destination's text with "%1" for its captures: `filled` writes them as "{1}"."""
    return re.sub(r"\{(\d)\}", r"%\1", literal(text))


def _answer(p: Program, low: LookupTables) -> None:
    """From a reply to the response."""
    parts = (
        "E=upright_code:%1 E=upright_mode:%2 E=upright_own:%3 E=upright_body:%4 E=upright_args:%5 "
        "E=upright_mark:%6"
    )
    p.rule(
        (env("r"), "^([0-9]+)([a-z]?)[|]([^|]*)[|]([^|]*)[|]([^|]*)[|](.*)$"), flags=parts.split()
    )
    p.rule((env("own"), "^."), (f"{env('own')}|{env('host')}", r"^([^|]*)[|]\1$"), goto="end")
    if GONE in low.statuses():
        p.rule((env("code"), f"={GONE}"), flags=["G"])
    for mode, carried in (("t", env("t")), ("c", "%{QUERY_STRING}")):
        p.rule(
            (env("mode"), f"={mode}"),
            (carried, "^."),
            (env("args"), "^."),
            flags=[f"E=upright_args:{env('args')}&{carried}"],
            goto="joined",
        )
        p.rule((env("mode"), f"={mode}"), (carried, "^."), flags=[f"E=upright_args:{carried}"])
    p.label("joined")
    for code in low.statuses():
        if code == GONE:
            continue
        mine = (env("code"), f"={code}")
        p.rule(
            mine,
            (env("args"), "^$"),
            to=f"{env('body')}{env('mark')}",
            flags=[f"R={code}", "L", "NE", "QSD"],
        )
        p.rule(mine, to=f"{env('body')}?{env('args')}{env('mark')}", flags=[f"R={code}", "L", "NE"])


def _make_maps(names: list[str]) -> str:
    lines = "\n".join(
        f"httxt2dbm -f SDBM -i {name}.txt -o .new-{name} && mv .new-{name}.pag {name}.pag && mv "
        f".new-{name}.dir {name}.dir"
        for name in names
    )
    return file_text(__package__, "make-maps.sh", lines=lines)


def example(inside: str) -> str:
    """A complete small configuration around some lines."""
    modules = "\n".join(
        f"LoadModule {name}_module /usr/lib/apache2/modules/mod_{name}.so"
        for name in ("mpm_event", "authz_core", "headers", "rewrite")
    )
    return file_text(__package__, "httpd.conf", modules=modules, inside=inside)


_INCLUDED = f"""DocumentRoot htdocs
Define UPRIGHT ..
<VirtualHost *>
Include ../{RULES_FILE}
</VirtualHost>"""


def _readme(rules: RuleSet) -> str:
    return readme(__package__, rules, maps_file=MAPS_FILE, rules_file=RULES_FILE)
