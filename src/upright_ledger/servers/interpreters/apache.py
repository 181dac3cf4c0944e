"""Apache: RewriteMap, RewriteCond and RewriteRule (mod_rewrite), and the header that goes with
answers.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass, field
from functools import lru_cache

from upright_ledger.core.url.request_target import lower_ascii
from upright_ledger.servers.interpreters import (
    NotUnderstoodError,
    ServerRequest,
    ServerResponse,
    regex,
    resolved,
    unescaped,
)

_SET = re.compile(r"E=([A-Za-z_]\w*):(.*)", re.DOTALL)
_HEADER = ("Header", "always", "set")
_BARE_IN_PATH = frozenset(
    "ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789$-_.+!*'(),:;@&=/~"
)
_INTERNAL: dict[str, Callable[[str], str]] = {
    "int:tolower": lower_ascii,
    "int:escape": lambda text: "".join(c if c in _BARE_IN_PATH else f"%{ord(c):02x}" for c in text),
}


@dataclass(frozen=True, slots=True)
class _Condition:
    """parts: of what is tested. of_request: whether these stay the same through a request's rules.
    equal: what it must be, or None where a pattern must fit.
    """

    test: str
    parts: tuple[_Part, ...]
    of_request: bool
    negated: bool
    equal: str | None
    pattern: re.Pattern[str]


@dataclass(frozen=True)
class _Rule:
    conditions: tuple[_Condition, ...]
    substitution: str
    sets: tuple[tuple[str, str], ...]
    status: int
    skip: int
    drops_query: bool


@dataclass
class _State:
    """One request. sets: variables of the environment; groups: what %1 to %9 stand for; known:
    tests → what they are in this request, whatever rules say.
    """

    request: ServerRequest
    path: str
    query: str
    sets: dict[str, str] = field(default_factory=dict)
    groups: tuple[str | None, ...] = ()
    known: dict[str, str] = field(default_factory=dict)


class ApacheInterpreter:
    """rules: the file's text. maps: texts of which maps are made, by the names of their files
    without ending.
    """

    def __init__(self, rules: str, maps: Mapping[str, str]) -> None:
        self._maps: dict[str, Callable[[str], str]] = {}
        self._rules: list[_Rule] = []
        self._header: tuple[str, str] | None = None
        self._map_texts = maps
        waiting: list[_Condition] = []
        on, depth = False, 0
        for words in read_lines(rules):
            match words:
                case ("RewriteEngine", "On"):
                    on = True
                case ("RewriteMap", name, source):
                    if name in self._maps:
                        raise NotUnderstoodError(f"the map {name} is made twice")
                    self._maps[name] = self._read_map(source)
                case ("RewriteCond", test, pattern):
                    waiting.append(_condition(test, pattern))
                case ("RewriteRule", "^", substitution, *flags) if len(flags) < 2:
                    self._rules.append(
                        _rule(tuple(waiting), substitution, flags[0] if flags else "")
                    )
                    waiting = []
                case (*head, name, value, condition) if (
                    tuple(head) == _HEADER and name == "Cache-Control"
                ):
                    self._header = (value, condition.removeprefix("env="))
                case ("<IfModule", "mod_headers.c>"):
                    depth += 1
                case ("</IfModule>",) if depth:
                    depth -= 1
                case _:
                    raise NotUnderstoodError(f"not understood: {' '.join(words)[:200]}")
        if not on or waiting or depth:
            raise NotUnderstoodError(
                "the rewriting engine is off, or a rule or a section does not end"
            )
        for number, rule in enumerate(self._rules):
            if number + rule.skip >= len(self._rules):
                raise NotUnderstoodError(f"rule {number + 1} jumps behind the last one")

    def _read_map(self, source: str) -> Callable[[str], str]:
        if source in _INTERNAL:
            return _INTERNAL[source]
        match = re.fullmatch(r"dbm=sdbm:\$\{UPRIGHT\}/([a-z]+)", source)
        if match is None or match[1] not in self._map_texts:
            raise NotUnderstoodError(f"no map: {source}")
        table = read_map(self._map_texts[match[1]])
        return lambda key: table.get(key, "")

    def answer(self, request: ServerRequest) -> ServerResponse | None:
        path, _, query = request.raw.partition("?")
        state = _State(request, resolved(unescaped(path)), query)
        found = self._run(state)
        if found is not None and not found.location:
            # The page for an error is fetched by a second look at the same request.
            error = {"REDIRECT_STATUS": str(found.status)}
            if self._run(_State(request, state.path, query, error)) is not None:
                raise NotUnderstoodError(
                    f"the page for {found.status} is taken from the request for it"
                )
        return found

    def _run(self, state: _State) -> ServerResponse | None:
        at = 0
        while at < len(self._rules):
            rule = self._rules[at]
            at += 1
            if not self._applies(rule, state):
                continue
            for name, text in rule.sets:
                state.sets[name] = self._expand(text, state)
            if rule.status:
                return self._response(rule, state)
            at += rule.skip
        return None

    def _response(self, rule: _Rule, state: _State) -> ServerResponse:
        cache = self._header[0] if self._header and self._header[1] in state.sets else ""
        if rule.substitution == "-":
            return ServerResponse(rule.status, "", cache)
        body, question, args = rule.substitution.partition("?")
        location = self._expand(body, state)
        if "?" in location:
            return ServerResponse(403)  # one that a variable brings along is refused
        if question:
            location = f"{location}?{self._expand(args, state)}"
        elif state.query and not rule.drops_query:
            location = f"{location}?{state.query}"
        return ServerResponse(rule.status, location, cache)

    def _applies(self, rule: _Rule, state: _State) -> bool:
        state.groups = ()
        for condition in rule.conditions:
            text = state.known.get(condition.test)
            if text is None:
                text = self._filled(condition.parts, state)
                if condition.of_request:
                    state.known[condition.test] = text
            if condition.equal is not None:
                held = text == condition.equal
            else:
                match = condition.pattern.search(text)
                held = match is not None
                if match is not None and not condition.negated:
                    state.groups = (match[0], *match.groups())
            if held == condition.negated:
                return False
        return True

    def _expand(self, text: str, state: _State) -> str:
        """A text with its variables, maps and groups put in, as do_expand does it."""
        return self._filled(_parts(text), state)

    def _filled(self, parts: tuple[_Part, ...], state: _State) -> str:
        return "".join([p if isinstance(p, str) else self._part(p, state) for p in parts])

    def _part(self, part: _Hole, state: _State) -> str:
        if part.kind == "%":
            return _variable(part.name, state)
        if part.kind == "$":
            if part.name not in self._maps:
                raise NotUnderstoodError(f"there is no map {part.name!r}")
            return self._maps[part.name](self._filled(part.key, state))
        number = int(part.name)
        return (state.groups[number] if number < len(state.groups) else "") or ""


@dataclass(frozen=True, slots=True)
class _Hole:
    """kind: "%" for a variable, "$" for a map with its key, "1" for a group."""

    kind: str
    name: str
    key: tuple[_Part, ...] = ()


_Part = str | _Hole


@lru_cache(maxsize=1 << 15)
def _parts(text: str) -> tuple[_Part, ...]:
    """What a text is made of. Raises NotUnderstoodError."""
    out: list[_Part] = []
    at = 0
    while at < len(text):
        char, following = text[at], text[at + 1 : at + 2]
        if char == "\\" and following:
            out.append(following)
            at += 2
        elif char in "$%" and following == "{":
            end = _closing(text, at + 1)
            name, colon, key = text[at + 2 : end].partition(":")
            if char == "%":
                out.append(_Hole("%", f"{name}{colon}{key}"))
            else:
                out.append(_Hole("$", name, _parts(key)))
            at = end + 1
        elif char == "%" and following.isdigit():
            out.append(_Hole("1", following))
            at += 2
        else:
            out.append(char)
            at += 1
    return tuple(out)


def read_map(text: str) -> dict[str, str]:
    """A map's text as httxt2dbm reads it: words at blanks, the second is the value; the last of
    equal keys counts.
    """
    found = {}
    for line in text.split("\n"):
        if line.strip() and not line.startswith("#"):
            key, *rest = line.split()
            found[key] = rest[0] if rest else ""
    return found


def _rule(conditions: tuple[_Condition, ...], substitution: str, flags: str) -> _Rule:
    if flags and not (flags.startswith("[") and flags.endswith("]")):
        raise NotUnderstoodError(f"no flags: {flags}")
    sets, status, skip, drops, last = [], 0, 0, False, False
    for flag in _flags(flags[1:-1]):
        if match := _SET.fullmatch(flag):
            sets.append((match[1], match[2]))
        elif flag == "G":
            status = 410
        elif match := re.fullmatch(r"R=(\d{3})", flag):
            status = int(match[1])
        elif match := re.fullmatch(r"S=(\d+)", flag):
            skip = int(match[1])
        elif flag == "QSD":
            drops = True
        elif flag == "L":
            last = True
        elif flag != "NE":
            raise NotUnderstoodError(f"no flag: {flag}")
    redirects = status not in {0, 410}
    if redirects != (substitution != "-") or (
        redirects and not (last and "NE" in _flags(flags[1:-1]))
    ):
        raise NotUnderstoodError(
            f"a rule that neither redirects nor stays: {substitution[:200]} {flags}"
        )
    return _Rule(conditions, substitution, tuple(sets), status, skip, drops)


def _flags(text: str) -> list[str]:
    return text.split(",") if text else []


def _condition(test: str, pattern: str) -> _Condition:
    bare = pattern.removeprefix("!")
    parts = _parts(test)
    return _Condition(
        test,
        parts,
        all(isinstance(p, str) or (p.kind == "%" and p.name in _SERVER_VARIABLES) for p in parts),
        negated=pattern.startswith("!"),
        equal=bare[1:] if bare.startswith("=") else None,
        pattern=regex("" if bare.startswith("=") else bare),
    )


def _closing(text: str, opened: int) -> int:
    """Where the brace closes that opens there."""
    depth = 0
    for at in range(opened, len(text)):
        depth += {"{": 1, "}": -1}.get(text[at], 0)
        if not depth:
            return at
    raise NotUnderstoodError(f"a brace does not close: {text[:200]}")


_SERVER_VARIABLES: Mapping[str, Callable[[_State], str]] = {
    "HTTP_HOST": lambda s: s.request.host,
    "THE_REQUEST": lambda s: f"GET {s.request.raw} HTTP/1.1",
    "REQUEST_URI": lambda s: s.path,
    "QUERY_STRING": lambda s: s.query,
    "REQUEST_SCHEME": lambda s: s.request.scheme,
}


def _variable(name: str, state: _State) -> str:
    if name in _SERVER_VARIABLES:
        return _SERVER_VARIABLES[name](state)
    kind, _, rest = name.partition(":")
    if kind == "ENV":
        return state.sets.get(rest, "")
    if kind == "HTTP":
        return state.request.headers.get(rest.lower(), "")
    raise NotUnderstoodError(f"there is no variable {name!r}")


def read_lines(text: str) -> list[tuple[str, ...]]:
    """Directives as Apache reads them: the name, and each argument without its quotes.

    Written against ap_getword_conf, not against our writer: it is there to show that no argument
    ended early.
    """
    out = []
    for line in text.split("\n"):
        bare = line.strip()
        if bare and not bare.startswith("#"):
            out.append(tuple(_words(bare)))
    return out


def _words(line: str) -> Iterator[str]:
    at = 0
    while at < len(line):
        if line[at].isspace():
            at += 1
            continue
        mark = line[at] if line[at] in "\"'" else ""
        at += len(mark)
        word = []
        while at < len(line) and (line[at] != mark if mark else not line[at].isspace()):
            if line[at] == "\\" and line[at + 1 : at + 2] in {"\\", mark or "\\"}:
                at += 1
            word.append(line[at])
            at += 1
        at += len(mark)
        yield "".join(word)
