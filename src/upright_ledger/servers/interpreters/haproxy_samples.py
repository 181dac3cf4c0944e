"""HAProxy's samples: fetches, converters, log formats and the conditions made of them."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from functools import cache

from upright_ledger.core.url.request_target import lower_ascii
from upright_ledger.servers.interpreters import NotUnderstoodError, ServerRequest, regex

Tables = Mapping[str, list[tuple[str, str]]]
_UNRESERVED = frozenset("ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789-._~")


@dataclass
class State:
    """One request under way. target: as it stands by now; status: of the response."""

    request: ServerRequest
    target: str
    variables: dict[str, str] = field(default_factory=dict)
    status: int = 0


Expression = Callable[[State], str | None]
"""Gives a sample, or None where there is none."""


@dataclass(frozen=True)
class SampleConditions:
    """Alternatives of tests that hold together; none at all hold always."""

    either: tuple[tuple[Callable[[State], bool], ...], ...]

    def hold(self, state: State) -> bool:
        return not self.either or any(all(test(state) for test in tests) for tests in self.either)


def split_words(line: str) -> list[str]:
    """The words of a line. Within '…' all is meant as it stands; within "…" a backslash takes the
    next sign's meaning away.
    """
    words, word, at, inside = [], "", 0, False
    while at < len(line):
        char = line[at]
        if char == "'":
            end = line.find("'", at + 1)
            if end < 0:
                raise NotUnderstoodError(f"a quote does not end: {line[:200]}")
            word, at, inside = word + line[at + 1 : end], end + 1, True
        elif char in '"$\\':
            raise NotUnderstoodError(f"not understood: {line[:200]}")
        elif char in " \t":
            if inside:
                words.append(word)
            word, at, inside = "", at + 1, False
        elif char == "#":
            break
        else:
            word, at, inside = word + char, at + 1, True
    return [*words, word] if inside else words


def read_expression(text: str, tables: Tables) -> Expression:
    """A fetch and its converters. Raises NotUnderstoodError."""
    (fetch, arguments), *converters = _calls(text)
    value = _fetch(fetch, arguments)
    for name, told in converters:
        value = _then(value, _converter(name, told, tables))
    return value


def read_format(text: str, tables: Tables) -> Expression:
    """A log format: a text with samples in %[…]."""
    parts: list[str | Expression] = []
    at = 0
    while at < len(text):
        if text.startswith("%%", at):
            parts.append("%")
            at += 2
        elif text.startswith("%[", at):
            end = _end_of_sample(text, at + 2)
            parts.append(read_expression(text[at + 2 : end], tables))
            at = end + 1
        elif text[at] == "%":
            raise NotUnderstoodError(f"no log format: {text[:200]}")
        else:
            parts.append(text[at])
            at += 1
    return lambda state: "".join(p if isinstance(p, str) else p(state) or "" for p in parts)


def read_conditions(words: Sequence[str], tables: Tables) -> SampleConditions:
    """What stands behind `if`."""
    either: list[list[Callable[[State], bool]]] = [[]]
    at = 0
    while at < len(words):
        if words[at] == "or":
            either.append([])
            at += 1
            continue
        if words[at] not in {"{", "!{"}:
            raise NotUnderstoodError(f"no condition: {' '.join(words)[:200]}")
        end = at + 1
        while end < len(words) and words[end] != "}":
            end += 1
        if end == len(words):
            raise NotUnderstoodError(f"a condition does not end: {' '.join(words)[:200]}")
        test = _test(words[at + 1 : end], tables)
        either[-1].append(_not(test) if words[at] == "!{" else test)
        at = end + 1
    if not all(either):
        raise NotUnderstoodError("a condition is empty")
    return SampleConditions(tuple(map(tuple, either)))


def _not(test: Callable[[State], bool]) -> Callable[[State], bool]:
    return lambda state: not test(state)


def _test(words: Sequence[str], tables: Tables) -> Callable[[State], bool]:
    match words:
        case ["ssl_fc"]:
            return lambda state: state.request.scheme == "https"
        case ["status", *codes] if all(c.isdigit() for c in codes):
            return lambda state: str(state.status) in codes
        case [text, "-m", "found"]:
            value = read_expression(text, tables)
            return lambda state: value(state) is not None
        case [text, "-m", "len", "gt", number] if number.isdigit():
            value = read_expression(text, tables)
            return lambda state: len(value(state) or "") > int(number)
        case [text, "eq", "0"] if re.search(r",strcmp\([^()]*\)$", text):
            value = read_expression(text, tables)
            return lambda state: value(state) == "0"
        case [text, "-m", how, operand] if how in _COMPARED:
            value, compared = read_expression(text, tables), _COMPARED[how]
            if how == "reg":
                regex(operand)
            return lambda state: (found := value(state)) is not None and compared(found, operand)
    raise NotUnderstoodError(f"no test: {' '.join(words)[:200]}")


_COMPARED: Mapping[str, Callable[[str, str], bool]] = {
    "str": lambda value, operand: value == operand,
    "beg": lambda value, operand: value.startswith(operand),
    "end": lambda value, operand: value.endswith(operand),
    "sub": lambda value, operand: operand in value,
    "reg": lambda value, operand: regex(operand).search(value) is not None,
}


@cache
def _calls(text: str) -> list[tuple[str, tuple[str, ...]]]:
    """Names with their arguments, joined by commas."""
    calls, at = [], 0
    while at <= len(text):
        match = re.compile(r"[a-z_.]+").match(text, at)
        if match is None:
            raise NotUnderstoodError(f"no sample: {text[:200]}")
        at = match.end()
        arguments: tuple[str, ...] = ()
        if text[at : at + 1] == "(":
            end, arguments = _arguments(text, at + 1)
            at = end + 1
        calls.append((match[0], arguments))
        if at < len(text) and text[at] != ",":
            raise NotUnderstoodError(f"no sample: {text[:200]}")
        at += 1
    return calls


def _arguments(text: str, at: int) -> tuple[int, tuple[str, ...]]:
    """Where the bracket closes, and what stands in it; between "…" commas and brackets are meant as
    they stand.
    """
    found, word = [], ""
    while at < len(text):
        char = text[at]
        if char == '"':
            end = at + 1
            while end < len(text) and text[end] != '"':
                # A backslash hides the quote after it, and only then goes away.
                if text[end] == "\\" and text[end + 1 : end + 2] in {'"', "\\"}:
                    end += 1
                    if text[end] == "\\":
                        word += "\\"
                        end += 1
                        continue
                word += text[end]
                end += 1
            at = end + 1
        elif char == ",":
            found.append(word)
            word, at = "", at + 1
        elif char == ")":
            return at, (*found, word)
        else:
            word, at = word + char, at + 1
    raise NotUnderstoodError(f"a bracket does not close: {text[:200]}")


def _end_of_sample(text: str, at: int) -> int:
    """Where the %[ closes that was opened there: brackets between quotes and parentheses do not
    count.
    """
    depth, quoted = 0, False
    while at < len(text):
        char = text[at]
        if quoted and char == "\\":
            at += 1
        elif char == '"':
            quoted = not quoted
        elif not quoted:
            depth += {"(": 1, ")": -1}.get(char, 0)
            if char == "]" and not depth:
                return at
        at += 1
    raise NotUnderstoodError(f"a sample does not end: {text[:200]}")


def _then(value: Expression, change: Callable[[str, State], str | None]) -> Expression:
    return lambda state: None if (found := value(state)) is None else change(found, state)


def _fetch(name: str, arguments: tuple[str, ...]) -> Expression:
    match name, arguments:
        case "path", ():
            return lambda state: state.target.partition("?")[0]
        case "pathq", ():
            return lambda state: state.target
        case "query", ():
            return lambda state: state.target.partition("?")[2] if "?" in state.target else None
        case "url_param", (wanted,):
            return lambda state: next((v for n, v in _pairs(state.target) if n == wanted), None)
        case "req.hdr", (header,):
            return lambda state: (
                state.request.host
                if header.lower() == "host"
                else state.request.headers.get(header.lower())
            )
        case "req.hdr", (header, "1"):
            return lambda state: (
                state.request.headers.get(header.lower(), "").split(",")[0].strip() or None
            )
        case "var", (variable,):
            return lambda state: state.variables.get(variable)
        case "bool", ("true",):
            return lambda _: "1"
        case "str", (text,):
            return lambda _: text
    raise NotUnderstoodError(f"no sample: {name}({','.join(arguments)})")


def _pairs(target: str) -> Iterator[tuple[str, str]]:
    """Parameters that have an equals sign."""
    for part in target.partition("?")[2].split("&"):
        name, equals, value = part.partition("=")
        if equals:
            yield name, value


def _converter(
    name: str, arguments: tuple[str, ...], tables: Tables
) -> Callable[[str, State], str | None]:
    match name, arguments:
        case "lower", ():
            return lambda text, _: lower_ascii(text)
        case "url_dec", ():
            return lambda text, _: re.sub("%([0-9A-Fa-f]{2})", lambda m: chr(int(m[1], 16)), text)
        case "url_enc", ():
            return lambda text, _: "".join(
                c if c in _UNRESERVED else f"%{ord(c):02X}" for c in text
            )
        case "field", (number, delimiter) if number.isdigit() and len(delimiter) == 1:
            return lambda text, _: dict(enumerate(text.split(delimiter), 1)).get(int(number))
        case "bytes", (start, count) if start.isdigit() and count.isdigit():
            return lambda text, _: (
                text[int(start) : int(start) + int(count)] if int(start) < len(text) else None
            )
        case "strcmp", (variable,):
            return lambda text, state: (
                None
                if (other := state.variables.get(variable)) is None
                else str(_order(text, other))
            )
        case "regsub", (pattern, replacement, *flags) if flags in ([], ["g"]):
            found = regex(pattern)
            return lambda text, _: found.sub(
                lambda m: _filled(replacement, m), text, count=0 if flags else 1
            )
        case "map_str", (file,) if file in tables:
            exact: dict[str, str] = {}
            for key, value in tables[file]:
                exact.setdefault(key, value)
            return lambda text, _: exact.get(text)
        case "map_regm", (file,) if file in tables:
            patterns = [(regex(key), value) for key, value in tables[file]]
            return lambda text, _: next(
                (_filled(v, m) for p, v in patterns if (m := p.search(text))), None
            )
    raise NotUnderstoodError(f"no converter: {name}({','.join(arguments)})")


def _order(one: str, other: str) -> int:
    return (one > other) - (one < other)


def _filled(text: str, match: re.Match[str]) -> str:
    r"""A text with \1 and the like replaced by what was captured."""
    return re.sub(
        r"\\(\d)", lambda m: match[int(m[1])] or "" if int(m[1]) <= match.re.groups else "", text
    )
