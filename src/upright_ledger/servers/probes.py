"""Requests that try a rule set: each kind of rule, template and form, spelled as clients and
attackers spell them.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Iterator, Mapping, Sequence
from itertools import islice, product
from typing import NamedTuple, TypeVar

from upright_ledger.core.rules.exact_rule import ExactRule
from upright_ledger.core.rules.ruleset import RuleSet
from upright_ledger.core.rules.templates.template_index import TemplateGroup, TemplateRule
from upright_ledger.core.rules.templates.template_syntax import Capture, CaptureKind
from upright_ledger.core.url.request_target import toggle_slash

T = TypeVar("T")
MOST_EXACT, MOST_TEMPLATES = 150, 150
_MOST_PATHS = 8  # of a rule
_OF_A_KIND = 2
_THOROUGH = (
    10  # so many rules, and templates, are tried in every way; those of each kind come first
)
_SAFE = "0123456789ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz"
_PRINTED = "".join(map(chr, range(0x21, 0x7F)))
_HARMLESS_PATH = (
    "".join(c for c in _PRINTED if c not in "#%?\\/") + "%23%25%41%6e%7e%80%9F%aB%Cd%eF"
)
_HARMLESS_QUERY = _PRINTED.replace("#", "").replace("&", "")
_CARRIED = "a-b.c_d~!$'()*+,;=:@/?%01%23%45%67%89%AB%CD%EF%ab%cd%ef" + _SAFE
_HARMFUL = ("%2f", "%5C", "%00", "%1f", "%7F", "\\", "%zz", "%", "\x01", " ", "é")
_SCHEMES = ("http", "https", "")
_FORM_PATHS = (
    "/zz", "/zz/", "/zz//", "/zz.html", "/zz.html/", "/Zz/Yy", "/ZZ.HTML", "/a%20b", "/A%2eb",
    "/zz/./y", "/robots.txt", "/favicon.ico",
    "/.well-known/acme", '/q"uote', "/",
)  # fmt: skip


class Probe(NamedTuple):
    """A request. scheme: empty where it is not told."""

    host: str
    target: str
    scheme: str = ""


def probes(rules: RuleSet) -> list[Probe]:
    """The requests, each once."""
    hosts: dict[str, list[str]] = defaultdict(list)
    for authority, site in sorted(rules.site_of.items()):
        hosts[site].append(authority)
    found: dict[Probe, None] = {}
    chosen = _chosen(rules.rules)
    names_at = _names_at(rules, chosen[:_THOROUGH])
    for n, rule in enumerate(chosen):
        own = hosts[rule.site]
        if n >= _THOROUGH:
            found |= dict.fromkeys(
                Probe(own[n % len(own)], target) for target in _usual_targets_of(rule)
            )
            continue
        found |= dict.fromkeys(
            Probe(own[n % len(own)], t) for t in _targets_of(rule, rules, names_at)
        )
        found |= dict.fromkeys(
            Probe(host, path) for host in (*own, *_odd_hosts(own)) for path in rule.paths[:3]
        )
    groups = [g for g in rules.template_index if hosts.get(g.site)]
    for n, group in enumerate(_spread(groups, MOST_TEMPLATES)):
        own = hosts[group.site]
        host = own[n % len(own)]
        usual = next(_targets_of_template(group, rules, thorough=False))
        found |= dict.fromkeys(Probe(each, usual) for each in (*own, *_odd_hosts(own)))
        found |= dict.fromkeys(
            Probe(host, t) for t in _targets_of_template(group, rules, thorough=n < _THOROUGH)
        )
    for form in rules.forms:
        known = [form.authority, *(a for a in hosts[form.site] if a != form.authority)]
        for host, path, scheme in product(known[:3], _FORM_PATHS, _SCHEMES):
            found[Probe(host, path, scheme)] = None
            found[Probe(host, f"{path}?a=1&utm_source=b", scheme)] = None
        named = (*known, *_odd_hosts(known))
        found |= dict.fromkeys(Probe(host, "/zz/", scheme) for host in named for scheme in _SCHEMES)
    return list(found)


def _odd_hosts(hosts: Sequence[str]) -> tuple[str, ...]:
    """Hosts of a site as others name them, and such as are none of it."""
    first = hosts[0]
    return (first.upper(), f"{first.partition(':')[0]}.", f"{first}:8081", "elsewhere.example", "")


def _chosen(rules: Sequence[ExactRule]) -> list[ExactRule]:
    """Some of every kind, and some of all."""
    kinds: dict[object, list[ExactRule]] = defaultdict(list)
    for rule in rules:
        held = kinds[
            rule.site,
            rule.status,
            rule.query,
            len(rule.params),
            "?" in rule.destination,
            "#" in rule.destination,
        ]
        if len(held) < _OF_A_KIND:
            held.append(rule)
    chosen = [*(r for held in kinds.values() for r in held), *_spread(rules, MOST_EXACT)]
    return list({id(r): r for r in chosen}.values())[: 2 * MOST_EXACT]


def _spread(items: Sequence[T], most: int) -> Sequence[T]:
    """At most so many, from all over."""
    return items[:: max(1, -(-len(items) // most))]


def _names_at(rules: RuleSet, chosen: Sequence[ExactRule]) -> dict[tuple[str, str], list[str]]:
    """Site and path → the parameters that matter there, of some rules."""
    wanted = {(rule.site, path) for rule in chosen for path in rule.paths}
    return {
        (site, path): sorted(group.names)
        for site, path, group in rules.paths()
        if (site, path) in wanted
    }


def _usual_targets_of(rule: ExactRule) -> Iterator[str]:
    """What is asked where a rule answers."""
    own = "&".join(f"{name}={value}" for name, value in rule.params)
    yield from (
        _asked(path, query)
        for path in rule.paths[:3]
        for query in (own, f"{own}&utm_source=x&zz=1")
    )
    yield _asked(toggle_slash(rule.paths[0]).upper(), own)
    yield from (_asked(rule.paths[0], query) for query in islice(_wrong_queries(rule.params), 2))


def _targets_of(
    rule: ExactRule, rules: RuleSet, names_at: Mapping[tuple[str, str], Sequence[str]]
) -> Iterator[str]:
    """What may be asked where a rule answers, and close by."""
    own = "&".join(f"{name}={value}" for name, value in rule.params)
    for path in rule.paths[:_MOST_PATHS]:
        yield from (
            _asked(path, query) for query in ("", own, f"{own}&zz=1", *_tracked(rules, own))
        )
        yield from (_asked(spelled, own) for spelled in _spellings(path))
        yield from (_asked(path, query) for query in _wrong_queries(rule.params))
        for name in names_at.get((rule.site, path), ()):
            told = (
                f"{name}=9",
                f"{name}=",
                name,
                f"{name}=9&{own}",
                f"{own}&{name}=1&{name}=1",
                f"{name}&{own}&{name}",
            )
            yield from (_asked(path, query) for query in told)
    path = rule.paths[0]
    yield from (
        f"/{piece}/..{path}" for piece in (*_HARMFUL, _HARMLESS_PATH, "%2e/x", "x/%2E%2e/y")
    )
    yield from (_asked(path, f"{own}&x={piece}") for piece in (*_HARMFUL, _HARMLESS_QUERY))
    yield from (f"{path}#f", path[1:] or "x", f"{path}%", f"{path}?", f"{path};x", f"{path}/zz")


def _spellings(path: str) -> Iterator[str]:
    """A path as others would write it."""
    yield from (
        path.upper(),
        path.title(),
        toggle_slash(path),
        f"/.{path}",
        f"/x/..{path}",
        path.replace("/", "//"),
    )
    if "%" not in path:
        yield "".join(f"%{ord(c.upper()):02x}" if c.isalpha() else c for c in path)
    for at, char in enumerate(path):
        if char.isalnum() and path[at - 1] != "%" and path[at - 2 : at - 1] != "%":
            yield f"{path[:at]}%{ord(char):02x}{path[at + 1 :]}"
            break


def _wrong_queries(params: Sequence[tuple[str, str]]) -> Iterator[str]:
    """Queries that do not name the page: another value, one parameter less, another order."""
    for n, (name, value) in enumerate(params):
        others = [f"{k}={v}" for k, v in (*params[:n], *params[n + 1 :])]
        yield "&".join([f"{name}={value}x", *others])
        yield "&".join([f"{name}={value.swapcase()}", *others])
        yield "&".join([f"{name.swapcase()}={value}", *others])
        yield "&".join(others)
        yield "&".join([*others, f"{name}={value}"])


def _tracked(rules: RuleSet, own: str) -> Iterator[str]:
    """Queries with campaign parameters, in any order and with values that are not carried."""
    names = rules.tracking
    head = [own] if own else []
    for name in names[:12]:
        yield "&".join([*head, f"{name}=a-b"])
    if names:
        yield "&".join([*head, *(f"{name}={_CARRIED}" for name in names)])
        yield "&".join([*(f"{name}=x{n}" for n, name in enumerate(reversed(names))), *head])
        yield "&".join(
            [*head, f"{names[0]}=%zz", f"{names[0]}=ok|no", f"{names[-1]}=1", f"{names[-1]}=2"]
        )
        yield "&".join([*head, f"x{names[0]}=1"])


def _asked(path: str, query: str) -> str:
    return f"{path}?{query.removeprefix('&')}" if query else path


_GOOD = {
    CaptureKind.DIGITS: ("7", "0123456789"),
    CaptureKind.WORD: ("Ab1", _SAFE),
    CaptureKind.REST: (
        "x/Y.html",
        f"{_SAFE}._~-/{_SAFE}",
        f".{_SAFE}/..{_SAFE}-/~x_",
        *_SAFE[::9],
        "z/",
    ),
}
_SEGMENTS = (
    "slug-1",
    f"{_SAFE}._~-",
    f"-{_SAFE}",
    f"_{_SAFE}",
    f"~{_SAFE}",
    f".{_SAFE}._~-",
    f".-{_SAFE}",
    f"..{_SAFE}._~-",
    "...",
    ".~",
    "._",
    *_SAFE[::7],
)
_BAD = (
    "a-b",
    "7a",
    "..",
    ".",
    "",
    "a%20b",
    "%61",
    "a/b",
    "a//b",
    "a/../b",
    "...",
    "%2e",
    "%2E.",
    "x/%2e%2E/y",
    "%2F",
    "%5c",
    "%00",
    "%4",
    "%zz",
    "é",
    "~t_.x",
    "x?y",
)


_WIDE = (
    "caf%C3%A9",
    "caf%c3%a9-%E9",
    "a%20b",
    "%61",
    "%2Ehtaccess",
    "%2e.%2e",
    "..%2Ex",
    "a:b,c;d=1",
    "(a)'*!$&+@",
    '"<x>^`{|}',
    "%25%3F",
    "%FF%80",
    "%2d",
)


def _good(capture: Capture) -> tuple[str, ...]:
    usual = _usual(capture)
    return (*usual, *_WIDE) if capture.wide else usual


def _usual(capture: Capture) -> tuple[str, ...]:
    if capture.kind == CaptureKind.LIST:
        return (*capture.values[:6], capture.values[-1].swapcase())
    return _GOOD.get(capture.kind, _SEGMENTS)


def _targets_of_template(group: TemplateGroup, rules: RuleSet, *, thorough: bool) -> Iterator[str]:
    """Paths that fit a template and such that nearly do, with the parameters of its rules."""
    source = group.source
    usual = {c.name: _good(c)[0] for c in source.captures}
    paths = [_path(group, usual)]
    if not thorough:
        yield from (_asked(paths[0], query) for query in islice(_queries(group), 6))
        return
    for capture in source.captures:
        paths += [
            _path(group, usual | {capture.name: value}) for value in (*_good(capture)[1:], *_BAD)
        ]
    paths += [
        f"{paths[0]}/",
        paths[0].upper(),
        paths[0].title(),
        f"{paths[0]}//",
        f"/.{paths[0]}",
        f"x{paths[0]}",
    ]
    queries = list(islice(_queries(group), 60))
    tracked = [*_tracked(rules, queries[0])][:3]
    for path in paths:
        yield from (_asked(path, query) for query in queries[:2])
    yield from (
        _asked(path, query)
        for path in paths[:1] + paths[-6:-5]
        for query in (*queries, *tracked, "zz=1")
    )
    yield from (f"{paths[0]}{bad}" for bad in _HARMFUL)
    yield from (_asked(path, query) for path in group.literal_paths[:2] for query in ("", *queries))


def _path(group: TemplateGroup, values: dict[str, str]) -> str:
    return "".join(p if isinstance(p, str) else values[p.name] for p in group.source.parts)


def _queries(group: TemplateGroup) -> Iterator[str]:
    """Parameters as the rules of a group want them, and otherwise."""
    fitting = [list(_fitting(rule)) for rule in group.rules]
    yield fitting[0][0] if fitting[0] else ""
    yield ""
    for name in sorted(group.names):
        yield f"{name}=9&{name}=8"
        yield f"{fitting[0][0]}&{name}=1&{name}=1"
    for query in (q for several in fitting for q in several):
        yield query
        yield f"{query}&{query}"
    for name in sorted(group.names):
        yield from (f"{name}=..", f"{name}=", name, f"{name}=zz z")


def _fitting(rule: TemplateRule) -> Iterable[str]:
    params = rule.source.params
    choices = islice(product(*(_good(c)[:4] for c in params)), 6)
    return (
        "&".join(f"{c.name}={v}" for c, v in zip(params, values, strict=True)) for values in choices
    )
