"""Which location of an nginx server a request meets, and what is asked before."""

from __future__ import annotations

import re
from bisect import bisect_right
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from itertools import islice, takewhile

from upright_ledger.core.rules.imported.blocks import Block
from upright_ledger.core.rules.imported.rule import (
    PATH,
    QUERY,
    Condition,
    ImportedRule,
    PatternNotUnderstoodError,
    PieceKind,
    alternatives,
    compiled,
    request_of,
)
from upright_ledger.core.rules.templates.template_index import PASS
from upright_ledger.formats.server_config.nginx import NginxPlace, StepReader
from upright_ledger.formats.server_config.nginx_config import MapTable, Statement, all_of
from upright_ledger.formats.server_config.nginx_expressions import pattern_of
from upright_ledger.formats.server_config.rules_read import RulesRead, ServerSetup, or_everything

_SERVER = 1
"""The stage of what stands beside the locations."""
_HANDERS = {"proxy_pass", "fastcgi_pass", "uwsgi_pass", "scgi_pass", "grpc_pass", "memcached_pass"}
_CHANGES_ALL = {("merge_slashes", "off"), ("server_name_in_redirect", "on")}
_FALLBACKS = 200
"""How many fallbacks of a server are followed; others may lead anywhere."""
_SIGNS = {"=", "~", "~*", "^~"}


@dataclass(frozen=True)
class _Location:
    """A location. sign: as written; empty for a plain prefix. internal: whether no request from
    outside gets there.
    """

    statement: Statement
    sign: str
    path: str
    internal: bool = False

    @property
    def begins(self) -> Condition:
        """What its requests look like."""
        if self.sign == "=":
            return Condition(PATH, self.path, literal=True)
        if self.sign in {"~", "~*"}:
            return Condition(PATH, pattern_of(self.path), nocase=self.sign == "~*")
        return Condition(PATH, f"^{re.escape(self.path)}")

    @property
    def is_prefix(self) -> bool:
        return self.sign in {"", "^~"}

    @property
    def inner(self) -> list[_Location]:
        return locations_of(self.statement.inner, internal=self.internal)


def locations_of(statements: Sequence[Statement], *, internal: bool = False) -> list[_Location]:
    """The locations that stand directly among statements, without those that only the server itself
    goes to.
    """
    out = []
    for s in statements:
        if s.name == "location" and s.block is not None and len(s.words) > 1:
            sign, path = (s.words[1], s.words[2]) if len(s.words) > 2 else ("", s.words[1])
            if sign not in _SIGNS and len(s.words) == 2:
                found = re.match(r"(\^~|=|~\*|~)(.+)", path)
                sign, path = (found[1], found[2]) if found else ("", path)
            if not path.startswith("@"):
                out.append(
                    _Location(s, sign, path, internal or any(x.name == "internal" for x in s.inner))
                )
    return out


class ServerReader:
    """Reads one server after the other into one list of rules. around: statements that stand
    outside of all servers.
    """

    def __init__(
        self,
        name: str,
        tables: Mapping[str, MapTable],
        given: ServerSetup,
        around: Sequence[Statement],
    ) -> None:
        self.name, self.around = name, around
        self.out = RulesRead()
        self._steps = StepReader(tables, given, self.miss)
        self.out.rules = self._steps.rules

    def miss(self, s: Statement, why: str) -> None:
        """Note, once, what was not understood."""
        self.out.miss(s.line, why, s.text)

    def server(self, statements: Sequence[Statement], place: NginxPlace, line: int) -> None:
        """All that a server answers. line: where it begins; nobody else answers for it, unless it
        is 0.
        """
        start = len(self.out.rules)
        for s in (*self.around, *all_of(statements)):
            if tuple(s.words) in _CHANGES_ALL:
                self.miss(s, "it changes what all rules see or say")
                self._steps.passes(f"{self.name}:{s.line}", place)
        ended = self._steps.read(statements, replace(place, stage=_SERVER))
        broken = any(
            r.stage == _SERVER and not r.ends for r in self.out.rules[start:]
        )  # some never get to the end
        if ended != "return" or broken:
            found = locations_of(statements)
            self._strong(found, place)
            self._weak(found, place)
        if line:
            self._steps.passes(f"{self.name}:{line}", place, silent=True)
        self._led_elsewhere(statements, start)

    def map(self, table: MapTable) -> None:
        """What a map includes."""
        self._steps.read_map(table, NginxPlace(self.name))

    # Locations, as ngx_http_core_find_location asks them

    def _strong(self, found: Sequence[_Location], place: NginxPlace) -> None:
        """What is taken before the longest prefix: exact paths, and patterns, those within the
        prefix that fits before those beside it.
        """
        for one in (x for x in found if x.sign == "="):
            self._contents(one, place)
        taken = {x.path for x in found if x.sign not in {"~", "~*"}}
        for one in found:
            self._slash(one, taken, place)
        prefixes = sorted((x for x in found if x.is_prefix), key=lambda x: -len(x.path))
        in_order = sorted(prefixes, key=lambda x: x.path)
        for one in prefixes:
            if one.inner:
                longer = [replace(x.begins, negate=True) for x in _within(one, in_order)]
                self._strong(one.inner, place.within(one.begins, *longer))
        patterns = [x for x in found if x.sign in {"~", "~*"}]
        kept = (
            [c for x in prefixes if x.sign == "^~" for c in _not_below(x, in_order)]
            if patterns
            else []
        )
        for one in patterns:
            try:
                compiled(one.begins.pattern, one.begins.nocase)
            except PatternNotUnderstoodError as error:
                self.miss(one.statement, str(error))
                rule = ImportedRule(
                    f"{self.name}:{one.statement.line}",
                    PATH,
                    one.begins.pattern,
                    PASS,
                    nocase=one.sign == "~*",
                )
                self.out.rules.append(
                    or_everything(replace(rule, conditions=(*place.conditions, *kept)))
                )
                continue
            inside = place.within(*kept, one.begins)
            self._strong(one.inner, inside)
            self._weak(one.inner, inside)
            self._contents(one, place.within(*kept))

    def _weak(self, found: Sequence[_Location], place: NginxPlace) -> None:
        """The longest prefix, and the longest within it."""
        for one in sorted((x for x in found if x.is_prefix), key=lambda x: -len(x.path)):
            self._weak(one.inner, place.within(one.begins))
            self._contents(one, place)

    def _contents(self, one: _Location, place: NginxPlace) -> None:
        s = one.statement
        inside = replace(place, own=one.begins, in_location=True)
        if not one.internal:
            self._steps.read(s.inner, inside)
        self._steps.passes(f"{self.name}:{s.line}", inside, silent=True)

    def _slash(self, one: _Location, taken: set[str], place: NginxPlace) -> None:
        """What is handed on below a path with a closing slash is redirected there without it."""
        bare = one.path.removesuffix("/")
        hands = any(s.name in _HANDERS for s in one.statement.inner)
        if (
            one.sign in {"", "^~", "="}
            and hands
            and bare not in {"", one.path}
            and bare not in taken
        ):
            pieces = (
                (PieceKind.TEXT, one.path),
                (PieceKind.VARIABLE, "is_args"),
                (PieceKind.VARIABLE, QUERY),
            )
            here = replace(place, own=Condition(PATH, bare, literal=True))
            self._steps.passes(f"{self.name}:{one.statement.line}", here)
            self.out.rules[-1] = replace(self.out.rules[-1], status=301, destination=pieces)

    # What the server answers by itself

    def _led_elsewhere(self, statements: Sequence[Statement], start: int) -> None:
        """Name what leads from an answer without a redirect to one, inside the server."""
        named = {
            s.words[-1]: s
            for s in statements
            if s.name == "location" and s.words[-1].startswith("@")
        }
        whole = [
            replace(r, conditions=tuple(c for c in r.conditions if c.subject == PATH))
            for r in self.out.rules[start:]
        ]
        asked = _Fallbacks(Block(whole), named, {line for line, _, _ in self.out.missed})
        pages = [
            s
            for s in [*self.around, *all_of(statements)]
            if s.name == "error_page" and len(s.words) > 2 and asked.leads(s)
        ]
        tried: dict[int, Statement] = {}
        for location in (s for s in all_of(statements) if s.name == "location"):
            found = [
                s
                for s in location.inner
                if s.name == "try_files" and len(s.words) > 2 and asked.leads(s)
            ]
            tried.update((location.line, s) for s in found)
        for s in [*pages, *tried.values()]:
            self.miss(s, "it may lead to a redirect inside the server")
        taken = {int(w): s for s in pages for w in s.words[1:-1] if w.isdigit()}
        for number in range(start, len(self.out.rules)) if pages or tried else ():
            rule = self.out.rules[number]
            by = taken.get(rule.status)
            if number in self._steps.silent:
                by = tried.get(int(rule.where.rpartition(":")[2]), pages[0] if pages else None)
            if by is not None:
                self.out.rules[number] = replace(rule, status=PASS, where=f"{self.name}:{by.line}")


@dataclass
class _Fallbacks:
    """What a server falls back to. rules: its own. named: its locations with a name. missed: lines
    that were not understood.
    """

    rules: Block
    named: Mapping[str, Statement]
    missed: set[int]
    known: dict[str, bool] = field(default_factory=dict)

    def leads(self, s: Statement) -> bool:
        """Whether a fallback may be a redirect."""
        if s.name == "error_page" and any(w.startswith("=") for w in s.words[1:-1]):
            return True
        goal = s.words[-1]
        if goal not in self.known:
            self.known[goal] = len(self.known) >= _FALLBACKS or self._leads(goal)
        return self.known[goal]

    def _leads(self, goal: str) -> bool:
        if goal.startswith("="):
            return False
        if goal.startswith("@"):
            steps = {"return", "rewrite", "error_page", "try_files", "include"}
            return goal not in self.named or any(
                x.name in steps for x in all_of(self.named[goal].inner)
            )
        path = goal.partition("?")[0]
        if not path.startswith("/") or "$" in path:
            return True
        found = self.rules.find(request_of("http://h", "h", path))
        return found is not None and (
            found[0].status != PASS or int(found[0].where.rpartition(":")[2]) in self.missed
        )


def _within(one: _Location, in_order: Sequence[_Location]) -> Iterator[_Location]:
    """The longer prefixes that begin with this one, of all by their paths."""
    start = bisect_right(in_order, one.path, key=lambda x: x.path)
    return takewhile(lambda x: x.path.startswith(one.path), islice(in_order, start, None))


def _not_below(one: _Location, in_order: Sequence[_Location]) -> list[Condition]:
    """Conditions for paths whose longest prefix is not this one."""
    longer = [x.begins for x in _within(one, in_order) if x.sign != "^~"]
    return alternatives([replace(one.begins, negate=True), *longer])
