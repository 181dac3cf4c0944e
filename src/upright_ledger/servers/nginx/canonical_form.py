"""Site-wide forms for nginx: where requests go that no rule answers."""

from __future__ import annotations

from upright_ledger.core.rules.canonical_form import (
    ALWAYS,
    BARE_PART,
    CONNECTION,
    FILE,
    FIRST,
    LEFT_ALONE,
    NEVER,
    PATH,
)
from upright_ledger.core.rules.ruleset import RuleSet
from upright_ledger.servers.nginx.syntax import host_keys

Tables = dict[str, dict[str, str]]


def form_tables(rules: RuleSet) -> tuple[Tables, dict[str, str]]:
    """The tables, and what each is looked up by. `upright_form` is the address to go to, or empty.

    It is made of the site's origin and of the path in its form (empty: it is left alone), where the
    origin or the path is off.
    """
    host = "$http_host" if rules.ports_matter else "$host"
    slash, scheme_from = rules.forms[0].slash, rules.forms[0].scheme_from
    to: dict[str, str] = {"default": ""}
    off: dict[str, str] = {"default": ""}
    for form in rules.forms:
        for authority in (a for a, site in sorted(rules.site_of.items()) if site == form.site):
            for named in host_keys(authority, ports=rules.ports_matter):
                to[named] = form.origin
                for scheme in ("http", "https", "-"):
                    right = authority == form.authority and scheme in {"-", form.scheme}
                    off[f"{scheme} {named}"] = "" if right else "1"
    path: dict[str, str] = {"default": ""}
    moved: dict[str, str] = {"default": ""}
    for regex, text, is_moved in _paths(slash):
        path[f"~^{regex}(?:\\?|$)"] = text
        moved[f"~^{regex}(?:\\?|$)"] = "1" if is_moved else ""
    whole = r"~^\|(?<upright_o>[^|]+)\|(?<upright_p>[^|]+)\|1"
    out: Tables = {
        "upright_form_to": to,
        "upright_form_off": off,
        # Only a path that a form may copy is looked at further.
        "upright_form_uri": {"default": "", f"~^{PATH}(?:\\?|$)": "$request_uri"},
        "upright_form_path": path,
        "upright_form_moved": moved,
        "upright_form": {"default": "", whole: "$upright_o$upright_p$is_args$args"},
    }
    sources = {
        "upright_form_to": host,
        "upright_form_off": f'"- {host}"',
        "upright_form_uri": "$request_uri",
        "upright_form_path": "$upright_form_uri",
        "upright_form_moved": "$upright_form_uri",
        "upright_form": (
            '"$upright_blocked|$upright_form_to|$upright_form_path|'
            '$upright_form_off$upright_form_moved"'
        ),
    }
    if scheme_from:
        told = {"http": "http", "https": "https"}
        if scheme_from != CONNECTION:
            told |= {f"~*^{scheme}{FIRST}$": scheme for scheme in ("http", "https")}
        out["upright_scheme"] = {"default": "-"} | told
        header = f"$http_{scheme_from.lower().replace('-', '_')}"
        sources["upright_scheme"] = "$scheme" if scheme_from == CONNECTION else header
        sources["upright_form_off"] = f'"$upright_scheme {host}"'
    return out, sources


def _paths(slash: str) -> list[tuple[str, str, bool]]:
    """Paths in the order of asking, what each becomes, and whether that is another one."""
    as_it_is = "$upright_f"
    found = [(LEFT_ALONE, "", False)]
    if slash:
        found.append((f"(?<upright_f>{FILE})", as_it_is, False))
    if slash == ALWAYS:
        found.append((r"(?<upright_f>[^?]*/)", as_it_is, False))
    if slash == NEVER:
        found.append((f"(?<upright_f>{BARE_PART})/+", as_it_is, True))
    return [
        *found,
        (r"(?<upright_f>[^?]*)", f"{as_it_is}/" if slash == ALWAYS else as_it_is, slash == ALWAYS),
    ]
