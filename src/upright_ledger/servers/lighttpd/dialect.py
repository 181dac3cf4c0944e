"""lighttpd: the rules as Lua tables, looked up by mod_magnet before anything else is done with a
request.

Facts this relies on (measured on lighttpd 1.4.69): a module that is required is loaded once a
process; the script sees the target as it was sent in "request.orig-uri"; control bytes in a
Location would end the header, so destinations hold none.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Mapping

from upright_ledger.core.rules.canonical_form import CONNECTION
from upright_ledger.core.rules.ruleset import RuleSet
from upright_ledger.core.rules.templates.template_index import TemplateGroup, first_segment
from upright_ledger.core.rules.templates.template_syntax import Capture, CaptureKind
from upright_ledger.servers.interpreters import NotUnderstoodError, in_bytes
from upright_ledger.servers.interpreters.lighttpd import LighttpdInterpreter
from upright_ledger.servers.interpreters.lua_data import read_module
from upright_ledger.servers.lookup_tables import (
    Key,
    LookupTables,
    filled,
    lower,
    remembered,
)
from upright_ledger.servers.protocol import (
    Launch,
    Translation,
    decoded,
    differing_entries,
    differing_lines,
)
from upright_ledger.servers.reading_back import differences_in_meaning
from upright_ledger.servers.reply_encoding import encoded, ranked
from upright_ledger.servers.template_files import file_text, readme

RULES_FILE = "upright_rules.lua"
LOGIC_FILE = "upright_redirects.lua"
ATTRACT_FILE = "redirects.lua"
SERVER_FILE = "redirects.conf"
EXAMPLE_FILE = "example/lighttpd.conf"
_AT_ONCE = 5000  # assignments in one Lua function: it may not hold too many constants


class Lighttpd:
    """The lighttpd dialect."""

    name = "lighttpd"
    rule_file = RULES_FILE
    include_file = SERVER_FILE
    most_rules, too_many = 0, ""
    launch = Launch(
        "lighttpd",
        ("-D", "-f", f"{{folder}}/{EXAMPLE_FILE}"),
        "lighttpd lighttpd-modules-lua",
        EXAMPLE_FILE,
    )

    def write(self, rules: RuleSet) -> Translation:
        low = lower(rules)
        written = {
            RULES_FILE: _data_text(rules, low),
            LOGIC_FILE: _logic(),
            ATTRACT_FILE: file_text(__package__, "attract.lua"),
            SERVER_FILE: _server_file(rules),
            EXAMPLE_FILE: _example_file(),
            "example/htdocs/.keep": "",
            "README.md": _readme(rules),
        }
        return Translation(
            {n: t.encode("utf-8", "surrogateescape") for n, t in written.items()}, rules, ()
        )

    def read_back(self, files: Mapping[str, bytes], rules: RuleSet) -> list[str]:
        low = lower(rules)
        logic = {LOGIC_FILE: _logic(), ATTRACT_FILE: file_text(__package__, "attract.lua")}
        differences = [
            f"{name} is not the one that is shipped"
            for name, t in logic.items()
            if files[name].decode() != t
        ]
        differences += differing_lines(
            RULES_FILE, files[RULES_FILE].decode(), _data_text(rules, low)
        )
        try:
            read = read_module(files[RULES_FILE].decode("latin-1"))
        except NotUnderstoodError as error:
            return [f"{RULES_FILE}: {error}"]
        tables = {"plain": read.get("plain", {})} | {
            f"r{n}": t for n, t in read.get("ranked", {}).items()
        }
        wanted: dict[str, dict[str, str]] = {}
        for (name, key), value in _entries(low):
            wanted.setdefault(name, {})[in_bytes(key)] = value
        for name in sorted(tables.keys() | wanted.keys()):
            differences += differing_entries(name, tables.get(name, {}), wanted.get(name, {}))
        return differences or differences_in_meaning(lambda: LighttpdInterpreter(read), rules)

    def interpreter(self, files: Mapping[str, bytes]) -> LighttpdInterpreter:
        return LighttpdInterpreter(read_module(files[RULES_FILE].decode("latin-1")))


def _logic() -> str:
    return file_text(__package__, "redirects.lua")


DIALECT = Lighttpd()

_PLAIN_STRING = re.compile(r"[ !#-\[\]-~]*")


def quote(text: str) -> str:
    """A text as a Lua string: bytes that are not plain ASCII by their number."""
    if _PLAIN_STRING.fullmatch(text):
        return f'"{text}"'
    raw = text.encode("utf-8", "surrogateescape")
    return (
        '"'
        + "".join(chr(b) if 32 <= b < 127 and b not in b'"\\' else f"\\{b:03d}" for b in raw)
        + '"'
    )


def _key(key: Key) -> str:
    return key[0] + decoded(key[1])


def _entries(low: LookupTables) -> Iterator[tuple[tuple[str, str], str]]:
    """(Table, key) and value of every lookup."""
    for key, reply in low.plain.items():
        yield ("plain", _key(key)), encoded(reply)
    for rank, key, tail, reply in ranked(low, named=True):
        yield (f"r{rank}", f"{_key(key)}?{tail}"), encoded(reply)


@remembered
def _data_text(rules: RuleSet, low: LookupTables) -> str:
    return "\n".join(_data(rules, low)) + "\n"


def _data(rules: RuleSet, low: LookupTables) -> Iterator[str]:
    yield (
        f"-- Upright Ledger: {len(rules.answering):,} redirect rules for lighttpd, digest "
        f"{rules.digest}"
    )
    yield "local M = {}"
    yield f"M.cache = {quote(rules.cache_control)}"
    yield f"M.fold = {'true' if rules.fold_case else 'false'}"
    yield f"M.ports = {'true' if rules.ports_matter else 'false'}"
    yield f"M.sites = {_map(low.sites)}"
    yield "M.tracking = {" + ", ".join(map(quote, rules.tracking)) + "}"
    yield f"M.tracked = {_set(rules.tracking)}"
    yield from _forms(rules, low)
    yield "local plain = {}"
    yield "local groups = {}"
    yield "local wild = {}"
    names = [f"r{n}" for n in range(1, len(low.ranked) + 1)]
    for name in names:
        yield f"local {name} = {{}}"
    for group in low.param_groups:
        shapes = ", ".join("{" + ", ".join(map(quote, shape)) + "}" for shape in group.shapes)
        yield f"local g{group.number} = {{names = {_set(group.names)}, shapes = {{{shapes}}}}}"
    yield from _chunks(
        f"{table}[{quote(key)}]={quote(value)}" for (table, key), value in _entries(low)
    )
    yield from _chunks(
        f"groups[{quote(_key(key))}]=g{group.number}" for key, group in low.groups.items()
    )
    yield from _chunks(f"wild[{quote(_key(key))}]=true" for key in sorted(low.falls_through))
    yield "M.plain = plain"
    yield "M.groups = groups"
    yield "M.wild = wild"
    yield f"M.ranked = {{{', '.join(names)}}}"
    yield "M.templates = {"
    for number in sorted({site for site, _ in low.templates}):
        yield f"  [{quote(number)}] = {{"
        for site, template in low.templates:
            if site == number:
                yield "  {" + ", ".join(_template(rules, template)) + "},"
        yield "  },"
    yield "}"
    yield "return M"


def _forms(rules: RuleSet, low: LookupTables) -> Iterator[str]:
    """What is done with requests that no rule answers, by the number of their site."""
    yield "M.forms = {}"
    for form in rules.forms:
        number = low.numbers[form.site]
        told = {"origin": form.origin, "host": form.authority, "slash": form.slash}
        if form.scheme_from:
            told["wrong"] = form.wrong_scheme
        parts = [f"{name} = {quote(text)}" for name, text in told.items()]
        yield (
            f"M.forms[{quote(number)}] = {{{', '.join(parts)}, lower = "
            f"{'true' if form.lower else 'false'}}}"
        )
    header = next((f.scheme_from for f in rules.forms if f.scheme_from not in {"", CONNECTION}), "")
    if header:
        yield f"M.scheme_from = {quote(header)}"


def _template(rules: RuleSet, group: TemplateGroup) -> Iterator[str]:
    source, slash = group.source, group.rules[0].slash
    pattern = "".join(
        _class(p) if isinstance(p, Capture) else _literal(p.lower() if rules.fold_case else p)
        for p in source.parts
    )
    end = {"any": "/?" if source.takes_slash else "", "bare": "", "slashed": "/"}[slash]
    yield f"pattern = {quote(f'^{pattern}{end}$')}"
    yield (
        "captures = "
        f"{{{', '.join(_capture(c, exact=False, fold=rules.fold_case) for c in source.captures)}}}"
    )
    yield f"head = {quote(first_segment(source))}"
    yield f"names = {_set(sorted(group.names))}"
    yield f"wild = {'true' if group.literal_paths else 'false'}"
    told = []
    for n, rule in enumerate(group.rules):
        params = ", ".join(_capture(c, exact=True, fold=False) for c in rule.source.params)
        told.append(
            f"{{reply = {quote(encoded(filled(group, n, '{{{}}}'.format)))}, params = "
            f"{{{params}}}}}"
        )
    yield f"rules = {{{', '.join(told)}}}"


def _class(capture: Capture) -> str:
    slash = "/" if capture.kind == CaptureKind.REST else ""
    inside = {"digits": "0-9", "word": "A-Za-z0-9"}.get(capture.kind, f"A-Za-z0-9._~{slash}%-")
    if capture.wide:
        inside = "!-~" if slash else "!-.0-~"
    return f"()[{inside}]+()"


def _capture(capture: Capture, *, exact: bool, fold: bool) -> str:
    parts = [
        f"name = {quote(capture.name)}",
        f"pattern = {quote('^' + _class(capture).replace('()', '') + '$')}",
    ]
    if capture.kind == CaptureKind.REST:
        parts.append("rest = true")
    if capture.wide:
        parts.append("wide = true")
    if capture.kind == CaptureKind.LIST:
        parts.append(
            f"list = {_set(v.lower() if fold and not exact else v for v in capture.values)}"
        )
    if exact:
        parts.append("exact = true")
    return "{" + ", ".join(parts) + "}"


def _literal(text: str) -> str:
    """A text that stands for itself in a Lua pattern."""
    return re.sub(r"([^A-Za-z0-9_/~,;:@=!&' ])", r"%\1", text)


def _set(names: Iterable[str]) -> str:
    return _map(dict.fromkeys(names, ""), "true")


def _map(table: Mapping[str, str], value: str = "") -> str:
    return "{" + ", ".join(f"[{quote(k)}] = {value or quote(v)}" for k, v in table.items()) + "}"


def _chunks(lines: Iterable[str]) -> Iterator[str]:
    """Assignments in functions of a few thousand each."""
    count = 0
    for line in lines:
        if count % _AT_ONCE == 0:
            if count:
                yield "end)()"
            yield ";(function()"
        yield line
        count += 1
    if count:
        yield "end)()"


def _server_file(rules: RuleSet) -> str:
    return file_text(
        __package__,
        "server.conf",
        count=f"{len(rules.answering):,}",
        digest=rules.digest,
        attract_file=ATTRACT_FILE,
    )


def _example_file() -> str:
    return file_text(__package__, "lighttpd.conf", attract_file=ATTRACT_FILE)


def _readme(rules: RuleSet) -> str:
    return readme(
        __package__,
        rules,
        server_file=SERVER_FILE,
        rules_file=RULES_FILE,
        logic_file=LOGIC_FILE,
        attract_file=ATTRACT_FILE,
    )
