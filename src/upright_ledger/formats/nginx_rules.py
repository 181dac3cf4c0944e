"""Redirect rules in nginx's files: what return, rewrite, if and map say, in the place they stand in."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace

from upright_ledger.core.imported import (
    APPEND,
    ARGUMENT,
    BARE,
    DROP,
    GROUP,
    HOST,
    KEEP,
    METHOD,
    PATH,
    PORT,
    QUERY,
    REWRITTEN,
    SCHEME,
    STAGES_WITHIN,
    TARGET,
    TEXT,
    VARIABLE,
    Condition,
    ImportedRule,
    NotUnderstoodError,
    Piece,
    compiled,
)
from upright_ledger.core.template_rules import PASS
from upright_ledger.formats.nginx_config import Statement, Table
from upright_ledger.formats.rules_read import Surroundings, or_everything, understood

SUBJECTS = {
    "uri": PATH, "document_uri": PATH, "request_uri": TARGET, "host": HOST, "http_host": HOST, "args": QUERY, "query_string": QUERY,
    "scheme": SCHEME, "request_method": METHOD, "server_port": PORT,
}  # fmt: skip
REDIRECTS = {301, 302, 307, 308}
ANYTHING = Condition(PATH, "^/")
_BEGINS_WITH_SLASH = {PATH, TARGET}
_WHOLE_PATTERNS = {"^", ".*", "^.*", "^.*$", "(.*)", "^(.*)", "^(.*)$", "^/", "^/.*", "^/.*$", "^/(.*)", "^/(.*)$"}
_PLAIN_FILES = re.compile(r"(?:^|/)(?:mime\.types|(?:fastcgi|scgi|uwsgi|proxy)(?:_params|\.conf)|koi-\w+|win-utf)$")
"""Files that nginx comes with, in which no redirect is."""
_HOOKS = re.compile(r"\w+_by_lua|js_|perl")
"""Directives of modules that may answer anything."""

Miss = Callable[[Statement, str], None]


@dataclass(frozen=True)
class Place:
    """Where statements stand: what holds for a request to get there.

    own: what a location looks for, whose groups destinations may name. server: the first name of the server. stage: see ImportedRule.
    bound: variables of maps whose value is known here, in pieces.
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

    def within(self, *conditions: Condition) -> Place:
        return replace(self, conditions=(*self.conditions, *conditions))


class StepReader:
    """Reads the statements of one place in their order. tables: the maps of the file."""

    def __init__(self, tables: Mapping[str, Table], given: Surroundings, miss: Miss) -> None:
        self.tables, self.given, self.miss = tables, given, miss
        self.rules: list[ImportedRule] = []
        self.silent: list[int] = []  # numbers of rules that pass, as something else answers that is known
        self._stages = 10

    def passes(self, where: str, place: Place, *, ends: bool = True, silent: bool = False) -> None:
        """Let nothing later answer at a place."""
        if silent:
            self.silent.append(len(self.rules))
        self.rules.append(_rule(where, PASS, (), place, ends=ends))

    def read(self, statements: Sequence[Statement], place: Place) -> str:
        """Take in statements; returns the name of the one after which no other is reached, if there is one."""
        for s in statements:
            try:
                if self._step(s, place):
                    return s.name
            except NotUnderstoodError as error:
                self.miss(s, str(error))
                self.passes(place.where(s), place if s.name != "rewrite" else _of_rewrite(s, place))
            if s.name in {"rewrite", "if"}:
                place = replace(place, stale=True)
        return ""

    def read_map(self, table: Table, place: Place) -> None:
        """The entries of a map that stands alone, as redirects."""
        self.tables = {"map": table}
        for key, value, inside, line in self._entries("map", place):
            if value:
                self._entry(line, (key, value), inside, "map", "$map", 301, BARE, DROP)

    def _step(self, s: Statement, place: Place) -> bool:
        """One statement; returns whether nothing after it is reached."""
        if s.name == "return":
            self._returned(s, place)
            return True
        if s.name == "rewrite":
            self._rewritten(s, place)
        elif s.name == "break":
            if place.in_if:
                here = replace(place, stage=place.stage // STAGES_WITHIN) if place.stage >= STAGES_WITHIN else place
                self.passes(place.where(s), here, ends=place.in_location, silent=True)
            return True
        elif s.name == "if":
            self._if(s, place)
        elif s.name == "include":
            path = s.words[-1]
            if not _PLAIN_FILES.search(path) and self.given.holds(path) is not False:
                raise NotUnderstoodError(
                    f"what it includes is not read: --without {path} says that no redirect is in it"
                )
        elif _HOOKS.match(s.name) or (
            s.name in {"add_header", "more_set_headers"} and "location" in s.text.lower().split()
        ):
            raise NotUnderstoodError("it may answer any request")
        return False

    # if

    def _if(self, s: Statement, place: Place) -> None:
        if not any(x.name in {"return", "rewrite", "break", "include"} or _HOOKS.match(x.name) for x in s.inner):
            return
        test = _test(s)
        variable = test[0].removeprefix("$").strip("{}")
        if variable in self.tables:
            self._by_table(s, place, variable, test)
            return
        condition = _condition(test)
        if condition.literal or condition.negate:
            self.read(s.inner, replace(place.within(condition), in_if=True))
            return
        outer = (place.own,) if place.own is not None else ()
        self.read(s.inner, replace(place.within(*outer), own=condition, stale=False, in_if=True))

    def _by_table(self, s: Statement, place: Place, variable: str, test: list[str]) -> None:
        """An if that looks at a map: its block for every entry for which it holds."""
        for key, value, inside, line in self._entries(variable, place):
            if _holds(test, value):
                self.read(
                    s.inner, replace(inside, in_if=True, bound={**place.bound, variable: _value_pieces(value, key)})
                )
            else:  # no other entry is asked, and all that follows the if is
                self.rules.append(_rule(f"{place.name}:{line}", PASS, (), inside, ends=False))

    def _entries(self, variable: str, place: Place) -> Iterator[tuple[str, str, Place, int]]:
        """Key, value, place and line of a map's entries in the order in which nginx asks them, and what it says by default."""
        table = self.tables[variable]
        subject = _subject(table.source.removeprefix("$"))
        if table.doubt or subject is None:
            raise NotUnderstoodError(table.doubt or f"the map looks at {table.source}, which is not understood")
        self._stages += 1
        outer = (place.own,) if place.own is not None else ()
        inside = replace(place.within(*outer), stage=place.stage * STAGES_WITHIN + self._stages, stale=False)
        for line, key, value in sorted(table.entries, key=lambda e: e[1].startswith("~")):
            if key.startswith("~"):
                nocase = key.startswith("~*")
                own = Condition(subject, pattern_of(key.lstrip("~").removeprefix("*")), nocase=nocase)
            else:
                own = Condition(subject, key.removeprefix("\\"), literal=True, nocase=True)
            yield key, value, replace(inside, own=own), line
        yield "", table.default, replace(inside, own=ANYTHING), table.line

    # return

    def _returned(self, s: Statement, place: Place) -> None:
        given = s.words[1:]
        status = int(given[0]) if given and _is_status(given[0]) else 302
        goal = given[-1] if given and not (len(given) == 1 and _is_status(given[0])) else ""
        if status == 410:
            self.rules.append(_rule(place.where(s), 410, (), place))
            return
        if status not in REDIRECTS | {303}:
            self.passes(place.where(s), place, silent=True)
            return
        if status == 303:
            raise NotUnderstoodError("it answers 303, which is no status of a redirect here")
        self._expanded(s, place, goal, status, BARE, DROP)

    def _expanded(self, s: Statement, place: Place, goal: str, status: int, encoding: str, query: str) -> None:
        """A redirect, with a rule for every entry of a map that its destination names."""
        unbound = [v for v in _variables(goal) if v in self.tables and v not in place.bound]
        if len(set(unbound)) > 1:
            raise NotUnderstoodError("its destination names two maps")
        if not unbound:
            self.rules.append(
                understood(
                    _rule(place.where(s), status, self._pieces(goal, place), place, encoding=encoding, query=query)
                )
            )
            return
        if any(v.isdigit() or (v not in SUBJECTS and v not in unbound and v != "is_args") for v in _variables(goal)):
            raise NotUnderstoodError("its destination names a map and groups")
        for key, value, inside, line in self._entries(unbound[0], place):
            self._entry(line, (key, value), inside, unbound[0], goal, status, encoding, query)

    def _entry(
        self,
        line: int,
        entry: tuple[str, str],
        inside: Place,
        variable: str,
        goal: str,
        status: int,
        encoding: str,
        query: str,
    ) -> None:
        """A redirect with the value of a map's entry put in."""
        key, value = entry
        where = f"{inside.name}:{line}"
        try:
            here = replace(inside, bound={**inside.bound, variable: _value_pieces(value, key)})
            rule = _rule(where, status, self._pieces(goal, here), here, encoding=encoding, query=query)
            self.rules.append(understood(rule))
        except NotUnderstoodError as error:
            self.miss(Statement(line, [key or "default", value]), str(error))
            self.passes(where, inside)

    def _pieces(self, goal: str, place: Place) -> tuple[Piece, ...]:
        """A destination in pieces, with the values of maps put in. Raises NotUnderstoodError for one that may be relative."""
        out: list[Piece] = []
        for kind, value in split_variables(goal):
            if kind == GROUP and value in place.bound:
                out += place.bound[value]
            elif kind == GROUP and value == "server_name":
                if not place.server:
                    raise NotUnderstoodError("its server has no name that its destination could hold")
                out.append((TEXT, place.server))
            elif kind == GROUP and value.isdigit() and place.stale and not place.bound:
                raise NotUnderstoodError("its destination names a group, and another pattern was tried before")
            else:
                out.append((kind, value))
        check_start(out)
        return tuple(out)

    # rewrite

    def _rewritten(self, s: Statement, place: Place) -> None:
        if len(s.words) < 3:
            raise NotUnderstoodError("it lacks its replacement")
        pattern, goal, flag = s.words[1], s.words[2], s.words[3] if len(s.words) > 3 else ""
        compiled(pattern_of(pattern), nocase=False)
        status = {"permanent": 301, "redirect": 302}.get(flag, 302 if re.match(r"https?://|\$scheme", goal) else 0)
        if not status:
            raise NotUnderstoodError("it changes the request inside the server")
        query = KEEP
        if goal.endswith("?"):
            goal, query = goal[:-1], DROP
        elif "?" in goal:
            query = APPEND
        if any(v in self.tables or v in place.bound for v in _variables(goal)):
            if pattern not in _WHOLE_PATTERNS or any(v.isdigit() for v in _variables(goal)):
                raise NotUnderstoodError("its destination names a map and groups")
            self._expanded(s, place, goal, status, BARE if query == DROP else REWRITTEN, query)
            return
        inside = _of_rewrite(s, place)
        self.rules.append(
            understood(
                _rule(place.where(s), status, self._pieces(goal, inside), inside, encoding=REWRITTEN, query=query)
            )
        )


def _of_rewrite(s: Statement, place: Place) -> Place:
    """The place of a rewrite: its pattern is what it looks for, and a location's is a condition more."""
    pattern = s.words[1] if len(s.words) > 1 else "^"
    try:
        compiled(pattern_of(pattern), nocase=False)
    except NotUnderstoodError:
        pattern = or_everything(ImportedRule("", PATH, pattern, PASS)).pattern
    outer = (place.own,) if place.own is not None and place.own != ANYTHING else ()
    return replace(place.within(*outer), own=Condition(PATH, pattern_of(pattern)), stale=False)


def _rule(
    where: str,
    status: int,
    pieces: Sequence[Piece],
    place: Place,
    *,
    encoding: str = BARE,
    query: str = DROP,
    ends: bool = True,
) -> ImportedRule:
    own = place.own or ANYTHING
    return ImportedRule(
        where, own.subject, own.pattern, status, tuple(pieces), own.literal, own.nocase, own.negate, place.conditions, query, encoding,
        stage=place.stage, ends=ends,
    )  # fmt: skip


# Tests


def _test(s: Statement) -> list[str]:
    """The parts of an if's condition: a variable, and maybe a sign and what it is compared with."""
    found = list(s.words[1:])
    if not found:
        raise NotUnderstoodError("it has no condition")
    found[0] = found[0].removeprefix("(")
    if found[-1] == ")":
        found.pop()
    else:
        found[-1] = found[-1].removesuffix(")")
    found = [w for n, w in enumerate(found) if w or n > 1]
    if (
        len(found) not in {1, 3}
        or not found[0].startswith("$")
        or (len(found) == 3 and found[1] not in {"=", "!=", "~", "~*", "!~", "!~*"})
    ):
        raise NotUnderstoodError(f"the condition {' '.join(found)[:80]} is not understood")
    return found


def _subject(variable: str) -> str | None:
    """What a variable stands for; None where that is not known."""
    if variable.startswith("arg_"):
        return ARGUMENT + variable[4:]
    return SUBJECTS.get(variable)


def _condition(test: Sequence[str]) -> Condition:
    variable = test[0].removeprefix("$").strip("{}")
    sign, wanted = (test[1], test[2]) if len(test) == 3 else ("!~", "^0?$")
    negate, literal, nocase = sign.startswith("!"), sign.endswith("="), sign.endswith("*")
    if variable == "https":  # "on", or nothing
        return Condition(SCHEME, _scheme({"https": "on", "http": ""}, test), literal=True)
    if variable == "http_x_forwarded_proto":
        fits = [_holds(["$", *test[1:]], value) for value in ("", "http", "https")]
        if fits[0] != fits[1] or fits[1] == fits[2]:
            raise NotUnderstoodError("the condition on X-Forwarded-Proto is not the same without that header")
        return Condition(SCHEME, "https" if fits[2] else "http", literal=True)
    subject = _subject(variable)
    if subject is None:
        raise NotUnderstoodError(f"the condition on {test[0]} is not understood")
    if not literal:
        compiled(pattern_of(wanted), nocase)
    return Condition(subject, wanted if literal else pattern_of(wanted), literal, nocase, negate)


def _scheme(values: Mapping[str, str], test: Sequence[str]) -> str:
    """The one scheme at which a test holds, by the value that its variable has there."""
    fits = [scheme for scheme, value in values.items() if _holds(test, value)]
    if len(fits) != 1:
        raise NotUnderstoodError(f"the condition {' '.join(test)} is not understood")
    return fits[0]


def _holds(test: Sequence[str], value: str) -> bool:
    """Whether a test holds for a value without variables. Raises NotUnderstoodError for another."""
    if "$" in value and len(test) > 1:
        raise NotUnderstoodError("the condition looks at what a map makes of the request")
    if len(test) == 1:
        return value not in {"", "0"}
    sign, wanted = test[1], test[2]
    if sign.endswith("="):
        return (value == wanted) != sign.startswith("!")
    return bool(compiled(pattern_of(wanted), sign.endswith("*")).search(value.encode())) != sign.startswith("!")


# Destinations


def _variables(goal: str) -> list[str]:
    return [m[1] or m[2] or m[3] for m in re.finditer(r"\$(?:\{(\w+)\}|(\d)|([A-Za-z_]\w*))", goal)]


def split_variables(goal: str) -> list[Piece]:
    """A text with variables in pieces; what is no known variable is a group."""
    out: list[Piece] = []
    at = 0
    for match in re.finditer(r"\$(?:\{(\w+)\}|(\d)|([A-Za-z_]\w*))", goal):
        out.append((TEXT, goal[at : match.start()]))
        at = match.end()
        name = match[1] or match[2] or match[3]
        if name in SUBJECTS or name == "is_args":
            out.append((VARIABLE, SUBJECTS.get(name, name)))
        else:
            out.append((GROUP, name))
    out.append((TEXT, goal[at:]))
    return [p for p in out if p != (TEXT, "")]


def _value_pieces(value: str, key: str) -> tuple[Piece, ...]:
    """The value of a map's entry in pieces; numbered groups are those of its key."""
    pieces = tuple(split_variables(value))
    if any(kind == GROUP for kind, _ in pieces) and not key.startswith("~"):
        raise NotUnderstoodError("the value of an entry names a group, and its key has none")
    return pieces


def check_start(pieces: Sequence[Piece]) -> None:
    """Raises NotUnderstoodError for a destination that is neither a path nor an address whatever the request is."""
    kind, value = pieces[0] if pieces else (TEXT, "")
    if kind == VARIABLE and value in _BEGINS_WITH_SLASH | {SCHEME}:
        return
    whole = re.match(r"/(?!/)|[A-Za-z][A-Za-z0-9+.-]*://", value) if kind == TEXT else None
    doubled = kind == TEXT and value == "/" and len(pieces) > 1 and pieces[1][0] == VARIABLE
    if whole is None or doubled:
        raise NotUnderstoodError("it names no destination" if not pieces else "its destination is relative, or may be")


def pattern_of(text: str) -> str:
    """A pattern with its named groups as RE2 writes them."""
    return re.sub(r"\(\?<([A-Za-z_])", r"(?P<\1", text)


def _is_status(text: str) -> bool:
    return re.fullmatch("[0-9]{3}", text) is not None
