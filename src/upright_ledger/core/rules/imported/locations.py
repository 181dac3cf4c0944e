"""The destination that an imported rule gives a request, percent-encoded as the server it comes
from does it.
"""

from __future__ import annotations

import re
from typing import Any

from upright_ledger.core.rules.imported.rule import (
    AT_END,
    AT_END_WHOLE,
    GROUPS,
    PATH,
    REWRITTEN,
    WHOLE,
    WHOLE_BARE,
    ImportedRequest,
    ImportedRule,
    PieceKind,
    QueryEdit,
    bytewise,
)
from upright_ledger.core.url.request_target import encode_path

_ARGUMENT_SIGNS = re.compile(r"[^A-Za-z0-9!$'()*,\-./:=@_~\[\]]")
"""What nginx 1.22 encodes in a query, by the table of ngx_escape_uri."""


def location_of(rule: ImportedRule, request: ImportedRequest, own: Any, last: Any) -> str | None:
    """What a rule answers a request with as its destination, as the server writes it; None where
    the server gives an error instead.
    """
    if not rule.destination:
        return ""
    parts = [_part(kind, value, rule, request, own, last) for kind, value in rule.destination]
    text = "".join(parts)
    if rule.base and not re.match(r"/|[A-Za-z][A-Za-z0-9+.-]*://", text):
        text = rule.base + text
    if rule.encoding in {WHOLE, WHOLE_BARE}:
        before = text.partition("?")[0]
        marks = ("?" in v for _, v in rule.destination)
        if "?" in text and not any(marks):
            return None  # it came with the request, which is refused
        location: str | None = _rewritten(
            before, text[len(before) + 1 :], "?" in text, rule, request
        )
    elif rule.encoding == REWRITTEN:
        location = _rewritten_by_nginx(text, rule, request)
    elif rule.encoding == AT_END_WHOLE:
        if not re.match(r"/|[A-Za-z][A-Za-z0-9+.-]*:", text):
            return None
        head = re.split(r"[?#]", text, maxsplit=1)[0]
        location = _with_query(_escaped(head) + text[len(head) :], rule, request)
    else:
        location = _with_query(text, rule, request)
    if location is None or re.search(r"[\x00-\x1f\x7f]", location):
        return None
    # Servers put their own address before a path, also before one that browsers would take for a
    # host.
    return _as_text(
        f"{request.scheme}://{request.host}{location}" if location.startswith("//") else location
    )


def _part(
    kind: str, value: str, rule: ImportedRule, request: ImportedRequest, own: Any, last: Any
) -> str:
    if kind == PieceKind.TEXT:
        return bytewise(value)
    if kind == PieceKind.VARIABLE:
        said = request.subject(value) if value != "is_args" else "?" if request.query else ""
        return _escaped(said) if value == PATH and rule.encoding == GROUPS else said
    found = own if kind == PieceKind.GROUP else last
    if found is None or found is True or (value.isdigit() and int(value) > found.re.groups):
        return ""
    group = (found.group(int(value) if value.isdigit() else value.encode()) or b"").decode(
        "latin-1"
    )
    if rule.encoding == REWRITTEN and re.search(r"[%+]", request.raw):
        return _ARGUMENT_SIGNS.sub(lambda m: f"%{ord(m[0]):02X}", group)
    return _escaped(group) if rule.encoding in {GROUPS, AT_END} else group


def _rewritten_by_nginx(text: str, rule: ImportedRule, request: ImportedRequest) -> str:
    """nginx's rewrite: it encodes what a pattern found as a query, and takes some of that back
    before the first question mark.
    """
    head, mark, rest = text.partition("?")
    parts = head.split("%")
    decoded = [parts[0]]
    for number, part in enumerate(parts[1:], 1):
        code = re.match(r"[0-9A-Fa-f]{2}", part)
        sign = chr(int(code[0], 16)) if code else ""
        if sign == "?":  # what follows is left as it is
            decoded.append("%".join([f"?{part[2:]}", *parts[number + 1 :]]))
            break
        # Half an escape is dropped, and a sign that has to be encoded stays so.
        lost = 2 if re.match(r"[0-9A-Fa-f]", part) else 0
        decoded.append(
            (sign if "%" < sign < "\x7f" else f"%{part[:2]}") + part[2:] if code else part[lost:]
        )
    location = "".join(decoded) + mark + rest
    if rule.query == QueryEdit.DROP or not request.query:
        return location
    return f"{location}{'&' if rule.query == QueryEdit.APPEND else '?'}{request.query}"


def _rewritten(
    path: str, query: str, has_query: bool, rule: ImportedRule, request: ImportedRequest
) -> str | None:
    """Apache's RewriteRule: it encodes the whole, and a query but for one that it was sent and
    leaves alone.
    """
    if rule.query == QueryEdit.APPEND and request.query:
        query = f"{query}&{request.query}" if has_query and query else request.query
    elif rule.query == QueryEdit.KEEP and not has_query:
        query = request.query
    bare = rule.encoding == WHOLE_BARE
    if bare and re.search(r"[\x00-\x20\x7f]", query):
        return None
    if not bare:
        scheme = re.match(r"[A-Za-z][A-Za-z0-9+.-]*://[^/]*", path)
        start = scheme[0] if scheme else ""
        path = start + _escaped(path[len(start) :])
    if not query:
        return path
    return f"{path}?{query if bare or query == request.query else _escaped(query)}"


def _with_query(text: str, rule: ImportedRule, request: ImportedRequest) -> str:
    """A destination with what its rule leaves of the request's query."""
    if rule.encoding in {AT_END, AT_END_WHOLE}:
        return (
            f"{text}?{request.query}"
            if request.query and rule.query == QueryEdit.KEEP and "?" not in text
            else text
        )
    if not request.query:
        return text
    body, mark, fragment = text.partition("#")
    if rule.query == QueryEdit.APPEND or (rule.query == QueryEdit.KEEP and "?" not in body):
        body += ("&" if "?" in body else "?") + request.query
    return f"{body}{mark}{fragment}"


def _escaped(text: str) -> str:
    return encode_path(text.encode("latin-1"))


def _as_text(location: str) -> str:
    """A location of bytes as text; bytes that are no text are percent-encoded."""
    if location.isascii():
        return location
    raw = location.encode("latin-1")
    try:
        return raw.decode("utf-8")
    except UnicodeDecodeError:
        return "".join(chr(b) if b < 0x80 else f"%{b:02X}" for b in raw)
