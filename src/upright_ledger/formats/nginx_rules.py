"""Redirect rules in nginx's files: return, rewrite, location, if and map, of a whole configuration or a part of it."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass, field

from upright_ledger.core.imported import (
    BARE,
    DROP,
    GROUP,
    HOST,
    KEEP,
    PATH,
    QUERY,
    RAW,
    SCHEME,
    TARGET,
    TEXT,
    VARIABLE,
    Condition,
    ImportedRule,
    NotUnderstoodError,
    Piece,
    alternatives,
)
from upright_ledger.core.nginx_words import words
from upright_ledger.formats.rules_read import RulesRead, Surroundings

_SUBJECTS = {
    "uri": PATH, "document_uri": PATH, "request_uri": TARGET, "host": HOST, "http_host": HOST, "server_name": HOST, "args": QUERY,
    "query_string": QUERY, "scheme": SCHEME,
}  # fmt: skip
_CODES = {301, 302, 303, 307, 308, 410}
_NOT_RULES = {
    "add_header",
    "access_log",
    "error_log",
    "expires",
    "index",
    "root",
    "listen",
    "include",
    "default_type",
    "charset",
    "log_not_found",
}


@dataclass
class _Statement:
    """A directive with its words, line and block, if it has one."""

    line: int
    words: list[str]
    block: list[_Statement] | None = None


def read_nginx(text: str, name: str, given: Surroundings | None = None) -> RulesRead:
    """Read a configuration, or the inside of a map. Within a server, what stands beside the locations is asked first."""
    reader = _Reader(name)
    statements = _parse(text)
    reader.maps(statements)
    reader.block(statements, ())
    if not reader.out.rules and not reader.out.missed:
        reader.bare_map(statements)
    return reader.out


def _parse(text: str) -> list[_Statement]:
    """The statements of a file. Raises NotUnderstoodError where its brackets do not close."""
    lines = _word_lines(text)
    root: list[_Statement] = []
    stack, current, start = [root], list[str](), 0
    for line, word in lines:
        if word == ";":
            if current:
                stack[-1].append(_Statement(start, current))
            current = []
        elif word == "{":
            block: list[_Statement] = []
            stack[-1].append(_Statement(start, current, block))
            stack.append(block)
            current = []
        elif word == "}":
            if len(stack) == 1:
                raise NotUnderstoodError("a bracket closes that was never opened")
            stack.pop()
            current = []
        else:
            start = line if not current else start
            current.append(word.removeprefix("\0"))
    if len(stack) > 1:
        raise NotUnderstoodError("a bracket does not close")
    return root


def _word_lines(text: str) -> list[tuple[int, str]]:
    """Each word with its line. Words of a line stand by themselves but where a quote goes on."""
    out: list[tuple[int, str]] = []
    lines = text.split("\n")
    at = 0
    while at < len(lines):
        held, end = lines[at], at
        while True:
            try:
                found = list(words(held))
                break
            except IndexError:  # a quote that goes on in the next line
                end += 1
                if end >= len(lines):
                    raise NotUnderstoodError(f"a quote in line {at + 1} does not close") from None
                held += "\n" + lines[end]
        out += [(at + 1, w) for w in found]
        at = end + 1
    return out


@dataclass
class _Reader:
    """What is gathered on the way. tables: variable of a map → its entries' (line, key, value), and what it looks at."""

    name: str
    out: RulesRead = field(default_factory=RulesRead)
    tables: dict[str, tuple[str, list[tuple[int, str, str]]]] = field(default_factory=dict)
    used: set[str] = field(default_factory=set)

    def where(self, line: int) -> str:
        return f"{self.name}:{line}"

    def miss(self, statement: _Statement, why: str) -> None:
        self.out.missed.append((statement.line, why, " ".join(statement.words)[:300]))

    def maps(self, statements: Sequence[_Statement]) -> None:
        """Note all maps, wherever they stand."""
        for s in statements:
            if s.block is not None and s.words[:1] == ["map"] and len(s.words) == 3:
                entries = [(e.line, e.words[0], e.words[1]) for e in s.block if len(e.words) == 2]
                self.tables[s.words[2].lstrip("$")] = (s.words[1], entries)
            elif s.block is not None:
                self.maps(s.block)

    def block(self, statements: Sequence[_Statement], around: tuple[Condition, ...]) -> None:
        """A server or the whole file: rules beside the locations, then the locations as nginx chooses them."""
        hosts = [w for s in statements if s.words[:1] == ["server_name"] for w in s.words[1:]]
        around += tuple(_host_conditions(hosts))
        for s in statements:
            word = s.words[0] if s.words else ""
            if s.block is None:
                self.attempt(s, around, None)
            elif word in {"server", "http"}:
                self.block(s.block, around)
            elif word == "if":
                self.inside_if(s, around, None)
            elif word not in {"map", "location", "events", "upstream", "types", "geo"}:
                self.miss(s, f"what {word} does is not understood")
        for s in sorted((s for s in statements if s.words[:1] == ["location"] and s.block is not None), key=_rank):
            self.location(s, around)

    def location(self, s: _Statement, around: tuple[Condition, ...]) -> None:
        sign, path = (s.words[1], s.words[2]) if len(s.words) > 2 else ("", s.words[1])
        if path.startswith("@") or sign not in {"", "=", "~", "~*", "^~"}:
            return
        if sign in {"~", "~*"}:
            mine = Condition(PATH, path, nocase=sign == "~*")
        else:
            mine = Condition(PATH, path if sign == "=" else "^" + re.escape(path), literal=sign == "=")
        for inner in s.block or ():
            if inner.words[:1] == ["if"]:
                self.inside_if(inner, around, mine)
            elif inner.block is None:
                self.attempt(inner, around, mine)
            else:
                self.miss(inner, "a block within a location is not understood")

    def inside_if(self, s: _Statement, around: tuple[Condition, ...], own: Condition | None) -> None:
        try:
            text = " ".join(s.words[1:]).strip("() ")
            variable, _, rest = text.partition(" ")
            sign, _, pattern = rest.strip().partition(" ")
            if not sign and variable.lstrip("$") in self.tables:
                self.by_map(s, variable.lstrip("$"), around, own)
                return
            condition = _condition(variable, sign, pattern.strip())
        except NotUnderstoodError as error:
            self.miss(s, str(error))
            return
        for inner in s.block or ():
            # The groups that a destination names are those of the pattern asked last.
            if condition.literal or condition.negate:
                self.attempt(inner, (*around, condition), own)
            else:
                more = (own,) if own is not None else ()
                self.attempt(inner, (*around, *more), condition)

    def attempt(self, s: _Statement, around: tuple[Condition, ...], own: Condition | None) -> None:
        """A return or rewrite, under conditions; other directives are no rules."""
        try:
            rule = self.rule(s, around, own)
        except NotUnderstoodError as error:
            self.miss(s, str(error))
            return
        if rule is not None:
            self.out.rules.append(rule)

    def rule(self, s: _Statement, around: tuple[Condition, ...], own: Condition | None) -> ImportedRule | None:
        word = s.words[0] if s.words else ""
        if word == "return":
            return self.returned(s, around, own)
        if word != "rewrite":
            return None
        if len(s.words) < 3:
            raise NotUnderstoodError("it lacks its replacement")
        pattern, goal, flag = s.words[1], s.words[2], s.words[3] if len(s.words) > 3 else ""
        status = {"permanent": 301, "redirect": 302}.get(flag, 302 if re.match(r"https?://|\$scheme", goal) else 0)
        if not status:
            raise NotUnderstoodError("it changes the request inside the server")
        query = KEEP
        if goal.endswith("?"):
            goal, query = goal[:-1], DROP
        if goal.lstrip("$").split("/")[0] in self.tables:
            raise NotUnderstoodError("a map in a rewrite is not understood")
        more = (own,) if own is not None else ()
        rule = ImportedRule(
            self.where(s.line),
            PATH,
            _pattern(pattern),
            status,
            _pieces(goal),
            conditions=(*around, *more),
            query="append" if "?" in goal and query == KEEP else query,
        )
        rule.check()
        return rule

    def returned(self, s: _Statement, around: tuple[Condition, ...], own: Condition | None) -> ImportedRule | None:
        given = s.words[1:]
        status = int(given[0]) if given and _is_status(given[0]) else 302
        goal = given[-1] if given and not (len(given) == 1 and _is_status(given[0])) else ""
        if status not in _CODES:
            return None
        if status != 410 and not re.match(r"https?://|/|\$", goal):
            raise NotUnderstoodError("it names no destination")
        variable = goal.lstrip("$")
        if goal.startswith("$") and variable in self.tables:
            self.by_map(s, variable, around, own, status)
            return None
        status = 302 if status == 303 else status
        pieces = _pieces(goal) if status != 410 else ()
        base = own or Condition(PATH, "^/")
        rule = ImportedRule(
            self.where(s.line), base.subject, base.pattern if base.literal else _pattern(base.pattern), status, pieces, base.literal, base.nocase,
            conditions=around, query=DROP, encoding=BARE,
        )  # fmt: skip
        rule.check()
        return rule

    def by_map(
        self, s: _Statement, variable: str, around: tuple[Condition, ...], own: Condition | None, status: int = 0
    ) -> None:
        """Every entry of a map as a rule: literal keys before patterns, as nginx asks them."""
        looked_at, entries = self.tables[variable]
        if variable in self.used:
            return
        self.used.add(variable)
        if not status:
            codes = [
                int(w)
                for inner in s.block or ()
                for w in inner.words[1:2]
                if inner.words[0] == "return" and _is_status(w)
            ]
            rewrites = [w for inner in s.block or () for w in inner.words if w in {"permanent", "redirect"}]
            status = codes[0] if codes else {"permanent": 301, "redirect": 302}[rewrites[0]] if rewrites else 301
        subject = _SUBJECTS.get(looked_at.lstrip("$"))
        more = (own,) if own is not None else ()
        for line, key, value in sorted(entries, key=lambda e: e[1].startswith("~")):
            entry = _Statement(line, [key, value])
            if key in {"default", "hostnames", "volatile", "include"} or value in {"", "0"}:
                continue
            try:
                if subject is None:
                    raise NotUnderstoodError(f"the map looks at {looked_at}, which is not understood")  # noqa: TRY301
                self.out.rules.append(_map_rule(self.where(line), subject, key, value, status, (*around, *more)))
            except NotUnderstoodError as error:
                self.miss(entry, str(error))

    def bare_map(self, statements: Sequence[_Statement]) -> None:
        """A file that a map includes: keys and values, looked up by the path."""
        for s in sorted(statements, key=lambda s: s.words[0].startswith("~") if s.words else False):
            if len(s.words) != 2 or s.block is not None:
                if s.words[:1] not in ([w] for w in _NOT_RULES):
                    self.miss(s, "it is neither a rule nor a key and a value")
                continue
            key, value = s.words
            if key in {"default", "include"}:
                continue
            try:
                self.out.rules.append(_map_rule(self.where(s.line), PATH, key, value, 301, ()))
            except NotUnderstoodError as error:
                self.miss(s, str(error))


def _map_rule(
    where: str, subject: str, key: str, value: str, status: int, conditions: tuple[Condition, ...]
) -> ImportedRule:
    if key.startswith("~"):
        nocase = key.startswith("~*")
        rule = ImportedRule(
            where,
            subject,
            _pattern(key.lstrip("~").removeprefix("*")),
            status,
            _pieces(value),
            nocase=nocase,
            conditions=conditions,
            query=DROP,
            encoding=BARE,
        )
    else:
        literal = key.removeprefix("\\")
        rule = ImportedRule(
            where,
            subject,
            literal,
            status,
            _pieces(value),
            literal=True,
            nocase=True,
            conditions=conditions,
            query=DROP,
            encoding=BARE,
        )
    rule.check()
    return rule


def _rank(s: _Statement) -> tuple[int, int]:
    """Exact locations, then prefixes that forbid patterns, patterns in their order, and prefixes, the longest first."""
    sign, path = (s.words[1], s.words[2]) if len(s.words) > 2 else ("", s.words[1] if len(s.words) > 1 else "")
    if sign == "=":
        return 0, 0
    return {"^~": (1, -len(path)), "~": (2, s.line), "~*": (2, s.line)}.get(sign, (3, -len(path)))


def _host_conditions(hosts: Sequence[str]) -> list[Condition]:
    named = []
    for host in (h for h in hosts if h not in {"_", ""}):
        if host.startswith("~"):
            named.append(Condition(HOST, _pattern(host[1:]), nocase=True))
        else:
            pattern = re.escape(host.lower()).replace(r"\*", ".*")
            pattern = rf"(?:.*\.)?{pattern[2:]}" if pattern.startswith(r"\.") else pattern
            named.append(Condition(HOST, f"^{pattern}$", nocase=True))
    return alternatives(named)


def _condition(variable: str, sign: str, pattern: str) -> Condition:
    name = variable.lstrip("$")
    if sign not in {"=", "!=", "~", "~*", "!~", "!~*"}:
        raise NotUnderstoodError(f"the condition on {variable} is not understood")
    negate, literal, nocase = sign.startswith("!"), sign.endswith("="), sign.endswith("*")
    if name.startswith("arg_"):
        word = re.escape(name[4:])
        wanted = re.escape(pattern) if literal else f"[^&]*(?:{pattern.removeprefix('^').removesuffix('$')})[^&]*"
        return Condition(QUERY, f"(?:^|&)(?i:{word})={wanted}(?:&|$)", negate=negate, nocase=nocase)
    if name not in _SUBJECTS:
        raise NotUnderstoodError(f"the condition on {variable} is not understood")
    return Condition(_SUBJECTS[name], pattern if literal else _pattern(pattern), literal, nocase, negate)


def _pattern(text: str) -> str:
    """A pattern with its named groups as RE2 writes them."""
    return re.sub(r"\(\?<([A-Za-z_])", r"(?P<\1", text)


def _is_status(text: str) -> bool:
    return re.fullmatch("[0-9]{3}", text) is not None


def _pieces(goal: str) -> tuple[Piece, ...]:
    """A destination in pieces."""
    out: list[Piece] = []
    at = 0
    for match in re.finditer(r"\$(?:\{(\w+)\}|(\d)|([A-Za-z_]\w*))", goal):
        out.append((TEXT, goal[at : match.start()]))
        at = match.end()
        name = match[1] or match[2] or match[3]
        if name == "is_args":
            out.append((VARIABLE, "is_args"))
        elif name in _SUBJECTS:
            out.append((VARIABLE, RAW if name == "uri" else _SUBJECTS[name]))
        else:
            out.append((GROUP, name))
    out.append((TEXT, goal[at:]))
    return tuple(p for p in out if p != (TEXT, ""))
