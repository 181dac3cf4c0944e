"""What a rule set answers, rule after rule and sign after sign: no index, no shared code, only the
words of its rules.
"""

from __future__ import annotations

import re
from typing import Any

import slow_addresses
import slow_folding

SAFE = "[A-Za-z0-9._~-]"


def answer(rules: Any, host: str, target: str, scheme: str = "") -> tuple[int, str] | None:
    """Status and Location of a request, or None. rules: read as data, never asked."""
    authority = _authority(rules, host)
    site = rules.site_of.get(authority, "")
    if not site or not slow_addresses.may_be_answered(target):
        return None
    found = _decided(rules, site, authority, target)
    if found == "nothing":
        return _formed(rules, site, authority, target, scheme)
    return found


def _authority(rules: Any, host: str) -> str:
    low = slow_addresses.folded(host)
    name, colon, port = low.partition(":")
    while name.endswith("."):
        name = name[:-1]
    matters = any(":" in known for known in rules.site_of)
    return name + colon + port if matters else name


def _decided(rules: Any, site: str, authority: str, target: str) -> Any:
    path, query = _split(target)
    pairs = slow_addresses.parameters(query) if query else []
    key = _folded(rules, path)
    here = [r for r in rules.rules if r.site == site and key in r.paths]
    literal = [t for t in rules.templates if t.site == site and _literal(t, key)]
    names = {n for r in here for n, _ in r.params}
    for r in here:
        names |= set(rules.significant.get(r.path, ()))
    group = _group(rules, site, path)
    if here and literal:
        names |= {p.name for t in literal for p in t.source.params}
    if here:
        values = [(n, v) for n, v in pairs if n in names]
        if len({n for n, _ in values}) < len(values):
            return "nothing"
        chosen = _exact(here, dict(values))
        if chosen is not None:
            return _give(rules, chosen, chosen.destination, authority, target, site)
        if group and values and not literal:
            return "nothing"
    if not group:
        return "nothing"
    return _templated(rules, group, site, authority, target, names if literal else set())


def _exact(here: list[Any], values: dict[str, str]) -> Any:
    """The rule with the most parameters, all of which have their value."""
    if not values:
        plain = [r for r in here if not r.params]
        return plain[0] if plain else None
    fits = [
        r
        for r in here
        if r.params and all(n in values and values[n] in spellings(v) for n, v in r.params)
    ]
    fits.sort(key=lambda r: (-len(r.params), [n for n, _ in r.params]))
    return fits[0] if fits else None


def spellings(value: str) -> set[str]:
    """How a value may be sent: escapes in capitals or not, in UTF-8 or Latin-1, a blank as +."""
    found = {value}
    raw = slow_addresses.unescaped(value)
    if any(byte > 127 for byte in raw):
        try:
            latin = raw.decode().encode("cp1252")
            try:
                latin.decode()
            except UnicodeDecodeError:
                found.add(_again(value, latin))
        except UnicodeError:
            pass
    found |= {v.replace("%20", "+") for v in found}
    return found | {re.sub("%..", lambda m: m[0].lower(), v) for v in found}


def _again(value: str, latin: bytes) -> str:
    """A value with the bytes of Latin-1 in place of its letters beyond ASCII."""
    out = ""
    for run in re.split("((?:%[89A-F].)+)", value):
        if run.startswith("%") and run[1] in "89ABCDEF":
            letters = slow_addresses.unescaped(run).decode()
            out += "".join(f"%{b:02X}" for b in letters.encode("cp1252"))
        else:
            out += run
    return out


def _group(rules: Any, site: str, path: str) -> list[Any]:
    """The templates of one path that decide on a request: what protects, then the most literal."""
    fits = [t for t in rules.templates if t.site == site and _match(rules, t, path) is not None]
    if not fits:
        return []
    literal = {id(t): sum(len(p) for p in t.source.parts if isinstance(p, str)) for t in fits}
    fits.sort(key=lambda t: (t.status != 0, -literal[id(t)], t.source.path, t.slash))
    first = fits[0]
    same = [t for t in fits if t.source.path == first.source.path and t.slash == first.slash]
    return sorted(same, key=lambda t: (-len(t.source.params), t.source.text))


def _templated(
    rules: Any, group: list[Any], site: str, authority: str, target: str, beside: set[str]
) -> Any:
    path, query = _split(target)
    names = {p.name for t in group for p in t.source.params} | beside
    pairs = [(n, v) for n, v in slow_addresses.parameters(query) if n in names] if query else []
    if len({n for n, _ in pairs}) < len(pairs):
        return "nothing"
    values = dict(pairs)
    for t in group:
        wanted = t.source.params
        if not wanted and values:
            continue
        if all(_takes(p, values.get(p.name, "")) for p in wanted):
            match = _match(rules, t, path)
            assert match is not None
            filled = match | {p.name: values[p.name] for p in wanted}
            goal = t.destination
            for name, value in filled.items():
                goal = goal.replace("{" + name + "}", value)
            return _give(rules, t, goal, authority, target, site)
    return "nothing"


def _match(rules: Any, template: Any, path: str) -> dict[str, str] | None:
    """The captures of a path as it was sent."""
    text = ""
    copied = {
        name
        for t in rules.templates
        if (t.site, t.source.path, t.slash) == (template.site, template.source.path, template.slash)
        for name in re.findall(r"\{(\w+)\}", t.destination)
    }
    whole = "/".join(p if isinstance(p, str) else f"<{p.name}>" for p in template.source.parts)
    whole = re.sub("/(?=<)|(?<=>)/", "", whole)
    nothing = not any(p.name in copied for p in template.source.parts if not isinstance(p, str))
    for part in template.source.parts:
        if isinstance(part, str):
            letters = [
                f"(?i:{c})" if rules.fold_case and c.isalpha() else re.escape(c) for c in part
            ]
            text += "".join(letters)
        else:
            own = next(s for s in whole.split("/") if f"<{part.name}>" in s)
            free = part.name not in copied and (
                part.kind == "rest" or (part.kind == "segment" and nothing and own.count("<") == 1)
            )
            text += f"(?P<{part.name}>{_capture(part, fold=rules.fold_case, free=free)})"
    last = template.source.parts[-1]
    if isinstance(last, str):
        open_end = (
            not re.search(r"\.[A-Za-z0-9]{1,5}$", "x" + last.rpartition("/")[2]) and last != "/"
        )
    else:
        open_end = last.kind != "rest"
    text += {"any": "/?" if open_end else "", "bare": "", "slashed": "/"}[template.slash]
    match = re.fullmatch(text, path)
    if match is None or any(
        re.sub("%2[eE]", ".", p) in {".", ".."}
        for v in match.groupdict().values()
        for p in v.split("/")
    ):
        return None
    return match.groupdict()


def _takes(capture: Any, value: str) -> bool:
    """Whether the value of a parameter fits."""
    return re.fullmatch(_capture(capture, fold=False), value) is not None and value not in {
        ".",
        "..",
    }


def _capture(capture: Any, *, fold: bool, free: bool = False) -> str:
    """free: whatever stands between slashes."""
    if capture.kind == "digits":
        return "[0-9]+"
    if capture.kind == "word":
        return "[A-Za-z0-9]+"
    if capture.kind == "list":
        mode = "(?i:" if fold else "(?:"
        return mode + "|".join(re.escape(v) for v in sorted(capture.values, key=len)[::-1]) + ")"
    sign = "[^/]" if free else SAFE
    return f"{sign}+(?:/{sign}+)*/?" if capture.kind == "rest" else f"{sign}+"


def _literal(template: Any, key: str) -> bool:
    parts = template.source.parts
    if any(not isinstance(p, str) for p in parts):
        return False
    path = parts[0]
    ends = not re.search(r"\.[A-Za-z0-9]{1,5}$", path.rpartition("/")[2]) and path != "/"
    return key == path or (ends and key == path + "/")


def _give(rules: Any, rule: Any, destination: str, authority: str, target: str, site: str) -> Any:
    """The answer of a rule that is responsible: none where it would lead onto itself."""
    if rule.status == 0:
        return "nothing"
    if rule.status == 410:
        return 410, ""
    path, query = _split(target)
    rest = destination.partition("://")[2]
    host, _, goal = rest.partition("/")
    if host == authority:
        there, _, asked = ("/" + goal).partition("#")[0].partition("?")
        params = rule.params if isinstance(rule.params, tuple) else ()
        if params:
            again = _decided_rule(rules, site, there, asked)
            if again is rule:
                return "nothing"
        elif _folded(rules, there) == _folded(rules, path):
            return "nothing"
    carried = _carried(rules, rule.query, query)
    if carried:
        body, mark, fragment = destination.partition("#")
        destination = body + ("&" if "?" in body else "?") + carried + mark + fragment
    return rule.status, destination


def _decided_rule(rules: Any, site: str, path: str, query: str) -> Any:
    """The rule that would be responsible for an address, exact or a template."""
    key = _folded(rules, path)
    here = [r for r in rules.rules if r.site == site and key in r.paths]
    pairs = slow_addresses.parameters(query) if query else []
    names = {n for r in here for n, _ in r.params}
    for r in here:
        names |= set(rules.significant.get(r.path, ()))
    values = [(n, v) for n, v in pairs if n in names]
    if here:
        if len({n for n, _ in values}) < len(values):
            return None
        chosen = _exact(here, dict(values))
        if chosen is not None:
            return chosen
    group = _group(rules, site, path)
    wanted = {p.name for t in group for p in t.source.params}
    asked = [(n, v) for n, v in pairs if n in wanted]
    if len({n for n, _ in asked}) < len(asked):
        return None
    found = dict(asked)
    for t in group:
        if not t.source.params and found:
            continue
        if all(_takes(p, found.get(p.name, "")) for p in t.source.params):
            return t
    return None


def _carried(rules: Any, policy: str, query: str) -> str:
    if policy == "drop" or not query:
        return ""
    if policy == "carry":
        return query
    kept = []
    for name in rules.tracking:
        for part in query.split("&"):
            if part.startswith(name + "=") and slow_addresses.well_formed(part[len(name) + 1 :]):
                kept.append(part)
                break
    return "&".join(kept)


def _formed(rules: Any, site: str, authority: str, target: str, scheme: str) -> Any:
    """What the form of a site makes of what no rule answers."""
    form = next((f for f in rules.forms if f.site == site), None)
    if form is None:
        return None
    path, query = _split(target)
    if not re.fullmatch(r"/(?:[A-Za-z0-9._~!$&'()*+,;=:@/-]|%[0-9A-Fa-f]{2})*", path):
        return None
    names = path.split("/")
    if path in {"/robots.txt", "/favicon.ico"} or path.startswith("/.well-known/"):
        return None
    if any(re.sub("(?i)%2e", ".", n) in {".", ".."} for n in names):
        return None
    wanted = path
    if form.lower and "%" not in path:
        wanted = slow_addresses.folded(path)
    if form.slash and not _names_file(wanted):
        bare = wanted
        while bare.endswith("/"):
            bare = bare[:-1]
        if form.slash == "always":
            wanted = wanted if wanted.endswith("/") else wanted + "/"
        else:
            wanted = bare or wanted
    own_scheme, _, own_host = form.origin.partition("://")
    other = "http" if own_scheme == "https" else "https"
    wrong = bool(form.scheme_from) and scheme == other
    if wanted == path and authority == own_host and not wrong:
        return None
    return 301, form.origin + wanted + ("?" if query else "") + query


def _names_file(path: str) -> bool:
    """Whether the last name is a file's, or may be one under its escapes."""
    bare = path
    while bare.endswith("/"):
        bare = bare[:-1]
    last = bare.rpartition("/")[2]
    if re.search(r"\.[A-Za-z0-9]{1,5}$", last):
        return True
    return any(re.match("(?i)%(2e|[3-7][0-9a-f])", last[at : at + 3]) for at in range(len(last)))


def _split(target: str) -> tuple[str, str]:
    path, _, query = target.partition("?")
    return path, query


def _folded(rules: Any, path: str) -> str:
    canonical = slow_addresses.canonical_path(path)
    return slow_folding._fold_case(canonical) if rules.fold_case else canonical
