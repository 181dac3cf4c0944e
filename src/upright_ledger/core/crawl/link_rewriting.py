"""Putting other addresses in the place of some in exported text: SQL, XML, HTML, Markdown, JSON,
whatever they are quoted in.

An address is replaced as a whole or not at all, in the way in which it was written: with or without
its host, with escaped slashes or `&amp;`, its fragment kept. Within strings that carry their length
(serialised data) nothing is changed, and that is counted.
"""

from __future__ import annotations

import re
from bisect import bisect_left
from collections import Counter
from collections.abc import Collection, Mapping
from typing import NamedTuple, Protocol

from upright_ledger.core.url.address import NotAnAddressError, parse_address, split_text

_SLASH = rb"(?:/|\\/)"
_BODY = rb"""[^\s"'<>()\[\]{}|^`\\]|\\/"""
# An address with its host, or a path where only an address can stand: after a quote, a bracket or
# an equals sign.
_CANDIDATE = re.compile(
    rb"(?:(?P<scheme>https?:)?" + _SLASH + _SLASH + (
        rb"(?P<host>[A-Za-z0-9.-]+(?::[0-9]+)?)|(?<=[\"'(=]))(?P<path>"
    ) + _SLASH + rb"(?:" + _BODY + rb"){0,4000})"
)  # fmt: skip
_TRAILING = b".,;:!?"
_LENGTH = re.compile(rb's:([0-9]{1,9}):\\*"')
_NESTED = 4  # serialised strings that may hold each other
_AROUND = 50  # bytes of context in a diff


class LinkChange(NamedTuple):
    """One replacement: the byte where it began in its block, what stood there and what stands there
    now, each with a little around it.
    """

    at: int
    before: str
    after: str


class Put(NamedTuple):
    """What is known of an address in a text. new: what to put in its place, absolute; empty where
    it is only to be named. why: in a word or two. base: the authority on which paths without a host
    lie from now on.
    """

    new: str
    why: str
    base: str = ""


class Resolver(Protocol):
    """Knows addresses."""

    @property
    def hosts(self) -> Collection[str]:
        """Authorities of which it knows any."""

    def of(self, scheme: str, authority: str, target: str, /) -> Put | None:
        """What to put for an address; None where it is right as it is, or not known. scheme and
        authority are empty where a path stands alone.
        """


class Replaced(NamedTuple):
    """A text with its changes. left: addresses that stand in strings with a length and were left
    alone. why: what was changed, in a word or two → how often. named: (address, why) of those that
    are to be named only → how often.
    """

    text: bytes
    changes: list[LinkChange]
    left: int
    why: Counter[str]
    named: Counter[tuple[str, str]]


class MovedTable:
    """Puts one address in the place of another. table: absolute address, without fragment → the one
    to put there. A path without a host is taken to be on the host of the address in the table.
    """

    def __init__(self, table: Mapping[str, str]) -> None:
        self._table = table
        self._paths = {split_text(old)[2]: old for old in table}
        self.hosts: Collection[str] = {split_text(old)[1] for old in table}

    def of(self, _: str, authority: str, target: str) -> Put | None:
        """See `Resolver`."""
        old = self._known(authority, target)
        return Put(self._table[old], "moved", split_text(old)[1]) if old else None

    def _known(self, authority: str, target: str) -> str:
        """The address of the table that this is, whatever its scheme; empty where it is none."""
        if not authority:
            return self._paths.get(target, "")
        return next(
            (
                text
                for text in (f"{s}://{authority}{target}" for s in ("http", "https"))
                if text in self._table
            ),
            "",
        )


def replace_in(text: bytes, resolver: Resolver) -> Replaced:
    """Put addresses in the place of others."""
    lengths = [(m.end(), int(m[1])) for m in _LENGTH.finditer(text)]
    out: list[bytes] = []
    changes: list[LinkChange] = []
    why: Counter[str] = Counter()
    named: Counter[tuple[str, str]] = Counter()
    done = left = 0
    for match in _CANDIDATE.finditer(text):
        found = _replacement(match, resolver)
        if found is None:
            continue
        put, new, end = found
        if not new:
            named[text[match.start() : end].decode("utf-8", "replace"), put.why] += 1
        elif new == text[match.start() : end]:
            continue
        elif _is_serialised(text, match.start(), lengths):
            left += 1
        else:
            out += [text[done : match.start()], new]
            changes.append(_change(text, match.start(), end, new))
            why[put.why] += 1
            done = end
    out.append(text[done:])
    return Replaced(b"".join(out), changes, left, why, named)


def _is_serialised(text: bytes, at: int, lengths: list[tuple[int, int]]) -> bool:
    """Whether a place lies within a string that is told with its length. lengths: where each
    begins, and how many bytes it has.
    """
    last = bisect_left(lengths, (at + 1,))
    for begin, length in lengths[max(0, last - _NESTED) : last]:
        if at - begin <= length + text.count(
            b"\\", begin, at
        ):  # an escape makes it longer in the file
            return True
    return False


def _replacement(match: re.Match[bytes], resolver: Resolver) -> tuple[Put, bytes, int] | None:
    """What is known of a candidate, what to put in its place (nothing where it is to be named
    alone), and where it ends.
    """
    host = (match["host"] or b"").decode("ascii").lower()
    if host and host not in resolver.hosts:
        return None
    written = match["path"].rstrip(_TRAILING)
    address, mark, fragment = written.partition(b"#")
    plain = address.replace(b"\\/", b"/").replace(b"&amp;", b"&").decode("latin-1")
    scheme, authority = (match["scheme"] or b"").decode().lower().rstrip(":"), ""
    if host:
        try:
            whole = parse_address(f"{scheme or 'http'}://{host}{plain}")
        except NotAnAddressError:
            return None
        authority, plain = whole.authority, whole.target
    put = resolver.of(scheme, authority, plain)
    if put is None:
        return None
    end = match.start("path") + len(written)
    if not put.new:
        return put, b"", end
    goal, there, target = split_text(put.new)
    if host:
        given = f"{goal}:" if match["scheme"] else ""
        text = f"{given}//{there}{target}"
    else:
        text = target if there == put.base else put.new
    if b"\\/" in match[0]:
        text = text.replace("/", "\\/")
    if b"&amp;" in address:
        text = text.replace("&", "&amp;")
    return put, text.encode("ascii") + mark + fragment, end


def _change(text: bytes, start: int, end: int, new: bytes) -> LinkChange:
    """A change with what stands around it on its line."""
    head = text[max(0, start - _AROUND) : start].rpartition(b"\n")[2].decode("utf-8", "replace")
    tail = text[end : end + _AROUND].partition(b"\n")[0].decode("utf-8", "replace")
    before, after = text[start:end].decode("utf-8", "replace"), new.decode("ascii")
    return LinkChange(start, f"{head}{before}{tail}", f"{head}{after}{tail}")
