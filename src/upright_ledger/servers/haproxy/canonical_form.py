"""What HAProxy does with addresses that no rule answers."""

from __future__ import annotations

from collections.abc import Iterator

from upright_ledger.core.rules.canonical_form import (
    ALWAYS,
    BARE_PART,
    CONNECTION,
    FILE,
    LEFT_ALONE,
    LOWERED,
    NEVER,
    PATH,
)
from upright_ledger.core.rules.ruleset import RuleSet
from upright_ledger.servers.haproxy.syntax import bare_host
from upright_ledger.servers.lookup_tables import LookupTables


def form_lines(rules: RuleSet, low: LookupTables) -> Iterator[str]:
    """Where requests go that no rule answers."""
    if not rules.forms:
        return
    form = rules.forms[0]
    cut = bare_host(rules)
    yield (
        f"http-request set-var(txn.upright_host) 'req.hdr(host),lower,{cut}' if {{ "
        f"var(txn.upright_path) -m found }}"
    )
    for each in rules.forms:
        number = low.numbers[each.site]
        mine = f"{{ var(txn.upright_path) -m found }} {{ var(txn.upright_site) -m str {number} }}"
        yield f"http-request set-var(txn.upright_origin) 'str({each.origin})' if {mine}"
        yield (
            f"http-request set-var(txn.upright_off) bool(true) if {mine} !{{ var(txn.upright_host) "
            f"-m str {each.authority} }}"
        )
        if each.scheme_from == CONNECTION:
            tls = "{ ssl_fc }" if each.wrong_scheme == "https" else "!{ ssl_fc }"
            yield f"http-request set-var(txn.upright_off) bool(true) if {mine} {tls}"
        elif each.scheme_from:
            told = f"{{ req.hdr({each.scheme_from},1),lower -m str {each.wrong_scheme} }}"
            yield f"http-request set-var(txn.upright_off) bool(true) if {mine} {told}"
    ours = "{ var(txn.upright_origin) -m found }"
    copied = f"{{ path -m reg '^{PATH}$' }} !{{ path -m reg '^{LEFT_ALONE}$' }}"
    yield f"http-request set-var(txn.upright_f) path if {ours} {copied}"
    free = "{ var(txn.upright_f) -m found }"
    if form.lower:
        capital = f"{free} {{ var(txn.upright_f) -m reg '^{LOWERED}$' }}"
        yield f"http-request set-var(txn.upright_off) bool(true) if {capital}"
        yield f"http-request set-var(txn.upright_f) 'var(txn.upright_f),lower' if {capital}"
    named = f"!{{ var(txn.upright_f) -m reg '^{FILE}$' }}"
    if form.slash == ALWAYS:
        bare = f"{free} !{{ var(txn.upright_f) -m end / }} {named}"
        yield f"http-request set-var(txn.upright_off) bool(true) if {bare}"
        yield f"http-request set-var-fmt(txn.upright_f) '%[var(txn.upright_f)]/' if {bare}"
    if form.slash == NEVER:
        closed = f"{free} {{ var(txn.upright_f) -m reg '^{BARE_PART}/+$' }} {named}"
        yield f"http-request set-var(txn.upright_off) bool(true) if {closed}"
        yield (
            'http-request set-var(txn.upright_f) \'var(txn.upright_f),regsub("/+$","")\' if '
            f"{closed}"
        )
    off = f"{free} {{ var(txn.upright_off) -m found }}"
    yield (
        f"http-request set-var-fmt(txn.upright_f) '%[var(txn.upright_f)]?%[query]' if {off} {{ "
        f"query -m len gt 0 }}"
    )
    yield (
        "http-request redirect code 301 location %[var(txn.upright_origin)]%[var(txn.upright_f)] "
        f"if {off}"
    )
