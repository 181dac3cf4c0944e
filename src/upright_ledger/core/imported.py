"""Imported rules: what a server's own files do, in their order and with their meaning.

The first rule of a block that fits answers. Patterns are of the regular kind that RE2 reads, so no input makes them slow.
"""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from dataclasses import asdict, dataclass, replace
from functools import lru_cache
from heapq import merge
from typing import Any

import re2

from upright_ledger.core.addresses import canonical_path as canonical
from upright_ledger.core.addresses import decoded_path, encode_path, lower_ascii
from upright_ledger.core.template_rules import PASS

KEEP, APPEND, DROP = "keep", "append", "drop"
"""What happens to a request's query: it goes on unless the destination has one, it is added to that, or neither."""

GROUPS, BARE, WHOLE, WHOLE_BARE, AT_END, AT_END_WHOLE = (
    "groups",
    "bare",
    "whole",
    "whole-bare",
    "at-end",
    "at-end-whole",
)
"""How a destination is percent-encoded: what is put in; nothing; Apache's RewriteRule, without and with flag NE; its Redirect and RedirectMatch."""

PATH, INNER, RAW, TARGET, QUERY, HOST, SCHEME, PORT, REQUEST = (
    "path", "inner", "raw", "target", "query", "host", "scheme", "port", "request",
)  # fmt: skip
"""What a pattern looks at: the decoded path, the same below a folder, the path as sent, that and its query, the query, host, scheme, port, or request line."""

TEXT, GROUP, CONDITION, VARIABLE = "text", "group", "condition", "variable"
"""Pieces of a destination: a text, a group of the rule's own pattern, one of its last condition, and a variable of the request."""

# A pattern that is one path but for a closing slash or, after a prefix, what follows it.
_ONE_PATH = re.compile(
    r"\^((?:[A-Za-z0-9_/~%,;:@=&!'\" -]|\\[^A-Za-z0-9])+?)(?:/\?)?(?:\(\.\*\)|\(\(\?:/\.\*\)\?\))?\$"
)

Piece = tuple[str, str]


class NotUnderstoodError(ValueError):
    """A pattern or construct whose meaning is not known; the message says why, in a few words."""


@lru_cache(maxsize=1 << 14)
def compiled(pattern: str, nocase: bool) -> Any:
    """A pattern, to be searched in bytes. Raises NotUnderstoodError where RE2 does not read it."""
    options = re2.Options()
    options.log_errors = False
    options.encoding = re2.Options.Encoding.LATIN1  # a byte at a time, as servers match
    options.case_sensitive = not nocase
    options.dot_nl = True
    try:
        return re2.compile(pattern.encode("utf-8", "surrogateescape"), options)
    except re2.error as error:
        said = error.args[0].decode() if error.args and isinstance(error.args[0], bytes) else str(error)
        raise NotUnderstoodError(f"its pattern is not of the regular kind ({said})") from None


@dataclass(frozen=True, slots=True)
class Condition:
    """A further pattern that must fit. literal: the whole subject equals it. or_next: it may fit instead of the next one."""

    subject: str
    pattern: str
    literal: bool = False
    nocase: bool = False
    negate: bool = False
    or_next: bool = False


def alternatives(conditions: Sequence[Condition]) -> list[Condition]:
    """Conditions of which one has to fit."""
    return [replace(c, or_next=n < len(conditions)) for n, c in enumerate(conditions, 1)]


@dataclass(frozen=True, slots=True)
class ImportedRule:
    """One rule. where: file and line. literal: the whole subject equals the pattern. status PASS: nothing is answered.

    destination: pieces in turn; empty for 410 and PASS. query: what happens to the request's. encoding: how the destination is
    percent-encoded. below: the folder whose inner paths an INNER pattern looks at. base: what a destination begins with that turns out
    relative. stage: of the server's modules, the one that reads it. ends: whether nothing later answers where it passes, as something else
    does; else only later rules of its stage do not.
    """

    where: str
    subject: str
    pattern: str
    status: int
    destination: tuple[Piece, ...] = ()
    literal: bool = False
    nocase: bool = False
    negate: bool = False
    conditions: tuple[Condition, ...] = ()
    query: str = KEEP
    encoding: str = GROUPS
    below: str = "/"
    base: str = ""
    stage: int = 0
    ends: bool = True

    def as_dict(self) -> dict[str, Any]:
        """For storing; see `from_dict`."""
        return asdict(self)

    @classmethod
    def from_dict(cls, values: Mapping[str, Any]) -> ImportedRule:
        """The inverse of `as_dict`."""
        known = dict(values)
        if "escape" in known:  # as it was kept before there were more ways than two
            known["encoding"] = GROUPS if known.pop("escape") else BARE
        known["destination"] = tuple((str(k), str(v)) for k, v in known["destination"])
        known["conditions"] = tuple(Condition(**c) for c in known["conditions"])
        return cls(**known)

    @property
    def address(self) -> str:
        """The one path (and query) that it is about, as far as it is about one; else an empty string."""
        if self.negate:
            return ""
        if self.literal:
            return self.pattern if self.subject in {PATH, RAW, TARGET} else ""
        match = _ONE_PATH.fullmatch(self.pattern) if self.subject in {PATH, INNER, RAW, TARGET} else None
        if match is None:
            return ""
        return (self.below if self.subject == INNER else "/") + re.sub(r"\\(.)", r"\1", match[1]).lstrip("/")

    @property
    def is_pattern(self) -> bool:
        """Whether it is about more than one address."""
        return not self.literal and (not self.address or "(" in self.pattern)

    @property
    def head(self) -> str:
        """What every path that fits begins with, as far as its pattern says so in plain letters."""
        if self.negate or self.subject not in {PATH, INNER, RAW, TARGET}:
            return ""
        folder = self.below if self.subject == INNER else ""
        match = re.match(r"\^((?:[A-Za-z0-9_/~,;:@=&!'-]|\\[^A-Za-z0-9])*)", self.pattern)
        if match is None or not match[1] or "|" in self.pattern:
            return folder if folder != "/" else ""
        # The last letter may be optional or repeated.
        return folder + re.sub(r"\\(.)", r"\1", match[1])[:-1]

    @property
    def host(self) -> str:
        """The one host that it is for, or an empty string."""
        named = [c for c in self.conditions if c.subject == HOST and c.literal and not c.negate]
        return named[0].pattern if len(named) == 1 else ""

    def check(self) -> None:
        """Raises NotUnderstoodError for a pattern that cannot be read, or a group that it does not have."""
        groups: set[str] = set()
        if not self.literal:
            pattern = compiled(self.pattern, self.nocase)
            groups = {str(n) for n in range(pattern.groups + 1)} | {n.decode() for n in pattern.groupindex}
        for condition in self.conditions:
            if not condition.literal:
                compiled(condition.pattern, condition.nocase)
        for kind, value in self.destination:
            if kind == GROUP and value not in groups:
                raise NotUnderstoodError(f"it names the group {value}, which its pattern does not have")


@dataclass(frozen=True, slots=True)
class Request:
    """A request as patterns see it. path: decoded, a letter a byte (ISO 8859-1); raw: the path as sent; host: without port, lower case; scheme: of the site."""

    host: str
    path: str
    raw: str
    query: str
    scheme: str

    def subject(self, name: str) -> str:
        """What a pattern looks at."""
        target = f"{self.raw}?{self.query}" if self.query else self.raw
        if name == TARGET:
            return target
        if name == PORT:
            return "443" if self.scheme == "https" else "80"
        return f"GET {target} HTTP/1.1" if name == REQUEST else str(getattr(self, name))


def request_of(origin: str, host: str, target: str) -> Request:
    """A request to a host whose site has this origin. target: as sent."""
    raw, _, query = target.partition("?")
    path = decoded_path(canonical(raw)).decode("latin-1")
    return Request(host.partition(":")[0], path, raw, query, origin.partition("://")[0])


class Block:
    """The rules of one file, asked in their order. Literal ones are looked up, so that many of them cost little."""

    def __init__(self, rules: Sequence[ImportedRule]) -> None:
        self.rules = tuple(rules)
        self._literal: dict[tuple[str, str], list[int]] = {}
        self._below: dict[str, list[int]] = {}  # patterns for one path and what lies below it, by that path
        self._others: list[int] = []
        for n, rule in enumerate(self.rules):
            if rule.literal and not rule.negate and rule.subject in {PATH, RAW, TARGET}:
                text = _bytewise(lower_ascii(rule.pattern) if rule.nocase else rule.pattern)
                self._literal.setdefault((rule.subject + ("i" if rule.nocase else ""), text), []).append(n)
            elif top := _top(rule):
                self._below.setdefault(top, []).append(n)
            else:
                self._others.append(n)
        self._kinds = sorted({kind for kind, _ in self._literal})

    def find(self, request: Request) -> tuple[ImportedRule, str] | None:
        """The first rule that fits, and its destination, which may be relative; None where none does."""
        numbers: list[int] = []
        for kind in self._kinds:
            text = request.subject(kind.removesuffix("i"))
            numbers += self._literal.get((kind, lower_ascii(text) if kind.endswith("i") else text), ())
        if self._below:
            path = lower_ascii(request.path).rstrip("/")
            while path:
                numbers += self._below.get(path, ())
                path = path.rpartition("/")[0]
        done: set[int] = set()
        for n in merge(sorted(numbers), self._others):
            rule = self.rules[n]
            if rule.stage in done:
                continue
            found = _fits(rule, request)
            if found is not None and not rule.ends:
                done.add(rule.stage)
            elif found is not None:
                location = _location(rule, request, *found)
                # What cannot be said is no answer: the server gives an error.
                return (rule, location) if location is not None else (replace(rule, status=PASS, destination=()), "")
        return None


def _top(rule: ImportedRule) -> str:
    """The path (in lower case, without a closing slash) at or below which every path lies that a pattern fits; empty where it is not plain to see."""
    if rule.negate or rule.literal or rule.subject not in {PATH, INNER} or not rule.address:
        return ""
    literal = rule.pattern.removesuffix("$").removesuffix("(.*)")
    if rule.pattern.endswith("(.*)$") and not literal.endswith("/"):
        return ""  # it goes on within the name
    return lower_ascii(rule.address).rstrip("/")


def _fits(rule: ImportedRule, request: Request) -> tuple[Any, Any] | None:
    """The matches of a rule's own pattern and of its last condition; None where it does not fit."""
    if rule.subject == INNER:
        if not request.path.startswith(_bytewise(rule.below)):
            return None
        text = request.path[len(_bytewise(rule.below)) :]
    else:
        text = request.subject(rule.subject)
    own = _found(text, rule.pattern, rule)
    if bool(own) == rule.negate:
        return None
    last, open_or = None, False
    for condition in rule.conditions:
        if open_or:
            open_or = condition.or_next
            continue
        found = _found(request.subject(condition.subject), condition.pattern, condition)
        if bool(found) == condition.negate:
            if condition.or_next:
                continue
            return None
        if not condition.literal and not condition.negate:
            last = found
        open_or = condition.or_next
    return own, last


def _found(text: str, pattern: str, how: ImportedRule | Condition) -> Any:
    """Whether a text equals a literal, or what a pattern finds in it."""
    if not how.literal:
        return compiled(pattern, how.nocase).search(text.encode("latin-1", "replace"))
    wanted = _bytewise(pattern)
    return lower_ascii(text) == lower_ascii(wanted) if how.nocase else text == wanted


def _bytewise(text: str) -> str:
    """A text of a file as requests hold it, a letter a byte."""
    return text if text.isascii() else text.encode("utf-8", "surrogateescape").decode("latin-1")


def _location(rule: ImportedRule, request: Request, own: Any, last: Any) -> str | None:
    """What a rule answers a request with as its destination, as the server writes it; None where the server gives an error instead."""
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
        location: str | None = _rewritten(before, text[len(before) + 1 :], "?" in text, rule, request)
    elif rule.encoding == AT_END_WHOLE:
        if not re.match(r"/|[A-Za-z][A-Za-z0-9+.-]*:", text):
            return None
        head = re.split(r"[?#]", text, maxsplit=1)[0]
        location = _with_query(_escaped(head) + text[len(head) :], rule, request)
    else:
        location = _with_query(text, rule, request)
    return None if location is None or re.search(r"[\x00-\x1f\x7f]", location) else _as_text(location)


def _part(kind: str, value: str, rule: ImportedRule, request: Request, own: Any, last: Any) -> str:
    if kind == TEXT:
        return _bytewise(value)
    if kind == VARIABLE:
        said = request.subject(value) if value != "is_args" else "?" if request.query else ""
        return _escaped(said) if value == PATH and rule.encoding == GROUPS else said
    found = own if kind == GROUP else last
    if found is None or found is True or (value.isdigit() and int(value) > found.re.groups):
        return ""
    group = (found.group(int(value) if value.isdigit() else value.encode()) or b"").decode("latin-1")
    return _escaped(group) if rule.encoding in {GROUPS, AT_END} else group


def _rewritten(path: str, query: str, has_query: bool, rule: ImportedRule, request: Request) -> str | None:
    """Apache's RewriteRule: it encodes the whole, and a query but for one that it was sent and leaves alone."""
    if rule.query == APPEND and request.query:
        query = f"{query}&{request.query}" if has_query and query else request.query
    elif rule.query == KEEP and not has_query:
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


def _with_query(text: str, rule: ImportedRule, request: Request) -> str:
    """A destination with what its rule leaves of the request's query."""
    if rule.encoding in {AT_END, AT_END_WHOLE}:
        return f"{text}?{request.query}" if request.query and rule.query == KEEP and "?" not in text else text
    if not request.query:
        return text
    body, mark, fragment = text.partition("#")
    if rule.query == APPEND or (rule.query == KEEP and "?" not in body):
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
