"""What variables, tests and texts with variables mean in nginx's files."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence

from upright_ledger.core.rules.imported.rule import (
    ARGUMENT,
    HOST,
    METHOD,
    PATH,
    PORT,
    QUERY,
    SCHEME,
    TARGET,
    Condition,
    PatternNotUnderstoodError,
    Piece,
    PieceKind,
    compiled,
)
from upright_ledger.formats.server_config.nginx_config import Statement

SUBJECTS = {
    "uri": PATH, "document_uri": PATH, "request_uri": TARGET, "host": HOST, "http_host": HOST,
    "args": QUERY, "query_string": QUERY,
    "scheme": SCHEME, "request_method": METHOD, "server_port": PORT,
}  # fmt: skip
_BEGINS_WITH_SLASH = {PATH, TARGET}


def parts_of_test(s: Statement) -> list[str]:
    """The parts of an if's condition: a variable, and maybe a sign and what it is compared with."""
    found = list(s.words[1:])
    if not found:
        raise PatternNotUnderstoodError("it has no condition")
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
        raise PatternNotUnderstoodError(f"the condition {' '.join(found)[:80]} is not understood")
    return found


def subject_of(variable: str) -> str | None:
    """What a variable stands for; None where that is not known."""
    if variable.startswith("arg_"):
        return ARGUMENT + variable[4:]
    return SUBJECTS.get(variable)


def condition_of(test: Sequence[str]) -> Condition:
    """What a test asks of a request. Raises NotUnderstoodError where that is not known."""
    variable = test[0].removeprefix("$").strip("{}")
    sign, wanted = (test[1], test[2]) if len(test) == 3 else ("!~", "^0?$")
    negate, literal, nocase = sign.startswith("!"), sign.endswith("="), sign.endswith("*")
    if variable == "https":  # "on", or nothing
        return Condition(SCHEME, _scheme({"https": "on", "http": ""}, test), literal=True)
    if variable == "http_x_forwarded_proto":
        fits = [holds(["$", *test[1:]], value) for value in ("", "http", "https")]
        if fits[0] != fits[1] or fits[1] == fits[2]:
            raise PatternNotUnderstoodError(
                "the condition on X-Forwarded-Proto is not the same without that header"
            )
        return Condition(SCHEME, "https" if fits[2] else "http", literal=True)
    subject = subject_of(variable)
    if subject is None:
        raise PatternNotUnderstoodError(f"the condition on {test[0]} is not understood")
    if not literal:
        compiled(pattern_of(wanted), nocase)
    return Condition(subject, wanted if literal else pattern_of(wanted), literal, nocase, negate)


def _scheme(values: Mapping[str, str], test: Sequence[str]) -> str:
    """The one scheme at which a test holds, by the value that its variable has there."""
    fits = [scheme for scheme, value in values.items() if holds(test, value)]
    if len(fits) != 1:
        raise PatternNotUnderstoodError(f"the condition {' '.join(test)} is not understood")
    return fits[0]


def holds(test: Sequence[str], value: str) -> bool:
    """Whether a test holds for a value without variables. Raises NotUnderstoodError for another."""
    if "$" in value and len(test) > 1:
        raise PatternNotUnderstoodError("the condition looks at what a map makes of the request")
    if len(test) == 1:
        return value not in {"", "0"}
    sign, wanted = test[1], test[2]
    if sign.endswith("="):
        return (value == wanted) != sign.startswith("!")
    return bool(
        compiled(pattern_of(wanted), sign.endswith("*")).search(value.encode())
    ) != sign.startswith("!")


def variables_of(goal: str) -> list[str]:
    """The names of the variables in a text."""
    return [m[1] or m[2] or m[3] for m in re.finditer(r"\$(?:\{(\w+)\}|(\d)|([A-Za-z_]\w*))", goal)]


def split_variables(goal: str) -> list[Piece]:
    """A text with variables in pieces; what is no known variable is a group."""
    out: list[Piece] = []
    at = 0
    for match in re.finditer(r"\$(?:\{(\w+)\}|(\d)|([A-Za-z_]\w*))", goal):
        out.append((PieceKind.TEXT, goal[at : match.start()]))
        at = match.end()
        name = match[1] or match[2] or match[3]
        if name in SUBJECTS or name == "is_args":
            out.append((PieceKind.VARIABLE, SUBJECTS.get(name, name)))
        else:
            out.append((PieceKind.GROUP, name))
    out.append((PieceKind.TEXT, goal[at:]))
    return [p for p in out if p != (PieceKind.TEXT, "")]


def value_pieces(value: str, key: str) -> tuple[Piece, ...]:
    """The value of a map's entry in pieces; numbered groups are those of its key."""
    pieces = tuple(split_variables(value))
    if any(kind == PieceKind.GROUP for kind, _ in pieces) and not key.startswith("~"):
        raise PatternNotUnderstoodError("the value of an entry names a group, and its key has none")
    return pieces


def check_start(pieces: Sequence[Piece]) -> None:
    """Raises NotUnderstoodError for a destination that is neither a path nor an address whatever
    the request is.
    """
    kind, value = pieces[0] if pieces else (PieceKind.TEXT, "")
    if kind == PieceKind.VARIABLE and value in _BEGINS_WITH_SLASH | {SCHEME}:
        return
    whole = (
        re.match(r"/(?!/)|[A-Za-z][A-Za-z0-9+.-]*://", value) if kind == PieceKind.TEXT else None
    )
    doubled = (
        kind == PieceKind.TEXT
        and value == "/"
        and len(pieces) > 1
        and pieces[1][0] == PieceKind.VARIABLE
    )
    if whole is None or doubled:
        raise PatternNotUnderstoodError(
            "it names no destination" if not pieces else "its destination is relative, or may be"
        )


def pattern_of(text: str) -> str:
    """A pattern with its named groups as RE2 writes them."""
    return re.sub(r"\(\?<([A-Za-z_])", r"(?P<\1", text)


def is_status(text: str) -> bool:
    """Whether a word is the number of a status."""
    return re.fullmatch("[0-9]{3}", text) is not None
