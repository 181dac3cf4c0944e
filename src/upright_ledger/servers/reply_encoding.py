"""Replies as one text, for servers that keep them in a table: "status mode|own
host|body|args|fragment".

The commonest kind, a 301 to a plain address that carries campaigns on, is that address alone.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping

from upright_ledger.core.url.query import QueryPolicy
from upright_ledger.servers.lookup_tables import Key, LookupTables, RuleReply

MODES = {QueryPolicy.CARRY_TRACKING: "t", QueryPolicy.CARRY: "c", QueryPolicy.DROP: "d"}


def encoded(reply: RuleReply) -> str:
    """A reply as one text. No part of it holds a bar: destinations are safe."""
    if (
        reply.status == 301
        and reply.query == QueryPolicy.CARRY_TRACKING
        and not (reply.own or reply.args or reply.fragment)
    ):
        return reply.body
    return whole(reply)


def whole(reply: RuleReply) -> str:
    """A reply with all its parts, whatever its kind."""
    mode = MODES[reply.query] if reply.redirects else ""
    return f"{reply.status}{mode}|{reply.own}|{reply.body}|{reply.args}|{reply.fragment}"


def map_text(table: Mapping[str, str]) -> str:
    """A map as a file of keys and values, one a line; no key holds a blank."""
    return "".join(f"{key} {value}\n" for key, value in table.items())


def ranked(low: LookupTables, *, named: bool = False) -> Iterator[tuple[int, Key, str, RuleReply]]:
    """Rank, path, parameters as "&n=value" and reply of every rule with parameters, in each
    spelling.

    n: the number of the name among `low.names`, from 1, as names may hold what means something to a
    server; or the name where it is `named`.
    """
    number = {name: name if named else n for n, name in enumerate(low.names, 1)}
    for rank, table in enumerate(low.ranked, 1):
        for (key, values), reply in table.items():
            shape = low.groups[key].shapes[rank - 1]
            yield (
                rank,
                key,
                "".join(
                    f"&{number[name]}={value}" for name, value in zip(shape, values, strict=True)
                ),
                reply,
            )
