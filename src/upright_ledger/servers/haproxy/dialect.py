"""HAProxy: map files, looked up by a key that is made from host, decoded path and parameters.

Facts this relies on (measured on HAProxy 2.6): `path` is raw; `normalize-uri` changes the request
itself, so the path is put back afterwards; keys of a map end at the first blank, so paths are fully
percent-encoded in them; regexes of a map are tried in their order; single quotes keep a word of the
configuration as it is.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from functools import partial
from urllib.parse import quote_from_bytes

from upright_ledger.core.rules.exact_rule import GONE
from upright_ledger.core.rules.ruleset import RuleSet
from upright_ledger.core.rules.templates.template_index import PASS
from upright_ledger.core.url.query import TRACKED_VALUE
from upright_ledger.core.url.request_target import decoded_path
from upright_ledger.servers.haproxy.canonical_form import form_lines
from upright_ledger.servers.haproxy.syntax import PLACE, bare_host
from upright_ledger.servers.haproxy.templates import choices, percent, template_lines
from upright_ledger.servers.interpreters.haproxy import HaproxyInterpreter, read_map
from upright_ledger.servers.lookup_tables import (
    Key,
    LookupTables,
    filled,
    lower,
    remembered,
)
from upright_ledger.servers.protocol import Launch, Translation, differing_entries, differing_lines
from upright_ledger.servers.reading_back import differences_in_meaning
from upright_ledger.servers.reply_encoding import encoded, map_text, ranked, whole
from upright_ledger.servers.template_files import file_text, readme

RULES_FILE = "redirects.cfg"
EXAMPLE_FILE = "example/haproxy.cfg"

# The guard of the rule model, as the targets that pass it.
_GUARD = (
    r"^[!\x22$&->@-\[\]-~]*(?:\?[!\x22$-~]*)?$",
    # Written out, so that the matcher needs no step back in a long path.
    (
        r"^[!\x22$&->@-\[\]-~]*(?i:%(?!2f|5c|[01]|"
        r"7f)[0-9a-f][0-9a-f][!\x22$&->@-\[\]-~]*)*(?:\?[!\x22$-~]*)?$"
    ),
)


class Haproxy:
    """The HAProxy dialect: lines for a frontend, and map files."""

    name = "haproxy"
    rule_file = "plain.map"
    include_file = RULES_FILE
    most_rules, too_many = 0, ""
    launch = Launch(
        "haproxy",
        ("-db", "-f", f"{{folder}}/{EXAMPLE_FILE}"),
        "haproxy",
        EXAMPLE_FILE,
        node=(
            ("bind 127.0.0.1:8080", "bind 127.0.0.1:8080 ssl crt example/tls.pem"),
            (
                "  http-request return status 404",
                "  default_backend new_site\nbackend new_site\n  server site {authority}",
            ),
        ),
    )

    def write(self, rules: RuleSet) -> Translation:
        low = lower(rules)
        tables = {name: map_text(table) for name, table in _maps(rules, low).items()}
        lines = "\n".join(_lines(rules, low))
        written = tables | {
            RULES_FILE: _rule_file(rules, lines),
            EXAMPLE_FILE: _example(lines),
            "README.md": _readme(rules),
        }
        return Translation({n: t.encode() for n, t in written.items()}, rules, ())

    def read_back(self, files: Mapping[str, bytes], rules: RuleSet) -> list[str]:
        low = lower(rules)
        differences = []
        for name, wanted in _maps(rules, low).items():
            text = files[name].decode("latin-1")
            first_of_equals = dict(reversed(read_map(text)))
            differences += differing_entries(name, first_of_equals, wanted)
            differences = differences or differing_lines(name, text, map_text(wanted))
        wanted_lines = _rule_file(rules, "\n".join(_lines(rules, low)))
        differences += differing_lines(
            RULES_FILE, files[RULES_FILE].decode("latin-1"), wanted_lines
        )
        return differences or differences_in_meaning(partial(self.interpreter, files), rules)

    def interpreter(self, files: Mapping[str, bytes]) -> HaproxyInterpreter:
        texts = {name: data.decode("latin-1") for name, data in files.items()}
        return HaproxyInterpreter(texts[RULES_FILE], texts, PLACE)


DIALECT = Haproxy()


def _rule_file(rules: RuleSet, lines: str) -> str:
    head = [
        (
            f"# Upright Ledger: {len(rules.answering):,} redirect rules for HAProxy, digest "
            f"{rules.digest}"
        ),
        "# Put these lines into the frontend of the old hosts, before other http-request rules.",
    ]
    return "\n".join([*head, lines]) + "\n"


def _key(key: Key) -> str:
    """The site and the path's decoded bytes, all but unreserved ones percent-encoded, as `url_enc`
    gives them.
    """
    site, path = key
    if _UNRESERVED.match(path):
        return site + path.replace("/", "%2F")
    return site + quote_from_bytes(decoded_path(path), safe="~")


_UNRESERVED = re.compile(r"[A-Za-z0-9._~/-]*\Z")


@remembered
def _maps(rules: RuleSet, low: LookupTables) -> dict[str, dict[str, str]]:
    """The map files, key → value, in the order of their lines."""
    out: dict[str, dict[str, str]] = {
        "sites.map": low.sites,
        "plain.map": {_key(key): encoded(reply) for key, reply in low.plain.items()},
    }
    if low.groups:
        out["groups.map"] = {_key(key): f"g{group.number}" for key, group in low.groups.items()}
        out["params.map"] = {
            f"{_key(key)}?{tail}": encoded(reply) for _, key, tail, reply in ranked(low)
        }
        out["wild.map"] = {_key(key): "1" for key in sorted(low.falls_through)}
    if low.templates:
        out["templates.map"], out["choices.map"] = {}, {}
        for n, (site, group) in enumerate(low.templates, 1):
            regex = group.source.regex(fold=rules.fold_case, slash=group.rules[0].slash)
            if not group.names:
                out["templates.map"][f"^{site}{regex}$"] = whole(filled(group, 0, "\\{}".format))
                continue
            out["templates.map"][f"^{site}{regex}$"] = f"choice{n}"
            out["choices.map"] |= dict(choices(n, site, group, regex))
    return out


def _lines(rules: RuleSet, low: LookupTables) -> Iterator[str]:
    """The http-request rules of a frontend."""
    cut = bare_host(rules)
    site = "http-request set-var(txn.upright_site)"
    yield f"{site} 'req.hdr(host),map_str({PLACE}/sites.map)'"
    ours = "{ var(txn.upright_site) -m found }"
    yield f"{site} 'req.hdr(host),lower,{cut},map_str({PLACE}/sites.map)' if !{ours}"
    passes = " or ".join(f"{ours} {{ pathq -m reg '{g}' }}" for g in _GUARD)
    yield f"http-request set-var(txn.upright_path) path if {passes}"
    here = "{ var(txn.upright_path) -m found }"
    strange = [f"{here} {{ path -m sub {text} }}" for text in ("//", "/.", "/%2e", "/%2E")]
    yield f"http-request set-var(txn.upright_pathq) pathq if {' or '.join(strange)}"
    odd = "if { var(txn.upright_pathq) -m found }"
    # `percent-decode-unreserved` leaves escaped dots alone.
    yield f'http-request set-var(txn.upright_dots) \'path,regsub("%2[eE]",".",g)\' {odd}'
    yield f"http-request set-path %[var(txn.upright_dots)] {odd}"
    for step in ("path-merge-slashes", "path-strip-dot", "path-strip-dotdot full"):
        yield f"http-request normalize-uri {step} {odd}"
    fold = "lower," if rules.fold_case else ""
    yield (
        "http-request set-var-fmt(txn.upright_key) "
        f"'%[var(txn.upright_site)]%[path,url_dec,{fold}url_enc]' if {here}"
    )
    yield f"http-request set-pathq %[var(txn.upright_pathq)] {odd}"
    plain = f"http-request set-var(txn.upright_r) 'var(txn.upright_key),map_str({PLACE}/plain.map)'"
    if low.names:
        yield from _param_lines(low)
    if low.groups:
        yield from _group_lines(low)
        plain += " if !{ var(txn.upright_seen) -m found } !{ var(txn.upright_stop) -m found }"
    yield plain
    # What is found most is answered at once; with a query it takes the long way.
    plainly = "{ var(txn.upright_r) -m beg http }"
    yield (
        f"http-request redirect code 301 location %[var(txn.upright_r)] if {plainly} !{{ query -m "
        f"len gt 0 }}"
    )
    yield f"http-request set-var-fmt(txn.upright_r) '301t||%[var(txn.upright_r)]||' if {plainly}"
    if low.templates:
        yield from template_lines(low)
    yield from _answer_lines(rules, low)
    yield from form_lines(rules, low)
    yield from _cache_lines(rules)


def _param_lines(low: LookupTables) -> Iterator[str]:
    """Each parameter that matters anywhere: "=" and its first value, where it is given."""
    for n, name in enumerate(low.names, 1):
        word = _word(name)
        # `url_param` ends a value at ";" and "?", which stand for themselves in one.
        first = f'query,regsub("^(?:.*?&)??{word}(?:=([^&]*))?(?:&.*)?$","\\1")'
        yield (
            f"http-request set-var-fmt(txn.upright_p{n}) '=%[{first}]' if {{ query -m reg "
            f"'(?:^|&){word}(?:=|&|$)' }}"
        )
        yield (
            f"http-request set-var(txn.upright_d{n}) bool(true) if {{ query -m reg "
            f"'{_twice(name)}' }}"
        )


def _word(name: str) -> str:
    """A name in a regular expression, without a sign that means something to the configuration."""
    return "".join(
        c
        if c.isascii() and (c.isalnum() or c in "_-")
        else "".join(f"\\x{b:02x}" for b in c.encode())
        for c in name
    )


def _twice(name: str) -> str:
    word = _word(name)
    return f"(?:^|&){word}(?:=[^&]*)?&(?:.*&)?{word}(?:=|&|$)"


def _group_lines(low: LookupTables) -> Iterator[str]:
    """Paths where parameters choose the page: the rules with the most parameters are asked
    first.
    """
    number = {name: n for n, name in enumerate(low.names, 1)}
    yield (
        "http-request set-var(txn.upright_group) "
        f"'var(txn.upright_key),map_str({PLACE}/groups.map)'"
    )
    for group in low.param_groups:
        mine = f"{{ var(txn.upright_group) -m str g{group.number} }}"
        for name in group.names:
            yield (
                f"http-request set-var(txn.upright_stop) bool(true) if {mine} {{ "
                f"var(txn.upright_d{number[name]}) -m found }}"
            )
            yield (
                f"http-request set-var(txn.upright_seen) bool(true) if {mine} {{ "
                f"var(txn.upright_p{number[name]}) -m found }}"
            )
        for shape in group.shapes:
            tail = "".join(f"&{number[name]}%[var(txn.upright_p{number[name]})]" for name in shape)
            free = "!{ var(txn.upright_r) -m found } !{ var(txn.upright_stop) -m found }"
            given = " ".join(f"{{ var(txn.upright_p{number[name]}) -m found }}" for name in shape)
            yield (
                f"http-request set-var-fmt(txn.upright_tail) '%[var(txn.upright_key)]?{tail}' if "
                f"{mine} {free} {given}"
            )
            yield (
                "http-request set-var(txn.upright_r) "
                f"'var(txn.upright_tail),map_str({PLACE}/params.map)' if {mine} {free} {given}"
            )
    yield f"http-request set-var(txn.upright_wild) 'var(txn.upright_key),map_str({PLACE}/wild.map)'"
    yield (
        "http-request set-var(txn.upright_stop) bool(true) if { var(txn.upright_seen) -m found }"
        " !{ var(txn.upright_r) -m found } !{ var(txn.upright_wild) -m found }"
    )


def _cache_lines(rules: RuleSet) -> Iterator[str]:
    """A header that goes with our answers alone."""
    for variable in ("r", *(["off"] if rules.forms else [])) if rules.cache_control else ():
        ours = f"{{ var(txn.upright_{variable}) -m found }} {{ status 301 302 307 308 410 }}"
        yield f"http-after-response set-header Cache-Control '{rules.cache_control}' if {ours}"


def _answer_lines(rules: RuleSet, low: LookupTables) -> Iterator[str]:
    """From a reply to the response."""
    found = "{ var(txn.upright_r) -m found }"
    part = "http-request set-var(txn.upright_{}) 'var(txn.upright_r),field({},|)'"
    yield part.format("own", 2)
    owned = f"{found} {{ var(txn.upright_own) -m len gt 0 }}"
    cut = bare_host(rules)
    yield f"http-request set-var(txn.upright_host) 'req.hdr(host),lower,{cut}' if {owned}"
    yield (
        f"http-request unset-var(txn.upright_r) if {owned} {{ "
        f"var(txn.upright_own),strcmp(txn.upright_host) eq 0 }}"
    )
    if GONE in low.statuses():
        yield "http-request deny deny_status 410 if { var(txn.upright_r) -m beg 410 }"
    yield part.format("to", 3)
    yield part.format("args", 4)
    yield "http-request set-var(txn.upright_mode) 'var(txn.upright_r),bytes(3,1)'"
    asked = "{ query -m len gt 0 }"
    yield (
        f"http-request set-var(txn.upright_q) query if {asked} {{ var(txn.upright_mode) -m str t }}"
    )
    yield (
        "http-request set-var-fmt(txn.upright_args) '%[var(txn.upright_args)]&%[query]' if "
        f"{asked} {{ var(txn.upright_mode) -m str c }}"
    )
    value = TRACKED_VALUE.replace("'", r"\x27").replace(
        ")*", ")*+"
    )  # its matcher keeps a step back for each escape otherwise
    for name in rules.tracking:
        word = _word(name)
        first = f'query,regsub("^(?:.*?&)??{word}=({value})(?:&.*)?$","\\1")'
        yield (
            "http-request set-var-fmt(txn.upright_args) "
            f"'%[var(txn.upright_args)]&{percent(name)}=%[{first}]'"
            f" if {{ var(txn.upright_q) -m reg '(?:^|&){word}={value}(?:&|$)' }}"
        )
    some = "{ var(txn.upright_args) -m len gt 0 }"
    yield (
        'http-request set-var(txn.upright_args) \'var(txn.upright_args),regsub("^&","")\' if '
        f"{some}"
    )
    yield (
        "http-request set-var-fmt(txn.upright_to) "
        f"'%[var(txn.upright_to)]?%[var(txn.upright_args)]' if {some}"
    )
    yield part.format("mark", 5)
    yield (
        "http-request set-var-fmt(txn.upright_to) '%[var(txn.upright_to)]#%[var(txn.upright_mark)]'"
        " if { var(txn.upright_mark) -m len gt 0 }"
    )
    for code in low.statuses():
        if code not in {GONE, PASS}:
            yield (
                f"http-request redirect code {code} location %[var(txn.upright_to)] if {{ "
                f"var(txn.upright_r) -m beg {code} }}"
            )


def _example(lines: str) -> str:
    inside = lines.replace(f"{PLACE}/", "").replace("\n", "\n  ")
    return file_text(__package__, "haproxy.cfg", inside=inside)


def _readme(rules: RuleSet) -> str:
    return readme(__package__, rules, place=PLACE, rules_file=RULES_FILE)
