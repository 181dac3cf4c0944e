"""Apache's .htaccess, for those who can change nothing else: one rewrite rule a path, bundled by
their first folder.

The file is read anew with every request: about 15 times a small one's cost with 1,000 rules,
hundreds of times with 10,000 (measured on Apache 2.4.71). So it is for small sets, and larger ones
are refused unless forced.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Mapping, Sequence
from functools import partial

from upright_ledger.core.rules.compiler import ExcludedRule, Exclusion
from upright_ledger.core.rules.exact_rule import GONE
from upright_ledger.core.rules.ruleset import RuleSet
from upright_ledger.core.rules.templates.template_index import PASS
from upright_ledger.core.url.query import QueryPolicy
from upright_ledger.servers.apache.canonical_form import forms
from upright_ledger.servers.apache.dialect import (
    APACHE,
    cache_lines,
    example,
    fault,
    match_site,
    templates,
)
from upright_ledger.servers.apache.parameters import read_query
from upright_ledger.servers.apache.rules import Program, env, literal
from upright_ledger.servers.interpreters.apache import ApacheInterpreter
from upright_ledger.servers.lookup_tables import Key, LookupTables, RuleReply, lower
from upright_ledger.servers.protocol import (
    NO_LOWER_CASE,
    Launch,
    Translation,
    decoded,
    differing_lines,
    expressible,
    without_lower_case,
)
from upright_ledger.servers.reading_back import differences_in_meaning
from upright_ledger.servers.template_files import readme

RULES_FILE = ".htaccess"
EXAMPLE_FILE = "example/httpd.conf"
MOST_RULES = 1_000
_FEWEST = 4  # paths for which a bundle is worth a jump of its own


class Htaccess:
    """The .htaccess dialect."""

    name = "htaccess"
    rule_file = RULES_FILE
    include_file = RULES_FILE
    most_rules, too_many = MOST_RULES, "its file is read anew with every request"
    launch = Launch(*APACHE)

    def write(self, rules: RuleSet) -> Translation:
        held, refused = expressible(without_lower_case(rules), fault)
        refused += [
            ExcludedRule(f.legacy_url, Exclusion.REFUSED, NO_LOWER_CASE)
            for f in rules.forms
            if f.lower
        ]
        written = {
            RULES_FILE: _rule_file(held, lower(held)),
            EXAMPLE_FILE: example(_AROUND),
            "README.md": _readme(held),
        }
        return Translation({n: t.encode() for n, t in written.items()}, held, tuple(refused))

    def read_back(self, files: Mapping[str, bytes], rules: RuleSet) -> list[str]:
        differences = differing_lines(
            RULES_FILE, files[RULES_FILE].decode("latin-1"), _rule_file(rules, lower(rules))
        )
        return differences or differences_in_meaning(partial(self.interpreter, files), rules)

    def interpreter(self, files: Mapping[str, bytes]) -> ApacheInterpreter:
        return ApacheInterpreter(files[RULES_FILE].decode("latin-1"), {})


DIALECT = Htaccess()


def _rule_file(rules: RuleSet, low: LookupTables) -> str:
    head = (
        f"# Upright Ledger: {len(rules.answering):,} redirect rules for .htaccess, digest "
        f"{rules.digest}"
    )
    lines = _program(rules, low).lines(marked=bool(rules.cache_control))
    return "\n".join([head, "RewriteEngine On", *lines, *cache_lines(rules)]) + "\n"


def _program(rules: RuleSet, low: LookupTables) -> Program:
    p = Program()
    match_site(p, rules, low, maps=False)
    p.rule(("%{QUERY_STRING}", "^$"), goto="asked")
    read_query(p, rules, low)
    p.label("asked")
    for site in sorted(set(low.sites.values())):
        _site(p, rules, low, site)
    p.label("templates")
    templates(p, rules, low)
    p.label("end")
    forms(p, rules, low)
    return p


def _site(p: Program, rules: RuleSet, low: LookupTables, site: str) -> None:
    """The exact rules of one site, by their first folder: a request skips those of other
    folders.
    """
    bundles: dict[str, list[Key]] = defaultdict(list)
    for key in sorted({*low.plain, *low.groups}):
        if key[0] == site:
            head, slash, _ = decoded(key[1])[1:].partition("/")
            bundles[head if slash else ""].append(key)
    after = f"site{site}"
    if len(set(low.sites.values())) > 1:
        p.rule((env("site"), f"!={site}"), goto=after)
    for n, (head, keys) in enumerate(sorted(bundles.items())):
        label = f"bundle{site}_{n}"
        if head and len(keys) >= _FEWEST:
            p.rule(
                ("%{REQUEST_URI}", f"!{_pattern(f'/{head}/', fold=rules.fold_case, whole=False)}"),
                goto=label,
            )
        for key in keys:
            _path(p, rules, low, key)
        p.label(label)
    p.label(after)


def _path(p: Program, rules: RuleSet, low: LookupTables, key: Key) -> None:
    """All rules of one path."""
    here = ("%{REQUEST_URI}", _pattern(decoded(key[1]), fold=rules.fold_case))
    group = low.groups.get(key)
    plain = low.plain.get(key)
    if group is None:
        if plain is not None:
            _answer(p, plain, [here])
        return
    number = {name: n for n, name in enumerate(low.names, 1)}
    after, bare = f"path{len(p.rules)}", f"bare{len(p.rules)}"
    p.rule((here[0], f"!{here[1]}"), goto=after)
    p.rule(("".join(env(f"d{number[n]}") for n in group.names), "^."), goto="end")
    p.rule(("".join(env(f"p{number[n]}") for n in group.names), "^$"), goto=bare)
    for rank, shape in enumerate(group.shapes):
        for (where, values), reply in low.ranked[rank].items():
            if where == key:
                asked = [
                    (env(f"p{number[n]}"), f"^={_escaped(v)}$")
                    for n, v in zip(shape, values, strict=True)
                ]
                _answer(p, reply, asked)
    p.rule(goto="templates" if key in low.falls_through else "end")
    p.label(bare)
    if plain is not None:
        _answer(p, plain, [])
    p.label(after)


def _answer(p: Program, reply: RuleReply, conditions: Sequence[tuple[str, str]]) -> None:
    """One answer, with and without what is carried of the query."""
    if reply.own:
        # Here the page lives: on its own host nothing is answered.
        p.rule(*conditions, (env("host"), f"^(?i:{_escaped(reply.own)})$"), goto="end")
    if reply.status == PASS:
        p.rule(*conditions, goto="end")
        return
    if reply.status == GONE:
        p.rule(*conditions, flags=["G"])
        return
    carried = {QueryPolicy.CARRY_TRACKING: env("t"), QueryPolicy.CARRY: "%{QUERY_STRING}"}.get(
        reply.query
    )
    body, args = literal(reply.body), literal(reply.args)
    mark = f"#{literal(reply.fragment)}" if reply.fragment else ""
    code = f"R={reply.status}"
    if carried:
        # The "?" has to be literal: one that a variable brings along is refused.
        p.rule(
            *conditions,
            (carried, "^."),
            to=f"{body}?{args}{'&' if args else ''}{carried}{mark}",
            flags=[code, "L", "NE"],
        )
    whole = f"{body}?{args}{mark}" if args else f"{body}{mark}"
    p.rule(*conditions, to=whole, flags=[code, "L", "NE", *([] if args else ["QSD"])])


def _pattern(text: str, *, fold: bool, whole: bool = True) -> str:
    """A decoded path as a regular expression."""
    escaped = _escaped(text)
    return (
        f"^(?i:{escaped})" + ("$" if whole else "")
        if fold
        else f"^{escaped}" + ("$" if whole else "")
    )


def _escaped(text: str) -> str:
    """A text as a regular expression of plain ASCII, without a blank, a quote or a backslash before
    one.
    """
    out = []
    for byte in text.encode("utf-8", "surrogateescape"):
        char = chr(byte)
        out.append(
            char
            if char.isascii() and (char.isalnum() or char in "/_-~,:;@=&!")
            else f"\\x{byte:02x}"
        )
    return "".join(out)


_AROUND = """DocumentRoot ..
<Directory />
AllowOverride All
Options FollowSymLinks
</Directory>"""


def _readme(rules: RuleSet) -> str:
    return readme(__package__, rules, "HTACCESS.md", rules_file=RULES_FILE, most=f"{MOST_RULES:,}")
