"""Template rules as lines of a frontend."""

from __future__ import annotations

from collections.abc import Iterator

from upright_ledger.core.rules.templates.template_index import TemplateGroup
from upright_ledger.servers.haproxy.syntax import PLACE
from upright_ledger.servers.lookup_tables import LookupTables, filled
from upright_ledger.servers.reply_encoding import whole


def choices(n: int, site: str, group: TemplateGroup, regex: str) -> Iterator[tuple[str, str]]:
    """Regexes over the path and the parameters that matter there, "=value" or nothing each, and
    what they give.
    """
    names = sorted(group.names)
    for number, rule in enumerate(group.rules):
        captures = {c.name: c for c in rule.source.params}
        if captures:
            parts = [
                f"=({captures[name].regex()})" if name in captures else "[^&]*" for name in names
            ]
        else:
            parts = [""] * len(names)
        yield (
            f"^choice{n};{site}{regex}[?]{'&'.join(parts)}$",
            whole(filled(group, number, "\\{}".format)),
        )


def percent(text: str) -> str:
    """A text in which no % is taken for a format."""
    return text.replace("%", "%%")


def template_lines(low: LookupTables) -> Iterator[str]:
    """Templates look at the path as it was sent, where no exact rule answers."""
    number = {name: n for n, name in enumerate(low.names, 1)}
    free = "{ var(txn.upright_path) -m found } !{ var(txn.upright_r) -m found }"
    if low.groups:
        free += " !{ var(txn.upright_stop) -m found }"
    yield (
        "http-request set-var-fmt(txn.upright_raw) "
        f"'%[var(txn.upright_site)]%[var(txn.upright_path)]' if {free}"
    )
    yield (
        "http-request set-var(txn.upright_r) "
        f"'var(txn.upright_raw),map_regm({PLACE}/templates.map)' if {free}"
    )
    chosen = []
    for n, (_, group) in enumerate(low.templates, 1):
        if group.names:
            mine = f"{{ var(txn.upright_r) -m str choice{n} }}"
            tail = "&".join(f"%[var(txn.upright_p{number[name]})]" for name in sorted(group.names))
            chosen.append((n, f"choice{n};%[var(txn.upright_raw)]?{tail}", mine))
            for name in sorted(group.names):
                yield (
                    f"http-request unset-var(txn.upright_r) if {mine} {{ "
                    f"var(txn.upright_d{number[name]}) -m found }}"
                )
    for _, text, mine in chosen:
        yield f"http-request set-var-fmt(txn.upright_choice) '{text}' if {mine}"
    if chosen:
        yield "http-request unset-var(txn.upright_r) if { var(txn.upright_choice) -m found }"
        yield (
            "http-request set-var(txn.upright_r) "
            f"'var(txn.upright_choice),map_regm({PLACE}/choices.map)' if {{ "
            f"var(txn.upright_choice) -m found }}"
        )
