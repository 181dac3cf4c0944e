"""HAProxy: the http-request rules of a frontend, and its map files (configuration manual, sections
4.2 and 7).
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field

from upright_ledger.servers.interpreters import (
    DeclinedError,
    NotUnderstoodError,
    ServerRequest,
    ServerResponse,
)
from upright_ledger.servers.interpreters.haproxy_samples import (
    Expression,
    SampleConditions,
    State,
    read_conditions,
    read_expression,
    read_format,
    split_words,
)

Action = Callable[[State], ServerResponse | None]


@dataclass(frozen=True)
class _Step:
    act: Action
    when: SampleConditions


@dataclass
class HaproxyInterpreter:
    """rules: the lines for a frontend. maps: files by name, as they are; they are looked for below
    `place`.
    """

    rules: str
    maps: Mapping[str, str]
    place: str
    _steps: list[_Step] = field(default_factory=list)
    _headers: list[tuple[str, str, SampleConditions]] = field(default_factory=list)

    def __post_init__(self) -> None:
        tables = {f"{self.place}/{name}": read_map(text) for name, text in self.maps.items()}
        for line in self.rules.split("\n"):
            words = split_words(line)
            if words:
                self._add(words, tables)

    def _add(self, words: list[str], tables: Mapping[str, list[tuple[str, str]]]) -> None:
        at = words.index("if") if "if" in words else len(words)
        when = read_conditions(words[at + 1 :], tables) if at < len(words) else SampleConditions(())
        if at == len(words) - 1:
            raise NotUnderstoodError(f"a condition is missing: {' '.join(words)[:200]}")
        match words[:at]:
            case ["http-after-response", "set-header", name, value]:
                self._headers.append((name.lower(), value, when))
            case ["http-request", *rest]:
                self._steps.append(_Step(_action(rest, tables), when))
            case _:
                raise _strange(words)

    def answer(self, request: ServerRequest) -> ServerResponse | None:
        if not request.raw.isascii() or "#" in request.raw or not request.raw.startswith("/"):
            raise DeclinedError
        state = State(request, request.raw)
        for step in self._steps:
            if step.when.hold(state) and (found := step.act(state)):
                state.status = found.status
                cache = [
                    v for n, v, when in self._headers if n == "cache-control" and when.hold(state)
                ]
                return found._replace(cache=cache[-1] if cache else "")
        if state.target != request.raw:
            raise NotUnderstoodError(
                f"the request goes on as {state.target!r} instead of {request.raw!r}"
            )
        return None


def read_map(text: str) -> list[tuple[str, str]]:
    """Lines in their order: key up to the first blank, the rest is the value."""
    found = []
    for line in text.split("\n"):
        bare = line.lstrip(" \t")
        if bare and not bare.startswith("#"):
            key, _, value = bare.partition(" ")
            found.append((key, value.strip(" \t\r")))
    return found


def _action(words: list[str], tables: Mapping[str, list[tuple[str, str]]]) -> Action:
    match words:
        case [call, text] if call.startswith("set-var("):
            return _set(_variable(call, "set-var"), read_expression(text, tables))
        case [call, "bool(true)"] if call.startswith("set-var("):
            return _set(_variable(call, "set-var"), read_expression("bool(true)", tables))
        case [call, text] if call.startswith("set-var-fmt("):
            return _set(_variable(call, "set-var-fmt"), read_format(text, tables))
        case [call] if call.startswith("unset-var("):
            return _unset(_variable(call, "unset-var"))
        case ["set-path", text]:
            return _put_path(read_format(text, tables), whole=False)
        case ["set-pathq", text]:
            return _put_path(read_format(text, tables), whole=True)
        case ["normalize-uri", step] if step in _NORMALISED:
            return _normalise(_NORMALISED[step])
        case ["normalize-uri", "path-strip-dotdot", "full"]:
            return _normalise(_without_climbing)
        case ["redirect", "code", status, "location", text] if status in {
            "301",
            "302",
            "303",
            "307",
            "308",
        }:
            location = read_format(text, tables)
            return lambda state: ServerResponse(int(status), location(state) or "")
        case ["deny", "deny_status", "410"]:
            return lambda _: ServerResponse(410)
    raise _strange(words)


def _variable(call: str, name: str) -> str:
    inside = call.removeprefix(f"{name}(")
    if not inside.endswith(")") or not inside.startswith("txn."):
        raise NotUnderstoodError(f"no variable: {call}")
    return inside[:-1]


def _set(name: str, value: Expression) -> Action:
    def act(state: State) -> None:
        found = value(state)
        if found is not None:
            state.variables[name] = found

    return act


def _unset(name: str) -> Action:
    def act(state: State) -> None:
        state.variables.pop(name, None)

    return act


def _put_path(value: Expression, *, whole: bool) -> Action:
    def act(state: State) -> None:
        _, question, query = state.target.partition("?")
        state.target = (value(state) or "") + ("" if whole else question + query)

    return act


def _normalise(change: Callable[[str], str]) -> Action:
    def act(state: State) -> None:
        path, question, query = state.target.partition("?")
        state.target = change(path) + question + query

    return act


def _merged(path: str) -> str:
    while "//" in path:
        path = path.replace("//", "/")
    return path


def _without_dots(path: str) -> str:
    parts = path.split("/")
    return "/".join(p for n, p in enumerate(parts) if p != "." or n == 0) + (
        "/" if parts[-1] == "." else ""
    )


def _without_climbing(path: str) -> str:
    """Dot-dot segments taken out; `full`: those that lead above the root, too."""
    out: list[str] = []
    if not path.startswith("/"):
        raise NotUnderstoodError(f"no path: {path!r}")
    parts = path.split("/")[1:]
    for part in parts:
        if part == "..":
            if out:
                out.pop()
        else:
            out.append(part)
    return "/" + "/".join(out) + ("/" if parts[-1] == ".." and out else "")


_NORMALISED: Mapping[str, Callable[[str], str]] = {
    "path-merge-slashes": _merged,
    "path-strip-dot": _without_dots,
}


def _strange(words: list[str]) -> NotUnderstoodError:
    return NotUnderstoodError(f"not understood: {' '.join(words)[:200]}")
