"""nginx: one hash lookup a request, in maps that are included once, and a few lines a server block.

Facts this relies on (measured on nginx 1.22): `$uri` is decoded, merged and dot-resolved; `map`
compares strings without regard to ASCII case and prefers them to regexes; map variables are
computed only when asked for; `$1` does not survive another regex, named captures do.
"""

from __future__ import annotations

import re
from collections.abc import Mapping
from functools import cached_property, partial

from upright_ledger.core.rules.compiler import ExcludedRule, Exclusion
from upright_ledger.core.rules.exact_rule import GONE, ExactRule, Rule
from upright_ledger.core.rules.ruleset import RuleSet
from upright_ledger.core.rules.templates.template_index import PASS, TemplateRule
from upright_ledger.core.url.query import TRACKED_VALUE, QueryPolicy
from upright_ledger.servers.interpreters.nginx import NginxInterpreter
from upright_ledger.servers.lookup_tables import host_of_own_page, remembered, stays_on_its_site
from upright_ledger.servers.nginx.canonical_form import form_tables
from upright_ledger.servers.nginx.parameters import CASED, ParamTables, cased
from upright_ledger.servers.nginx.server_block import server_file, special_variable
from upright_ledger.servers.nginx.syntax import host_keys, quoted, read_map_tables
from upright_ledger.servers.nginx.templates import SOURCES, template_tables
from upright_ledger.servers.protocol import (
    NO_LOWER_CASE,
    Launch,
    Translation,
    decoded,
    differing_entries,
    differing_lines,
    expressible,
    without_lower_case,
)
from upright_ledger.servers.reading_back import differences_in_meaning
from upright_ledger.servers.template_files import file_text, readme

RULE_FILE = "redirects.conf"
SERVER_FILE = "server.inc"
EXAMPLE_FILE = "example/nginx.conf"
MAX_TOKEN = 4000  # nginx refuses tokens of 4096 bytes and more

# The guard of the rule model (upright_ledger.core.url.address.guard), as the targets that pass it:
# nearly all pass the first pattern, which runs over the target once; the second admits well-formed
# harmless escapes.
_GUARD = (
    r"~^[!\x22$&->@-\[\]-~]*+(?:\?[!\x22$-~]*+)?$",
    r"~*^(?:[!\x22$&->@-\[\]-~]++|%(?!2f|5c|[01]|7f)[0-9a-f][0-9a-f])*+(?:\?[!\x22$-~]*+)?$",
)
_TRACKED_AT_ONCE = 6  # how many carried parameters share one look at the query


class Nginx:
    """The nginx dialect: `redirects.conf` for the http block, `server.inc` for server blocks."""

    name = "nginx"
    rule_file = RULE_FILE
    include_file = SERVER_FILE
    most_rules, too_many = 0, ""
    launch = Launch(
        "nginx",
        ("-p", "{folder}/example", "-e", "{folder}/error.log", "-c", "nginx.conf"),
        "nginx-light",
        EXAMPLE_FILE,
        node=(
            (
                "listen 127.0.0.1:8080;",
                "listen 127.0.0.1:8080 ssl; ssl_certificate tls.pem; ssl_certificate_key tls.pem;",
            ),
            (
                "        return 404;",
                "        location / {{ proxy_pass {site}; proxy_set_header Host $host; }}",
            ),
        ),
    )

    def write(self, rules: RuleSet) -> Translation:
        held, refused = expressible(rules, _too_long)
        refused += [
            ExcludedRule(f.legacy_url, Exclusion.REFUSED, NO_LOWER_CASE)
            for f in rules.forms
            if f.lower
        ]
        held = without_lower_case(held)
        text = _writer(held).text
        files = {
            RULE_FILE: text.encode("utf-8", "surrogateescape"),
            SERVER_FILE: server_file(held).encode(),
            EXAMPLE_FILE: _example_file(held).encode(),
            "README.md": _readme(held).encode(),
        }
        return Translation(files, held, tuple(refused))

    def read_back(self, files: Mapping[str, bytes], rules: RuleSet) -> list[str]:
        writer = _writer(rules)
        wanted = writer.tables
        text = files[RULE_FILE].decode("utf-8", "surrogateescape")
        found = read_map_tables(text)
        differences = []
        for name in sorted(set(wanted) | set(found)):
            differences += differing_entries(name, found.get(name, {}), wanted.get(name, {}))
        differences = differences or differing_lines(RULE_FILE, text, writer.text)
        differences += differing_lines(SERVER_FILE, files[SERVER_FILE].decode(), server_file(rules))
        return differences or differences_in_meaning(partial(self.interpreter, files), rules)

    def interpreter(self, files: Mapping[str, bytes]) -> NginxInterpreter:
        return NginxInterpreter(
            files[RULE_FILE].decode("latin-1"), files[SERVER_FILE].decode("latin-1")
        )


DIALECT = Nginx()


def _too_long(rule: Rule) -> str:
    """Why nginx cannot take a rule, or an empty string."""
    if isinstance(rule, TemplateRule):
        longest = len(rule.source.regex(fold=True)) + sum(
            len(c.regex()) + len(c.name) for c in rule.source.params
        )
    else:
        longest = max(map(len, rule.paths))
        if rule.params:
            longest += sum(len(n) + 3 * len(v) + 2 for n, v in rule.params)
    return (
        "nginx takes no words of 4,096 bytes or more"
        if longest + len(rule.destination) > MAX_TOKEN
        else ""
    )


class _Writer:
    """Turns one rule set into named map tables, and these into text."""

    def __init__(self, rules: RuleSet) -> None:
        self.rules = rules
        self.sites = {name: str(n) for n, name in enumerate(sorted(set(rules.site_of.values())), 1)}
        self.sources: dict[str, str] = {}  # what the tables of templates are looked up by
        self.guards: dict[tuple[int, str], str] = {}
        self.special = special_variable(rules)

    @cached_property
    def tables(self) -> dict[str, dict[str, str]]:
        """Variable name → map entries (key → value), `default` among the keys. Order is the file's
        order.

        upright_common holds the Location of plain rules: 301, no parameters, nothing special, so
        that most hits need no regex. All others are in upright_special, as status, mark and
        Location.
        """
        common: dict[str, str] = {"default": ""}
        special: dict[str, str] = {"default": ""}
        params = ParamTables(self.rules.fold_case)
        last, value = None, ""  # paths come rule by rule
        for site, path, group in self.rules.paths():
            key = self.sites[site] + decoded(path)
            if group.plain is not None:
                if group.plain is not last:
                    value = self._value(group.plain, path)
                    last = None if stays_on_its_site(self.rules, group.plain) else group.plain
                if not group.names and value.startswith("301:"):
                    common[key] = value.removeprefix("301:")
                else:
                    special[key] = value
            if group.names:
                params.add(key, group, partial(self._value, path=path))
        out: dict[str, dict[str, str]] = {"upright_site": self._site_table()}
        for (status, host), n in self.guards.items():
            named = host_keys(host, ports=self.rules.ports_matter)
            out[f"upright_{status}_off_{n}"] = {"default": f"{status}:", **dict.fromkeys(named, "")}
        out |= self._tail_tables()
        out["upright_blocked"] = {"default": "x", **dict.fromkeys(_GUARD, "")}
        fold = self.rules.fold_case
        out |= (
            cased("common", common, fold=fold)
            | cased("special", special, fold=fold)
            | params.tables()
        )
        if self.rules.templates:
            by_params = bool(params.groups)
            more, sources = template_tables(
                self.rules, self.sites, self._template_value, by_params=by_params
            )
            out |= more
            self.sources = sources
        if self.rules.forms:
            more, sources = form_tables(self.rules)
            out |= more
            self.sources |= sources
        if self.rules.cache_control:
            out["upright_cache"] = {
                "default": "",
                r"~^(?:301|302|307|308|410)\|.": self.rules.cache_control,
            }
        return out

    def _site_table(self) -> dict[str, str]:
        return {
            "default": "",
            **{
                host: self.sites[site]
                for authority, site in sorted(self.rules.site_of.items())
                for host in host_keys(authority, ports=self.rules.ports_matter)
            },
        }

    def _value(self, rule: ExactRule, path: str) -> str:
        """What the lookup of one path gives: a status and how Location is made, or the bare page
        that stays.
        """
        if rule.status in {GONE, PASS}:
            return f"{rule.status}:"
        head, text = self._composed(rule, rule.destination)
        code = f"{rule.status}{head}"
        if host := host_of_own_page(self.rules, rule, path):
            # Here the page lives: on its own host the lookup must give no status.
            n = self.guards.setdefault((rule.status, host), str(len(self.guards) + 1))
            code = f"${{upright_{rule.status}_off_{n}}}{'=' if head == '=' else ''}"
        return f"{code}{text}"

    def _template_value(self, rule: TemplateRule, destination: str) -> str:
        if rule.status in {GONE, PASS}:
            return f"{rule.status}:"
        head, text = self._composed(rule, destination)
        return f"{rule.status}{head}{text}"

    def _composed(self, rule: Rule, destination: str) -> tuple[str, str]:
        """A destination with what is carried of the query: ":" and the text where the server block
        puts it on, else "=".
        """
        body, mark, fragment = destination.partition("#")
        if rule.query == QueryPolicy.CARRY_TRACKING and not mark and "?" not in body:
            head, tail = ":", ""
        elif rule.query == QueryPolicy.CARRY_TRACKING:
            head, tail = "=", "${upright_and}" if "?" in body else "${upright_ask}"
        elif rule.query == QueryPolicy.CARRY:
            head, tail = "=", "${upright_all_and}" if "?" in body else "${upright_all_ask}"
        else:
            head, tail = "=", ""
        return head, f"{body}{tail}{mark}{fragment}"

    def _tail_tables(self) -> dict[str, dict[str, str]]:
        """What a rule carries of the query: campaign parameters in fixed order, or all of it."""
        out: dict[str, dict[str, str]] = {}
        for n, name in enumerate(self.rules.tracking, 1):
            pattern = f"~(?:^|&){re.escape(name)}=(?<upright_c>{TRACKED_VALUE})(?:&|$)"
            out[f"upright_t{n}"] = {"default": "", pattern: f"&{name}=$upright_c"}
        parts = []
        for at in range(0, len(self.rules.tracking), _TRACKED_AT_ONCE):
            names = self.rules.tracking[at : at + _TRACKED_AT_ONCE]
            words = "|".join(re.escape(n) for n in names)
            part = f"upright_carried_{at // _TRACKED_AT_ONCE + 1}"
            out[part] = {
                "": "",
                "default": "",
                f"~(?:^|&)(?:{words})=": "".join(
                    f"${{upright_t{at + n}}}" for n in range(1, len(names) + 1)
                ),
            }
            parts.append(f"${{{part}}}")
        out["upright_and"] = {"": "", "default": "".join(parts)}
        out["upright_ask_some"] = {"default": "", "~^&(?<upright_rest>.+)$": "?$upright_rest"}
        out["upright_ask"] = {"": "", "default": "$upright_ask_some"}
        if any(rule.query == QueryPolicy.CARRY for rule in self.rules.answering):
            out["upright_all_and"] = {"": "", "default": "&$args"}
            out["upright_all_ask"] = {"": "", "default": "?$args"}
        return out

    @cached_property
    def text(self) -> str:
        """The file that holds the tables."""
        tables = self.tables
        longest = max(
            (len(k.encode("utf-8", "surrogateescape")) for t in tables.values() for k in t),
            default=0,
        )
        largest = max(len(t) for t in tables.values())
        lines = [
            (
                f"# Upright Ledger: {len(self.rules.answering):,} redirect rules for nginx, digest "
                f"{self.rules.digest}"
            ),
            (
                "# Include this file once in the http block, and server.inc in each server block "
                "of an old host."
            ),
            f"map_hash_bucket_size {max(128, _power_of_two(longest + 32))};",
            f"map_hash_max_size {max(2048, _power_of_two(2 * largest))};",
        ]
        if any("${upright_dollar}" in "\n".join(table.values()) for table in tables.values()):
            lines.append('geo $upright_dollar { default "$"; }')
        for name, table in tables.items():
            lines.append(f"map {self._source(name)} ${name} {{")
            keys = quoted([*table])
            if "default" in table:
                keys[[*table].index("default")] = "default"
            lines += [*map("{} {};".format, keys, quoted([*table.values()]))]
            lines.append("}")
        return "\n".join(lines) + "\n"

    def _source(self, name: str) -> str:
        """What a table is looked up by."""
        host = "$http_host" if self.rules.ports_matter else "$host"
        open_rules = "$upright_open" if self.rules.templates else ""
        form = "$upright_form" if self.rules.forms else ""
        # A blocked target gets a key that no rule has.
        key = '"$upright_blocked$upright_site$uri"'
        fixed = {
            "upright_site": host,
            "upright_cache": f'"$status|$upright_common{self.special}{open_rules}{form}"',
            "upright_blocked": "$request_uri",
            "upright_ask_some": "$upright_and",
            "upright_seen": '"$upright_group&$args"',
            "upright_twice": '"$upright_group&$args"',
            "upright_single": "$upright_twice",
            "upright_by_params": "$upright_seen",
        }
        fixed |= SOURCES | self.sources
        if name in fixed:
            return fixed[name]
        if "_off_" in name:
            return host
        if name in CASED:
            return key if self.rules.fold_case else f'"$upright_site$uri\\t${name}_any"'
        if name.removesuffix("_any") in CASED:
            return key
        kind, _, rank = name.rpartition("_")
        if kind == "upright_any":
            return f'"$upright_group$upright_site$uri$upright_tail_{rank}"'
        if kind == "upright_tail":
            return "$upright_group"
        if kind == "upright_params":
            proof = "" if self.rules.fold_case else "$upright_site$uri"
            return f'"{proof}$upright_tail_{rank}\\t$upright_any_{rank}"'
        return "$args"


def _power_of_two(least: int) -> int:
    return 1 << max(0, least - 1).bit_length()


def _example_file(rules: RuleSet) -> str:
    hosts = " ".join(sorted({a.partition(":")[0] for a in rules.site_of})) or "_"
    return file_text(
        __package__, "nginx.conf", rules_file=RULE_FILE, hosts=hosts, server_file=SERVER_FILE
    )


def _readme(rules: RuleSet) -> str:
    return readme(__package__, rules, rules_file=RULE_FILE, server_file=SERVER_FILE)


_writer = remembered(_Writer)
