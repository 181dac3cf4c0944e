"""Redirect rules in nginx's files: what return, rewrite, if and map say, in the place they stand
in.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace

from upright_ledger.core.rules.imported.blocks import stages_around
from upright_ledger.core.rules.imported.rule import (
    BARE,
    PATH,
    REWRITTEN,
    STAGES_WITHIN,
    Condition,
    ImportedRule,
    PatternNotUnderstoodError,
    Piece,
    PieceKind,
    QueryEdit,
    compiled,
)
from upright_ledger.core.rules.templates.template_index import PASS
from upright_ledger.formats.server_config.nginx_config import MapTable, Statement
from upright_ledger.formats.server_config.nginx_expressions import (
    SUBJECTS,
    check_start,
    condition_of,
    holds,
    is_status,
    parts_of_test,
    pattern_of,
    split_variables,
    subject_of,
    value_pieces,
    variables_of,
)
from upright_ledger.formats.server_config.rules_read import (
    ServerSetup,
    or_everything,
    plainer,
    understood,
)

REDIRECTS = {301, 302, 307, 308}
ANYTHING = Condition(PATH, "^/")
_WHOLE_PATTERNS = {
    "^",
    ".*",
    "^.*",
    "^.*$",
    "(.*)",
    "^(.*)",
    "^(.*)$",
    "^/",
    "^/.*",
    "^/.*$",
    "^/(.*)",
    "^/(.*)$",
}
_PLAIN_FILES = re.compile(
    r"(?:^|/)(?:mime\.types|(?:fastcgi|scgi|uwsgi|proxy)(?:_params|\.conf)|koi-\w+|win-utf)$"
)
"""Files that nginx comes with, in which no redirect is."""
_HOOKS = re.compile(r"\w+_by_lua|js_|perl")
"""Directives of modules that may answer anything."""

Miss = Callable[[Statement, str], None]


@dataclass(frozen=True)
class NginxPlace:
    """Where statements stand: what holds for a request to get there.

    own: what a location looks for, whose groups destinations may name. server: the first name of
    the server. stage: see ImportedRule. bound: variables of maps whose value is known here, in
    pieces.
    """

    name: str
    conditions: tuple[Condition, ...] = ()
    own: Condition | None = None
    server: str = ""
    stage: int = 0
    in_location: bool = False
    in_if: bool = False
    bound: Mapping[str, tuple[Piece, ...]] = field(default_factory=dict)
    stale: bool = False  # whether another pattern was tried since, so that numbered groups are gone

    def where(self, s: Statement) -> str:
        return f"{self.name}:{s.line}"

    def within(self, *conditions: Condition) -> NginxPlace:
        return replace(self, conditions=(*self.conditions, *conditions))


class StepReader:
    """Reads the statements of one place in their order. tables: the maps of the file."""

    def __init__(self, tables: Mapping[str, MapTable], given: ServerSetup, miss: Miss) -> None:
        self.tables, self.given, self.miss = tables, given, miss
        self.rules: list[ImportedRule] = []
        self.silent: set[int] = (
            set()
        )  # numbers of rules that pass, as something else answers that is known
        self._stages = 10

    def passes(
        self, where: str, place: NginxPlace, *, ends: bool = True, silent: bool = False
    ) -> None:
        """Let nothing later answer at a place."""
        if silent:
            self.silent.add(len(self.rules))
        self.rules.append(_rule(where, PASS, (), place, ends=ends))

    def read(self, statements: Sequence[Statement], place: NginxPlace) -> str:
        """Take in statements; returns the name of the one after which no other is reached, if there
        is one.
        """
        for s in statements:
            try:
                if self._step(s, place):
                    return s.name
            except PatternNotUnderstoodError as error:
                self.miss(s, str(error))
                self.passes(place.where(s), place if s.name != "rewrite" else _of_rewrite(s, place))
            if s.name in {"rewrite", "if"}:
                place = replace(place, stale=True)
        return ""

    def read_map(self, table: MapTable, place: NginxPlace) -> None:
        """The entries of a map that stands alone, as redirects."""
        self.tables = {"map": table}
        for key, value, inside, line in self._entries("map", place):
            if value:
                self._entry(line, (key, value), inside, "map", "$map", 301, BARE, QueryEdit.DROP)

    def _step(self, s: Statement, place: NginxPlace) -> bool:
        """One statement; returns whether nothing after it is reached."""
        if s.name == "return":
            self._returned(s, place)
            return True
        if s.name == "rewrite":
            self._rewritten(s, place)
        elif s.name == "break":
            if place.in_if:
                *_, stage = stages_around(
                    place.stage
                )  # it ends what stands beside the locations, not the entries of a map alone
                self.passes(
                    place.where(s), replace(place, stage=stage), ends=place.in_location, silent=True
                )
            return True
        elif s.name == "if":
            self._if(s, place)
        elif s.name == "include":
            path = s.words[-1]
            if not _PLAIN_FILES.search(path) and self.given.holds(path) is not False:
                raise PatternNotUnderstoodError(
                    f"what it includes is not read: --without {path} says that no redirect is in it"
                )
        elif _HOOKS.match(s.name) or (
            s.name in {"add_header", "more_set_headers"} and "location" in s.text.lower().split()
        ):
            raise PatternNotUnderstoodError("it may answer any request")
        return False

    # if

    def _if(self, s: Statement, place: NginxPlace) -> None:
        if not any(
            x.name in {"return", "rewrite", "break", "include"} or _HOOKS.match(x.name)
            for x in s.inner
        ):
            return
        test = parts_of_test(s)
        variable = test[0].removeprefix("$").strip("{}")
        if variable in self.tables:
            self._by_table(s, place, variable, test)
            return
        condition = condition_of(test)
        if condition.literal or condition.negate:
            self.read(s.inner, replace(place.within(condition), in_if=True))
            return
        outer = (place.own,) if place.own is not None else ()
        self.read(s.inner, replace(place.within(*outer), own=condition, stale=False, in_if=True))

    def _by_table(self, s: Statement, place: NginxPlace, variable: str, test: list[str]) -> None:
        """An if that looks at a map: its block for every entry for which it holds."""
        for key, value, inside, line in self._entries(variable, place):
            if holds(test, value):
                self.read(
                    s.inner,
                    replace(
                        inside,
                        in_if=True,
                        bound={**place.bound, variable: value_pieces(value, key)},
                    ),
                )
            else:  # no other entry is asked, and all that follows the if is
                self.rules.append(_rule(f"{place.name}:{line}", PASS, (), inside, ends=False))

    def _entries(
        self, variable: str, place: NginxPlace
    ) -> Iterator[tuple[str, str, NginxPlace, int]]:
        """Key, value, place and line of a map's entries in the order in which nginx asks them, and
        what it says by default.
        """
        table = self.tables[variable]
        subject = subject_of(table.source.removeprefix("$"))
        if table.doubt or subject is None:
            raise PatternNotUnderstoodError(
                table.doubt or f"the map looks at {table.source}, which is not understood"
            )
        self._stages += 1
        outer = (place.own,) if place.own is not None else ()
        inside = replace(
            place.within(*outer), stage=place.stage * STAGES_WITHIN + self._stages, stale=False
        )
        for line, key, value in sorted(table.entries, key=lambda e: e[1].startswith("~")):
            if key.startswith("~"):
                nocase = key.startswith("~*")
                own = Condition(
                    subject, pattern_of(key.lstrip("~").removeprefix("*")), nocase=nocase
                )
            else:
                own = Condition(subject, key.removeprefix("\\"), literal=True, nocase=True)
            yield key, value, replace(inside, own=own), line
        yield "", table.default, replace(inside, own=ANYTHING), table.line

    # return

    def _returned(self, s: Statement, place: NginxPlace) -> None:
        given = s.words[1:]
        status = int(given[0]) if given and is_status(given[0]) else 302
        goal = given[-1] if given and not (len(given) == 1 and is_status(given[0])) else ""
        if status == 410:
            self.rules.append(_rule(place.where(s), 410, (), place))
            return
        if status not in REDIRECTS | {303}:
            self.passes(place.where(s), place, silent=True)
            return
        if status == 303:
            raise PatternNotUnderstoodError("it answers 303, which is no status of a redirect here")
        self._expanded(s, place, goal, status, BARE, QueryEdit.DROP)

    def _expanded(
        self,
        s: Statement,
        place: NginxPlace,
        goal: str,
        status: int,
        encoding: str,
        query: QueryEdit,
    ) -> None:
        """A redirect, with a rule for every entry of a map that its destination names."""
        unbound = [v for v in variables_of(goal) if v in self.tables and v not in place.bound]
        if len(set(unbound)) > 1:
            raise PatternNotUnderstoodError("its destination names two maps")
        if not unbound:
            self.rules.append(
                understood(
                    _rule(
                        place.where(s),
                        status,
                        self._pieces(goal, place),
                        place,
                        encoding=encoding,
                        query=query,
                    )
                )
            )
            return
        if any(
            v.isdigit() or (v not in SUBJECTS and v not in unbound and v != "is_args")
            for v in variables_of(goal)
        ):
            raise PatternNotUnderstoodError("its destination names a map and groups")
        for key, value, inside, line in self._entries(unbound[0], place):
            self._entry(line, (key, value), inside, unbound[0], goal, status, encoding, query)

    def _entry(
        self,
        line: int,
        entry: tuple[str, str],
        inside: NginxPlace,
        variable: str,
        goal: str,
        status: int,
        encoding: str,
        query: QueryEdit,
    ) -> None:
        """A redirect with the value of a map's entry put in."""
        key, value = entry
        where = f"{inside.name}:{line}"
        try:
            here = replace(inside, bound={**inside.bound, variable: value_pieces(value, key)})
            rule = _rule(
                where, status, self._pieces(goal, here), here, encoding=encoding, query=query
            )
            self.rules.append(understood(rule))
        except PatternNotUnderstoodError as error:
            self.miss(Statement(line, [key or "default", value]), str(error))
            self.passes(where, inside)

    def _pieces(self, goal: str, place: NginxPlace) -> tuple[Piece, ...]:
        """A destination in pieces, with the values of maps put in. Raises NotUnderstoodError for
        one that may be relative.
        """
        out: list[Piece] = []
        for kind, value in split_variables(goal):
            if kind == PieceKind.GROUP and value in place.bound:
                out += place.bound[value]
            elif kind == PieceKind.GROUP and value == "server_name":
                if not place.server:
                    raise PatternNotUnderstoodError(
                        "its server has no name that its destination could hold"
                    )
                out.append((PieceKind.TEXT, place.server))
            elif kind == PieceKind.GROUP and value.isdigit() and place.stale and not place.bound:
                raise PatternNotUnderstoodError(
                    "its destination names a group, and another pattern was tried before"
                )
            else:
                out.append((kind, value))
        check_start(out)
        return tuple(out)

    # rewrite

    def _rewritten(self, s: Statement, place: NginxPlace) -> None:
        if len(s.words) < 3:
            raise PatternNotUnderstoodError("it lacks its replacement")
        pattern, goal, flag = s.words[1], s.words[2], s.words[3] if len(s.words) > 3 else ""
        compiled(pattern_of(pattern), nocase=False)
        status = {"permanent": 301, "redirect": 302}.get(
            flag, 302 if re.match(r"https?://|\$scheme", goal) else 0
        )
        if not status:
            raise PatternNotUnderstoodError("it changes the request inside the server")
        query = QueryEdit.KEEP
        if goal.endswith("?"):
            goal, query = goal[:-1], QueryEdit.DROP
        elif "?" in goal:
            query = QueryEdit.APPEND
        if any(v in self.tables or v in place.bound for v in variables_of(goal)):
            if pattern not in _WHOLE_PATTERNS or any(v.isdigit() for v in variables_of(goal)):
                raise PatternNotUnderstoodError("its destination names a map and groups")
            self._expanded(
                s, place, goal, status, BARE if query == QueryEdit.DROP else REWRITTEN, query
            )
            return
        inside = _of_rewrite(s, place)
        self.rules.append(
            understood(
                _rule(
                    place.where(s),
                    status,
                    self._pieces(goal, inside),
                    inside,
                    encoding=REWRITTEN,
                    query=query,
                )
            )
        )


def _of_rewrite(s: Statement, place: NginxPlace) -> NginxPlace:
    """The place of a rewrite: its pattern is what it looks for, and a location's is a condition
    more.
    """
    pattern = s.words[1] if len(s.words) > 1 else "^"
    try:
        compiled(pattern_of(pattern), nocase=False)
    except PatternNotUnderstoodError:
        pattern = or_everything(ImportedRule("", PATH, pattern, PASS)).pattern
    outer = (place.own,) if place.own is not None and place.own != ANYTHING else ()
    return replace(place.within(*outer), own=Condition(PATH, pattern_of(pattern)), stale=False)


def _rule(
    where: str,
    status: int,
    pieces: Sequence[Piece],
    place: NginxPlace,
    *,
    encoding: str = BARE,
    query: QueryEdit = QueryEdit.DROP,
    ends: bool = True,
) -> ImportedRule:
    own = place.own or ANYTHING
    rule = ImportedRule(
        where, own.subject, own.pattern, status, tuple(pieces), own.literal, own.nocase, own.negate,
        place.conditions, query, encoding,
        stage=place.stage, ends=ends,
    )  # fmt: skip
    return plainer(rule)
