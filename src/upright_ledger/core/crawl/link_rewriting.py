"""Putting other addresses in the place of some in exported text: SQL, XML, HTML, Markdown, JSON,
whatever they are quoted in.

An address is replaced as a whole or not at all, in the way in which it was written: with or without
its host, with escaped slashes or `&amp;`, its fragment kept. Within strings that carry their length
(serialised data) nothing is changed, and that is counted.
"""

from __future__ import annotations

import re
from bisect import bisect_left
from collections.abc import Iterator, Mapping
from typing import NamedTuple

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


class Replaced(NamedTuple):
    """A text with its changes. left: addresses that stand in strings with a length and were left
    alone.
    """

    text: bytes
    changes: list[LinkChange]
    left: int


def replace_in(text: bytes, table: Mapping[str, str]) -> Replaced:
    """Put addresses in the place of others. table: absolute address, without fragment → the one to
    put there.

    A path without a host is taken to be on the host of the address in the table.
    """
    paths = {split_text(old)[2]: old for old in table}
    hosts = {split_text(old)[1] for old in table}
    lengths = [(m.end(), int(m[1])) for m in _LENGTH.finditer(text)]
    out: list[bytes] = []
    changes: list[LinkChange] = []
    done = left = 0
    for match in _CANDIDATE.finditer(text):
        for new, end in _replacement(match, table, paths, hosts):
            if _is_serialised(text, match.start(), lengths):
                left += 1
                continue
            out += [text[done : match.start()], new]
            changes.append(_change(text, match.start(), end, new))
            done = end
    out.append(text[done:])
    return Replaced(b"".join(out), changes, left)


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


def _replacement(
    match: re.Match[bytes], table: Mapping[str, str], paths: Mapping[str, str], hosts: set[str]
) -> Iterator[tuple[bytes, int]]:
    """What to put in the place of a candidate, and where it ends; nothing where the table does not
    know it.
    """
    host = (match["host"] or b"").decode("ascii").lower()
    if host and host not in hosts:
        return
    written = match["path"]
    while written and written[-1:] in _TRAILING:
        written = written[:-1]
    address, mark, fragment = written.partition(b"#")
    plain = address.replace(b"\\/", b"/").replace(b"&amp;", b"&").decode("latin-1")
    old = _known(
        f"{(match['scheme'] or b'').decode() or 'http:'}//{host}{plain}" if host else "",
        plain,
        table,
        paths,
    )
    if not old:
        return
    new = table[old]
    scheme, authority, target = split_text(new)
    if host:
        given = f"{scheme}:" if match["scheme"] else ""
        text = f"{given}//{authority}{target}"
    else:
        text = target if authority == split_text(old)[1] else new
    if b"\\/" in match[0]:
        text = text.replace("/", "\\/")
    if b"&amp;" in address:
        text = text.replace("&", "&amp;")
    yield text.encode("ascii") + mark + fragment, match.start("path") + len(written)


def _known(url: str, path: str, table: Mapping[str, str], paths: Mapping[str, str]) -> str:
    """The address of the table that a candidate is, whatever its scheme; empty where it is none."""
    try:
        if not url:
            return paths.get(path, "")
        address = parse_address(url)
    except NotAnAddressError:
        return ""
    for scheme in ("http", "https"):
        text = address._replace(scheme=scheme, fragment="").without_fragment
        if text in table:
            return text
    return ""


def _change(text: bytes, start: int, end: int, new: bytes) -> LinkChange:
    """A change with what stands around it on its line."""
    head = text[max(0, start - _AROUND) : start].rpartition(b"\n")[2].decode("utf-8", "replace")
    tail = text[end : end + _AROUND].partition(b"\n")[0].decode("utf-8", "replace")
    before, after = text[start:end].decode("utf-8", "replace"), new.decode("ascii")
    return LinkChange(start, f"{head}{before}{tail}", f"{head}{after}{tail}")
