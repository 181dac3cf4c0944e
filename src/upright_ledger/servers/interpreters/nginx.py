"""nginx: maps, and the conditions of a server block (ngx_http_map_module,
ngx_http_rewrite_module).
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator
from dataclasses import dataclass, field
from typing import NamedTuple

from upright_ledger.config_syntax.nginx_lexer import statements
from upright_ledger.core.url.request_target import lower_ascii
from upright_ledger.servers.interpreters import (
    DeclinedError,
    NotUnderstoodError,
    ServerRequest,
    ServerResponse,
    regex,
    resolved,
    unescaped,
)

_VARIABLE = re.compile(r"\$(?:\{(\w+)\}|(\w+))")
_BUILT_IN = frozenset(
    {"request_uri", "uri", "args", "is_args", "host", "http_host", "scheme", "status"}
)
_POINTER = 8  # bytes
_COMPARISONS = {"=", "!=", "~", "~*"}


class _Statement(NamedTuple):
    """words: without the marks of quotes. block: of those that have one."""

    words: tuple[str, ...]
    block: tuple[_Statement, ...] | None = None


@dataclass
class _Map:
    source: str
    exact: dict[str, str] = field(default_factory=dict)
    patterns: list[tuple[re.Pattern[str], str]] = field(default_factory=list)
    default: str = ""


@dataclass(frozen=True)
class _Branch:
    """An `if` with its `return`. variable, comparison, operand: of the condition; comparison is
    empty for a mere variable.
    """

    variable: str
    comparison: str
    operand: str
    status: int
    text: str


class NginxInterpreter:
    """rules: what is included in the http block; block: what is included in a server block."""

    def __init__(self, rules: str, block: str) -> None:
        self._maps: dict[str, _Map] = {}
        self._constants: dict[str, str] = {}
        self._captures: set[str] = set()
        self._texts: list[str] = []
        self._branches: list[_Branch] = []
        self._headers: list[tuple[str, str]] = []
        sizes: dict[str, int] = {}
        for statement in _statements(rules):
            match statement.words:
                case ("map", source, name) if statement.block is not None:
                    self._add_map(source, _name(name), statement.block)
                case ("geo", name) if statement.block is not None:
                    self._add_geo(_name(name), statement.block)
                case ("map_hash_bucket_size" | "map_hash_max_size" as name, size) if (
                    size.isdigit() and name not in sizes and statement.block is None
                ):
                    sizes[name] = int(size)
                case _:
                    raise _strange(statement)
        self._check_sizes(sizes.get("map_hash_bucket_size", 64))
        for statement in _statements(block):
            self._add_to_block(statement)
        self._check_variables()

    def _add_map(self, source: str, name: str, block: Iterable[_Statement]) -> None:
        if name in self._maps:
            raise NotUnderstoodError(f"${name} is mapped twice")
        table = self._maps[name] = _Map(source)
        self._texts.append(source)
        seen = set()
        for entry in block:
            if len(entry.words) != 2 or entry.block is not None:
                raise _strange(entry)
            key, value = entry.words
            self._texts.append(value)
            if key.startswith("\\") or key in {"hostnames", "volatile", "include"}:
                raise _strange(entry)
            folded = key if key.startswith("~") else lower_ascii(key)
            if folded in seen:
                raise NotUnderstoodError(f"{key!r} stands twice in ${name}")
            seen.add(folded)
            if key == "default":
                table.default = value
            elif key.startswith("~"):
                fold = key.startswith("~*")
                table.patterns.append(
                    (self._regex(key.removeprefix("~").removeprefix("*"), fold=fold), value)
                )
            else:
                table.exact[folded] = value

    def _add_geo(self, name: str, block: Iterable[_Statement]) -> None:
        for entry in block:
            if len(entry.words) != 2 or entry.words[0] != "default":
                raise _strange(entry)
            self._constants[name] = entry.words[1]

    def _check_sizes(self, bucket: int) -> None:
        for name, table in self._maps.items():
            longest = max(map(len, table.exact), default=0)
            if 2 * _POINTER + -(-(longest + 2) // _POINTER) * _POINTER > bucket:
                raise NotUnderstoodError(f"map_hash_bucket_size {bucket} is too small for ${name}")

    def _add_to_block(self, statement: _Statement) -> None:
        match statement.words:
            case ("if", *condition) if statement.block is not None and len(statement.block) == 1:
                variable, comparison, operand = _condition(condition)
                status, text = _return(statement.block[0])
                if comparison.startswith("~"):
                    self._regex(operand, fold=comparison == "~*")
                self._texts += [f"${variable}", text]
                self._branches.append(_Branch(variable, comparison, operand, status, text))
            case ("add_header", name, value, "always") if statement.block is None:
                self._texts.append(value)
                self._headers.append((name, value))
            case _:
                raise _strange(statement)

    def _regex(self, pattern: str, *, fold: bool) -> re.Pattern[str]:
        found = regex(pattern, fold=fold)
        self._captures |= found.groupindex.keys()
        return found

    def _check_variables(self) -> None:
        known = _BUILT_IN | self._maps.keys() | self._constants.keys() | self._captures
        for text in self._texts:
            if "$" not in text:
                continue
            if "$" in _VARIABLE.sub("", text):
                raise NotUnderstoodError(f"a variable's name is missing in {text!r}")
            for name in _variables(text):
                if name not in known and not name.startswith("http_"):
                    raise NotUnderstoodError(f"there is no variable ${name}")

    def answer(self, request: ServerRequest) -> ServerResponse | None:
        if not request.target.startswith("/"):
            raise DeclinedError
        asked = _Asked(self._maps, request, self._constants)
        for branch in self._branches:
            if asked.holds(branch):
                asked.values["status"] = str(branch.status)
                location = asked.expand(branch.text) if branch.status != 410 else ""
                headers = {name.lower(): asked.expand(value) for name, value in self._headers}
                return ServerResponse(branch.status, location, headers.get("cache-control", ""))
        return None


class _Asked:
    """One request: variables are worked out when they are asked for, once."""

    def __init__(
        self, maps: dict[str, _Map], request: ServerRequest, constants: dict[str, str]
    ) -> None:
        self._maps = maps
        told = request.raw.partition("#")[0]
        path, _, args = told.partition("?")
        host = lower_ascii(request.host.partition(":")[0])
        self._request = request
        self.values = dict(constants) | {
            "request_uri": request.raw,
            "uri": resolved(unescaped(path)),
            "args": args,
            "is_args": "?" if args else "",
            "host": host.removesuffix("."),
            "http_host": request.host,
            "scheme": request.scheme,
        }

    def expand(self, text: str) -> str:
        return _VARIABLE.sub(lambda m: self._value(m[1] or m[2]), text)

    def _value(self, name: str) -> str:
        if name not in self.values:
            if name in self._maps:
                self.values[name] = self._looked_up(self._maps[name])
            elif name.startswith("http_"):
                self.values[name] = self._request.headers.get(name[5:].replace("_", "-"), "")
        return self.values.get(name, "")

    def _looked_up(self, table: _Map) -> str:
        key = self.expand(table.source)
        value = table.exact.get(lower_ascii(key))
        if value is None and key:  # patterns are not tried on an empty text
            for pattern, outcome in table.patterns:
                if match := pattern.search(key):
                    self.values |= {name: text or "" for name, text in match.groupdict().items()}
                    value = outcome
                    break
        return self.expand(table.default if value is None else value)

    def holds(self, branch: _Branch) -> bool:
        value = self._value(branch.variable)
        match branch.comparison:
            case "":
                return value not in {"", "0"}
            case "=":
                return value == self.expand(branch.operand)
            case "!=":
                return value != self.expand(branch.operand)
            case _:
                match = regex(branch.operand, fold=branch.comparison == "~*").search(value)
                if match:
                    self.values |= {name: text or "" for name, text in match.groupdict().items()}
                return match is not None


def _statements(text: str) -> list[_Statement]:
    """The statements of a file. Raises NotUnderstoodError for blocks and quotes that do not end."""
    open_blocks: list[tuple[tuple[str, ...], list[_Statement]]] = []
    found: list[_Statement] = []
    try:
        for told, end in statements(text):
            words = tuple([word.removeprefix("\0") for word in told])
            if end == ";":
                if not words:
                    raise NotUnderstoodError("a semicolon stands alone")
                found.append(_Statement(words))
            elif end == "{":
                open_blocks.append((words, found))
                found = []
            elif not end:
                raise NotUnderstoodError("the file ends within a statement")
            else:
                if not open_blocks or words:
                    raise NotUnderstoodError(f"a block ends before its time: {list(words)}")
                head, outer = open_blocks.pop()
                outer.append(_Statement(head, tuple(found)))
                found = outer
    except IndexError:
        raise NotUnderstoodError("a quoted word does not end") from None
    if open_blocks:
        raise NotUnderstoodError("the file ends within a block")
    return found


def _condition(parts: list[str]) -> tuple[str, str, str]:
    """Variable, comparison and operand of an `if`."""
    if not parts or not parts[0].startswith("(") or not parts[-1].endswith(")"):
        raise NotUnderstoodError(f"no condition: {' '.join(parts)}")
    inside = [parts[0][1:], *parts[1:]]
    inside[-1] = inside[-1].removesuffix(")")
    inside = [*inside[:-1], *([inside[-1]] if inside[-1] else [])]
    if len(inside) == 1:
        return _name(inside[0]), "", ""
    if len(inside) != 3 or inside[1] not in _COMPARISONS:
        raise NotUnderstoodError(f"no condition: {' '.join(parts)}")
    return _name(inside[0]), inside[1], inside[2]


def _return(statement: _Statement) -> tuple[int, str]:
    match statement.words:
        case ("return", status) if status.isdigit() and statement.block is None:
            return int(status), ""
        case ("return", status, text) if status.isdigit() and statement.block is None:
            return int(status), text
        case _:
            raise _strange(statement)


def _name(word: str) -> str:
    match = _VARIABLE.fullmatch(word)
    if match is None:
        raise NotUnderstoodError(f"no variable: {word!r}")
    return str(match[1] or match[2])


def _variables(text: str) -> Iterator[str]:
    return (m[1] or m[2] for m in _VARIABLE.finditer(text))


def _strange(statement: _Statement) -> NotUnderstoodError:
    return NotUnderstoodError(f"not understood: {' '.join(statement.words)[:200]}")
