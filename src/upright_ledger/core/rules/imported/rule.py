"""Imported rules: what a server's own files do, in their order and with their meaning.

The first rule of a block that fits answers. Patterns are of the regular kind that RE2 reads, so no
input makes them slow.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import asdict, dataclass, replace
from functools import lru_cache
from typing import Any

import re2

from upright_ledger.core.url.request_target import canonical_path as canonical
from upright_ledger.core.url.request_target import decoded_path, lower_ascii
from upright_ledger.core.word import Word


class QueryEdit(Word):
    """What happens to a request's query: it goes on unless the destination has one, it is added
    to that, or neither.
    """

    KEEP = "keep"
    APPEND = "append"
    DROP = "drop"


GROUPS, BARE, REWRITTEN, WHOLE, WHOLE_BARE, AT_END, AT_END_WHOLE = (
    "groups", "bare", "rewritten", "whole", "whole-bare", "at-end", "at-end-whole",
)  # fmt: skip
"""How a destination is percent-encoded: what is put in; nothing; nginx's rewrite; Apache's
RewriteRule, without and with flag NE; its Redirect and RedirectMatch.
"""

PATH, INNER, RAW, TARGET, QUERY, HOST, SCHEME, PORT, METHOD, REQUEST = (
    "path", "inner", "raw", "target", "query", "host", "scheme", "port", "method", "request",
)  # fmt: skip
"""What a pattern looks at: the decoded path, the same below a folder, the path as sent, that and
its query, the query, host, scheme, port, or request line.
"""

ARGUMENT = "argument:"
"""What stands before the name of a parameter, where a pattern looks at its first value, as sent."""


class PieceKind(Word):
    """Pieces of a destination: a text, a group of the rule's own pattern, one of its last
    condition, and a variable of the request.
    """

    TEXT = "text"
    GROUP = "group"
    CONDITION = "condition"
    VARIABLE = "variable"


# A pattern that is one path but for a closing slash or, after a prefix, what follows it.
_ONE_PATH = re.compile(
    r"\^((?:[A-Za-z0-9_/~%,;:@=&!'\" "
    r"-]|\\[^A-Za-z0-9])+?)(?:/\?)?(?:\(\.\*\)|\(\(\?:/\.\*\)\?\))?\$"
)

Piece = tuple[str, str]


STAGES_WITHIN = 1_000_000
"""Stages within one: those of stage 3 are 3,000,000 and up, and are over where stage 3 is."""


_MOST_GROUPS = 200
"""No server can name more than a few; each costs time at each character that is looked at."""


class PatternNotUnderstoodError(ValueError):
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
        found = re2.compile(pattern.encode("utf-8", "surrogateescape"), options)
    except re2.error as error:
        said = (
            error.args[0].decode()
            if error.args and isinstance(error.args[0], bytes)
            else str(error)
        )
        raise PatternNotUnderstoodError(
            f"its pattern is not of the regular kind ({said})"
        ) from None
    if found.groups > _MOST_GROUPS:
        raise PatternNotUnderstoodError(f"its pattern has {found.groups:,} groups")
    return found


@dataclass(frozen=True, slots=True)
class Condition:
    """A further pattern that must fit. literal: the whole subject equals it. or_next: it may fit
    instead of the next one.
    """

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
    """One rule. where: file and line. literal: the whole subject equals the pattern. status PASS:
    nothing is answered.

    destination: pieces in turn; empty for 410 and PASS. query: what happens to the request's.
    encoding: how the destination is percent-encoded. below: the folder whose inner paths an INNER
    pattern looks at. base: what a destination begins with that turns out relative. stage: of the
    server's modules, the one that reads it. ends: whether nothing later answers where it passes, as
    something else does; else only later rules of its stage do not.
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
    query: QueryEdit = QueryEdit.KEEP
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
        """The one path (and query) that it is about, as far as it is about one; else an empty
        string.
        """
        if self.negate:
            return ""
        if self.literal:
            return self.pattern if self.subject in {PATH, RAW, TARGET} else ""
        match = (
            _ONE_PATH.fullmatch(self.pattern)
            if self.subject in {PATH, INNER, RAW, TARGET}
            else None
        )
        if match is None:
            return ""
        return (self.below if self.subject == INNER else "/") + re.sub(
            r"\\(.)", r"\1", match[1]
        ).lstrip("/")

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
        if match is None or not match[1] or _has_alternatives(self.pattern):
            return folder if folder != "/" else ""
        # The last letter may be optional or repeated.
        return folder + re.sub(r"\\(.)", r"\1", match[1])[:-1]

    @property
    def host(self) -> str:
        """The one host that it is for, or an empty string."""
        named = [c for c in self.conditions if c.subject == HOST and c.literal and not c.negate]
        return named[0].pattern if len(named) == 1 else ""

    @property
    def names_host(self) -> bool:
        """Whether it says for which hosts it is."""
        return any(c.subject == HOST for c in self.conditions)

    def for_hosts(self, hosts: Sequence[str]) -> ImportedRule:
        """The rule, for these hosts alone where it names none."""
        if self.names_host:
            return self
        these = alternatives([Condition(HOST, host, literal=True) for host in hosts])
        return replace(self, conditions=(*these, *self.conditions))

    def check(self) -> None:
        """Raises NotUnderstoodError for a pattern that cannot be read, or a group that it does not
        have.
        """
        groups: set[str] = set()
        if not self.literal:
            pattern = compiled(self.pattern, self.nocase)
            groups = {str(n) for n in range(pattern.groups + 1)} | {
                n.decode() for n in pattern.groupindex
            }
        for condition in self.conditions:
            if not condition.literal:
                compiled(condition.pattern, condition.nocase)
        for kind, value in self.destination:
            if kind == PieceKind.GROUP and value not in groups:
                raise PatternNotUnderstoodError(
                    f"it names the group {value}, which its pattern does not have"
                )

    @property
    def groups(self) -> Iterator[tuple[Condition, ...]]:
        """Its conditions in groups, of each of which one has to hold."""
        group: list[Condition] = []
        for condition in self.conditions:
            group.append(condition)
            if not condition.or_next:
                yield tuple(group)
                group = []
        if group:
            yield tuple(group)


def _has_alternatives(pattern: str) -> bool:
    """Whether a pattern has alternatives outside of its groups."""
    plain = re.sub(r"\\.|\[\^?\]?[^\]]*\]", "", pattern)
    depth = 0
    for sign in plain:
        depth += (sign == "(") - (sign == ")")
        if sign == "|" and depth <= 0:
            return True
    return False


@dataclass(frozen=True, slots=True)
class ImportedRequest:
    """A request as patterns see it. path: decoded, a letter a byte (ISO 8859-1); raw: the path as
    sent; target: the same with its query; host: without port, lower case; scheme: of the site.
    """

    host: str
    path: str
    raw: str
    query: str
    scheme: str
    target: str

    def subject(self, name: str) -> str:
        """What a pattern looks at."""
        if name == PORT:
            return "443" if self.scheme == "https" else "80"
        if name == METHOD:
            return "GET"
        if name.startswith(ARGUMENT):
            return self.argument(name.removeprefix(ARGUMENT))
        return f"GET {self.target} HTTP/1.1" if name == REQUEST else str(getattr(self, name))

    def argument(self, name: str) -> str:
        """The first value of a parameter, whose name counts without case; empty where it has
        none.
        """
        found = (p.partition("=") for p in self.query.split("&"))
        return next((v for n, sign, v in found if sign and lower_ascii(n) == lower_ascii(name)), "")


def request_of(origin: str, host: str, target: str) -> ImportedRequest:
    """A request to a host whose site has this origin. target: as sent."""
    raw, _, query = target.partition("?")
    path = decoded_path(canonical(raw)).decode("latin-1")
    return ImportedRequest(
        host.partition(":")[0], path, raw, query, origin.partition("://")[0], target
    )


def bytewise(text: str) -> str:
    """A text of a file as requests hold it, a letter a byte."""
    return text if text.isascii() else text.encode("utf-8", "surrogateescape").decode("latin-1")
