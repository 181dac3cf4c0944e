"""The fields of a line of a log, and the request and the statuses among them, whatever wrote it."""

from __future__ import annotations

import re
from collections.abc import Sequence
from typing import NamedTuple

from upright_ledger.formats.logs.log_line import host_name
from upright_ledger.formats.logs.meanings.log_roles import is_method, is_target, sent_in
from upright_ledger.formats.logs.meanings.log_times import times_in

_COLOUR = re.compile(r"\x1b\[[0-9;]*[A-Za-z]|\\x1b\[[0-9;]*m")
_FOUND_IN = re.compile(
    r"\A[^\s:\"]*(?:[._-]log(?:[._-]?\d++)*+|\.(?:gz|bz2|xz|zst|txt))(?:\.(?:gz|bz2|xz|zst))?:"
    r"(?:\d+:)?(?=\S)"
)
"""The file, perhaps with the number of the line, as `grep` writes them."""
_LOGGED = re.compile(r"\A(?:DEBUG|INFO|WARNING|ERROR|CRITICAL):[A-Za-z_][\w.]*:")
"""As Python begins lines where nobody said how."""
_FIELD = re.compile(
    r'"([^"\\]*+(?:\\.[^"\\]*+)*+)"(?=[\s,;|)\]}]|$)|\[([^\[\]]*+)\]:?|\{([^{}]*+)\}|'
    r'([^\s"\[{|]\S*|\|)'
)
"""Takes a time that grows with the line, whatever stands in it."""
QUOTED, BRACKETED, BRACED, BARE = range(1, 5)
STATUS = re.compile(r"\(?([1-5]\d\d)\)?[,;:]?\Z")
CACHED = re.compile(r"[A-Z_]+/([1-5]\d\d)\Z")
"""As caches tell what they did, and the status beside it."""
_SAID = 2  # words before a request that make it a part of a sentence
ADDRESS = re.compile(r"[0-9A-Fa-f:.]+(?:%\w+)?(?::\d+)?\Z")
_AGENT = re.compile(
    r"(?<![\w.+-])[A-Za-z][\w.+-]*+/\d|Mozilla|bot|crawl|spider|http", re.IGNORECASE
)
PROTOCOL = re.compile(r"HTTP/\d", re.IGNORECASE)
URL = re.compile(r"(?:https?|android-app)://", re.IGNORECASE)
_WITHIN = 9  # fields behind a request among which its status is


class Field(NamedTuple):
    """A word, or a text in quotes or brackets (kind), and where it begins in its line."""

    kind: int
    text: str
    at: int


class Request(NamedTuple):
    """text: method, target and protocol. first, last: its fields."""

    text: str
    first: int
    last: int


def fields_of(line: str) -> list[Field]:
    """The words, quoted texts and texts in brackets of a line."""
    return [
        Field(kind, match[kind], match.start())
        for match in _FIELD.finditer(line)
        if (kind := match.lastindex or 0)
    ]


def request_in(fields: Sequence[Field]) -> Request | None:
    """The request of a line, quoted or in words of its own."""
    for n, field in enumerate(fields):
        if field.kind in {QUOTED, BRACKETED} and (sent := sent_in(field.text)) is not None:
            if sent.is_likely:
                return Request(sent.line, n, n)
        elif field.kind in {BARE, BRACKETED} and _begins_request(field.text.strip("'")):
            following = next(
                (m for m in range(n + 1, min(n + 3, len(fields))) if not _is_between(fields[m])),
                None,
            )
            if following is not None and _is_host_before(fields, following):
                host = fields[following].text
                target = fields[following + 1].text.rstrip("'")
                method = field.text.strip("'").upper()
                return Request(f"{method} http://{host}{target} HTTP/1.1", n, following + 1)
            if following is not None and is_target(fields[following].text):
                last = following
                if last + 1 < len(fields) and fields[last + 1].text.startswith("HTTP/"):
                    last += 1
                target = fields[following].text.rstrip("'\",;:")
                if n >= _SAID and following == len(fields) - 1:
                    target = target.removesuffix(".")  # of the sentence
                return Request(f"{field.text.strip(chr(39)).upper()} {target} HTTP/1.1", n, last)
    return None


def _is_host_before(fields: Sequence[Field], place: int) -> bool:
    """Whether the host stands in a place, and the target behind it."""
    host, behind = fields[place], fields[place + 1 : place + 2]
    return (
        bool(behind)
        and host.kind == BARE == behind[0].kind
        and behind[0].text[:1] == "/"
        and "." in host.text
        and host_name(host.text) != ""
    )


def plain_line(line: str) -> str:
    """A line without colours, without the name of the file in which somebody found it, without the
    level and the name of what logged it where these are glued to it, and without quotes around the
    whole of it.
    """
    line = _LOGGED.sub("", _FOUND_IN.sub("", _COLOUR.sub("", line)))
    whole = line[:1] == '"' == line[-1:] and '\\"' in line
    return line[1:-1].replace('\\"', '"') if whole else line


def _begins_request(text: str) -> bool:
    return is_method(text) or text in {"get", "head", "post"}


def _is_between(field: Field) -> bool:
    """Whether a field may stand between a method and its target: a sign, or a status in
    brackets.
    """
    enclosed = field.kind == BRACKETED or field.text[:1] == "("
    return field.text in {"|", "-"} or (enclosed and bool(STATUS.match(field.text)))


def statuses_in(fields: Sequence[Field], request: Request) -> list[tuple[int, str]]:
    """What may be the status of a request: how many fields behind it, or before it, and the text;
    the likeliest first.
    """
    last = min(request.last + 1 + _WITHIN, len(fields))
    behind = [(n, n - request.last) for n in range(request.last + 1, last)]
    before = [(n, n - request.first) for n in range(request.first)]
    within = range(request.first + 1, request.last)
    behind = [(n, n - request.last) for n in within if _is_between(fields[n])] + behind
    found = [
        (fields[n].kind, at, match[1])
        for n, at in behind + before
        if fields[n].kind != BRACED
        and (match := STATUS.match(fields[n].text) or CACHED.match(fields[n].text))
    ]
    told = [(at, text) for kind, at, text in found if kind != QUOTED]
    return told or [(at, text) for _, at, text in found]


def looks_like_agent(text: str) -> bool:
    """Whether a text is what browsers and bots say of themselves."""
    return (
        bool(_AGENT.search(text))
        and not PROTOCOL.match(text)
        and not URL.match(text)
        and "/" in text
        and not is_target(text)
        and not times_in(text)
    )


def bare_agent(line: str) -> str | None:
    """What a browser, or one that gives itself out as such, said of itself, without quotes around
    it: up to a sign that divides a line, to a bracket that was opened before it, or to the end but
    for a client's address.
    """
    at = line.find(_BROWSER)
    if at < 0:
        return None
    depth, end = 0, len(line)
    for n in range(at, end):
        sign = line[n]
        depth += (sign in _OPENING) - (sign in _CLOSING)
        if depth < 0 or sign in _DIVIDING:
            end = n
            break
    agent = line[at:end].strip()
    before, _, last = agent.rpartition(" ")
    return before if is_client(last) else agent


_BROWSER = "Mozilla/"
_OPENING, _CLOSING, _DIVIDING = "([{", ")]}", "|\t\"'"


def is_client(text: str) -> bool:
    """Whether a text is the address of a client (IPv4)."""
    return text.count(".") == _DOTS and ADDRESS.match(text) is not None


_DOTS = 3
