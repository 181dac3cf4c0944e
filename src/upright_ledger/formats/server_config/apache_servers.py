"""Which virtual host of Apache's files a request meets."""

from __future__ import annotations

import re
from collections import defaultdict
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field, replace

from upright_ledger.core.rules.imported.rule import HOST, PATH, Condition, alternatives
from upright_ledger.formats.server_config.apache import (
    INNER_ALIAS,
    REWRITE,
    ApachePlace,
    host_expression,
    host_pattern,
    nothing_of,
)
from upright_ledger.formats.server_config.apache_config import Directive, all_of, read_tree
from upright_ledger.formats.server_config.apache_places import PlaceReader, is_rule
from upright_ledger.formats.server_config.rules_read import (
    HTTP_AND_HTTPS,
    NOTHING_SAID,
    SCHEME_OF_PORT,
    RulesRead,
    ServerSetup,
    everything,
    only_by,
)


@dataclass
class _Host:
    """A virtual host. schemes: those it may be asked by; none where that is not known."""

    section: Directive
    names: tuple[str, ...]
    schemes: tuple[str, ...]
    doubt: str = ""
    conditions: tuple[Condition, ...] = field(default=())

    @property
    def directives(self) -> list[Directive]:
        return self.section.block


def read_apache(
    text: str,
    name: str,
    *,
    folder: str = "",
    given: ServerSetup | None = None,
    doubt: str = "",
    engine: bool | None = None,
) -> RulesRead:
    """Read a file. folder: the path of the pages (/ at both ends) whose .htaccess it is; empty for
    a server's configuration.

    doubt: why it is not known where the file stands, so that none of its rules is understood.
    engine: whether mod_rewrite is on where the file does not say so; None where that is not known.
    Raises NotUnderstoodError for a file whose sections do not close.
    """
    given = given or NOTHING_SAID
    tree = read_tree(text, given)
    reader = PlaceReader(name, given, engine)
    if doubt:
        for d in filter(is_rule, all_of(tree)):
            reader.miss(d, doubt)
            reader.out.rules.append(everything(f"{name}:{d.line}"))
    elif folder:
        inside = (Condition(PATH, f"^{re.escape(folder)}"),) if folder != "/" else ()
        reader.htaccess(tree, ApachePlace(name, inside, folder=folder))
    else:
        _servers(reader, tree)
    return reader.out


def _servers(reader: PlaceReader, tree: list[Directive]) -> None:
    sections = [d for d in tree if d.name == "<virtualhost"]
    outer = [d for d in tree if d.name != "<virtualhost"]
    if not sections:
        names = _names(outer)
        reader.server(
            outer, [], ApachePlace(reader.name, tuple(_host_conditions(names)), hosts=names)
        )
        return
    alone = len({frozenset(_ports(d)) for d in sections}) == 1
    hosts = [_Host(d, _names(d.block), _schemes(d, alone), d.unless) for d in sections]
    main = _names(
        [Directive(0, "servername", d.words[:1]) for d in outer if d.name == "servername"][-1:]
    )
    for host in [
        h for h in hosts if not h.names
    ]:  # the first one of a port answers for all hosts there
        rest = tuple(x for x in host.schemes if x not in _first_of(host, hosts))
        if rest == host.schemes:
            host.names = main
        elif rest and main:
            hosts.append(replace(host, names=main, schemes=rest))
    _doubt(hosts)
    for host in _in_turn(reader, hosts):
        place = ApachePlace(reader.name, host.conditions, hosts=host.names)
        if host.doubt:
            for d in filter(is_rule, all_of(host.directives)):
                reader.miss(d, host.doubt)
            reader.out.rules.append(nothing_of(place.where(host.section), place, stage=REWRITE))
            continue
        reader.server(host.directives, outer, place)
        reader.out.rules.append(
            nothing_of(place.where(host.section), place, stage=INNER_ALIAS)
        )  # nobody else answers for it
    left = [s for s in HTTP_AND_HTTPS if not any(s in h.schemes for h in hosts)]
    if len(left) == 1:
        reader.server(outer, [], ApachePlace(reader.name, only_by(left), hosts=_names(outer)))
    else:
        for d in outer:
            if d.name == "rewriterule":
                reader.miss(
                    d,
                    "virtual hosts take no rules over from outside of them, so no request reaches "
                    "it",
                )


def _doubt(hosts: Sequence[_Host]) -> None:
    """Note of which hosts it is not known when they are asked."""
    for host in hosts:
        if not host.schemes:
            host.doubt = (
                host.doubt
                or "it is not known whether the port of its virtual host speaks HTTP or HTTPS"
            )
    wild = [h for h in hosts if any(set("*?") & set(n) for n in h.names)]
    by_name: dict[str, list[_Host]] = defaultdict(list)
    for host in hosts:
        for name in host.names:
            by_name[name].append(host)
    if len({frozenset(_addresses(h.section)) for h in hosts}) == 1:
        return
    for host in hosts:
        alike = [o for n in host.names for o in by_name[n]]
        alike += [
            o
            for o in wild
            if any(
                host_pattern(w).match(n) or host_pattern(n).match(w)
                for w in o.names
                for n in host.names
            )
        ]
        for other in alike:
            if set(host.schemes) & set(other.schemes) and _addresses(host.section) != _addresses(
                other.section
            ):
                host.doubt = (
                    host.doubt or "another virtual host of its name listens on another address"
                )


def _in_turn(reader: PlaceReader, hosts: Sequence[_Host]) -> Iterator[_Host]:
    """Virtual hosts as they are asked: by their names, and at last one without a name, if it is the
    first of its port.
    """
    nameless = []
    for host in hosts:
        first = _first_of(host, hosts)
        asked = host.schemes if host.names else first
        host.conditions = (*only_by(asked), *_host_conditions(host.names))
        if host.names:
            yield host
        elif first or not host.schemes:
            nameless.append(host)
        else:
            for d in filter(is_rule, all_of(host.directives)):
                reader.miss(d, "its virtual host has no ServerName, and another one comes first")
    yield from nameless


def _first_of(host: _Host, hosts: Sequence[_Host]) -> tuple[str, ...]:
    """The schemes by which no other virtual host is asked before this one."""
    return tuple(s for s in host.schemes if next(h for h in hosts if s in h.schemes) is host)


def _names(directives: Sequence[Directive]) -> tuple[str, ...]:
    """The names of a server, in lower case, without scheme and port."""
    words = [w for d in directives if d.name in {"servername", "serveralias"} for w in d.words]
    return tuple(re.sub(r"^\w+://|:\d+$", "", w.lower()) for w in words)


def _host_conditions(names: Sequence[str]) -> list[Condition]:
    return alternatives([_host(n) for n in names])


def _host(name: str) -> Condition:
    if set("*?") & set(name):
        return Condition(HOST, host_expression(name), nocase=True)
    return Condition(HOST, name, literal=True, nocase=True)


def _addresses(section: Directive) -> set[str]:
    return {re.sub(r":(?:\d+|\*)$", "", w.lower()).replace("_default_", "*") for w in section.words}


def _ports(section: Directive) -> set[str]:
    found = [re.search(r":(\d+|\*)$", w) for w in section.words]
    return {m[1] if m else "*" for m in found}


def _schemes(section: Directive, alone: bool) -> tuple[str, ...]:
    """By which schemes a virtual host is asked; none where its port does not tell. alone: whether
    all have the same ports, which are for both.
    """
    if any(
        d.name == "sslengine" and d.words[:1] and d.words[0].lower() == "on" for d in section.block
    ):
        return ("https",)
    ports = _ports(section)
    if "*" in ports or not ports or alone:
        return HTTP_AND_HTTPS
    known = {SCHEME_OF_PORT.get(p, "") for p in ports}
    return () if "" in known else tuple(s for s in HTTP_AND_HTTPS if s in known)
