"""Logs of one JSON object a line, however deep in it a request is told, and whatever wraps it."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from contextlib import suppress
from dataclasses import dataclass
from functools import cached_property
from operator import itemgetter
from typing import Any

from msgspec import MsgspecError
from msgspec.json import decode

from upright_ledger.core.inventory.noise import AsideClass
from upright_ledger.formats.files.json_text import read_json
from upright_ledger.formats.logs.forms.any_line import (
    USUAL,
    is_client,
    is_request_line,
    learned,
    looks_like_agent,
)
from upright_ledger.formats.logs.forms.log_roles import (
    Name,
    Places,
    line_of,
    parts_of,
    places_of,
    sent_in,
    tells_of_requests,
)
from upright_ledger.formats.logs.forms.log_times import Moment, moment_of, times_in
from upright_ledger.formats.logs.log_line import (
    Likeness,
    LogFormat,
    LogLine,
    NotALineError,
    Parser,
    host_name,
    most,
)

_MOST_SHAPES = 1_000
_LONG = 10_000  # characters
_NESTED = frozenset((dict, list))
_DEEPEST, _MOST_VALUES = 8, 500
_WRAPPED = frozenset(["log", "message", "msg", "textpayload", "line", "event", "raw", "data"])
"""Names under which collectors put the line that a server wrote."""

Path = tuple[str | int, ...]
"""Names and numbers by which a value is reached."""


class JsonParser:
    """Lines that are JSON objects. Objects of one shape are read alike: where their names lead is
    looked up once.
    """

    def __init__(self, wrapped: Parser | None = None) -> None:
        """wrapped: reads the line of a server that stands in an object as a text."""
        self._wrapped = wrapped
        self._known: dict[Any, Shape] = {}
        self._heard: dict[str, LogLine | str | None] = {}

    def __call__(self, line: str) -> LogLine | str:
        found = object_of(line)
        if found is None:
            return AsideClass.BLANK
        shape = self.shape_of(found, remember=len(line) <= _LONG)
        if not shape.wrapped:
            return line_of(shape.places, shape.values(found))
        inner = self._unwrapped(found, shape.wrapped)
        if isinstance(inner, LogLine):
            return inner
        try:
            return line_of(shape.places, shape.values(found))
        except NotALineError:
            if inner is not None:
                return inner
            raise

    def shape_of(self, found: dict[str, Any], *, remember: bool = True) -> Shape:
        """How objects like this one are read."""
        kinds = set(map(type, found.values()))
        outline = tuple(found) if kinds.isdisjoint(_NESTED) else _outline(found)
        known = self._known.get(outline)
        if known is None:
            if len(self._known) > _MOST_SHAPES:
                self._known.clear()
            known = _looked_up(found)
            if remember:  # who writes long lines is not remembered
                self._known[outline] = known
        return known

    def _unwrapped(self, found: Any, places: Sequence[Path]) -> LogLine | str | None:
        """The line of a server that stands in an object, or the class of what a program said; its
        day is the object's where it tells none.
        """
        aside: LogLine | str | None = None
        for path in places:
            text = _at(found, path)
            if not isinstance(text, str) or len(text) < _SHORTEST:
                continue
            aside = self.heard(text) or aside
            if isinstance(aside, LogLine):
                return aside if aside.day else aside._replace(day=_outer_time(found).day)
        return aside

    def heard(self, text: str) -> LogLine | str | None:
        """What a text says that stands in an object: the line of a server, the class of what a
        program said, or nothing.
        """
        if text in self._heard:
            return self._heard[text]
        found: LogLine | str | None = None
        if len(text) >= _SHORTEST:
            with suppress(NotALineError):
                if text.lstrip().startswith("{"):
                    found = JsonParser(self._wrapped)(text)
                elif self._wrapped is not None:
                    found = self._wrapped(text.rstrip("\r\n"))
        # Programs say the same again and again.
        if len(text) <= _SAID_OFTEN and len(self._heard) < _MOST_SHAPES:
            self._heard[text] = found
        return found


_SAID_OFTEN = 60  # characters


_SHORTEST = 10  # characters of a line of a log


def object_of(line: str) -> dict[str, Any] | None:
    """The object that a line is; None where it is blank. Raises NotALineError."""
    try:
        found = decode(line)  # several times as quick, and stricter
    except (MsgspecError, RecursionError):
        if not line.strip() or line.strip() in {"[", "]"}:
            return None
        try:
            found = _object_in(line)
        except ValueError:
            raise NotALineError("it is no JSON object") from None
    if not isinstance(found, dict):
        raise NotALineError("it is no JSON object")
    return found


def _object_in(line: str) -> Any:
    """What a line holds: a value, perhaps of an array, or an object behind words and a time. Raises
    ValueError.
    """
    text = line.strip().rstrip(",")
    at = text.find('{"')
    if at <= 0 or text[0] in '{"' or text[:2] in {"[{", '["'} or text[-1] != "}":
        return read_json(text)
    found, moments = read_json(text[at:]), times_in(text[:at])
    written = {_BEFORE: text[moments[0].at : at]} if moments else {}
    return {**found, **written} if isinstance(found, dict) else found


def _named_in(line: str) -> dict[str, Any] | None:
    """The object that a line holds; None where it holds none."""
    try:
        found = _object_in(line)
    except ValueError:
        return None
    return found if isinstance(found, dict) else None


_BEFORE = "timestamp before"
"""Where the time stands that was written before an object; a name that nobody gives."""


def _outer_time(found: dict[str, Any]) -> Moment:
    places, names = [], []
    for name, value in found.items():
        if isinstance(value, str | int | float):
            names.append(parts_of(name))
            places.append(str(value))
    told = places_of(names).time
    return next((m for at in told if (m := moment_of(places[at])).day), Moment(""))


def _outline(value: Any, depth: int = 0) -> Any:
    """The names in an object, as deep as they are looked at."""
    return tuple(
        [
            name
            if type(inner) is not dict and type(inner) is not list
            else (name, type(inner) is list, _inner_outline(inner, depth))
            for name, inner in value.items()
        ]
    )


def _inner_outline(value: Any, depth: int) -> Any:
    if depth >= _DEEPEST:
        return None
    if type(value) is dict:
        return _outline(value, depth + 1)
    if not value or type(value[0]) is not dict:
        return bool(value)
    if _is_pairs(value):
        return tuple([_pair(pair) for pair in value])
    return _outline(value[0], depth + 1)


def _is_pairs(value: list[Any]) -> bool:
    """Whether a list holds names with values, as headers and attributes are often told."""
    return all(
        type(v) is dict and "value" in v and isinstance(v.get("name", v.get("key")), str)
        for v in value
    )


def _pair(pair: dict[str, Any]) -> tuple[str, Path]:
    """The name that one of them has, and where its value is; some name its type, as in
    {"stringValue": "…"}.
    """
    name, value = pair.get("name", pair.get("key")), pair["value"]
    typed = type(value) is dict and len(value) == 1 and next(iter(value)).endswith("Value")
    return str(name), ("value", next(iter(value))) if typed else ("value",)


@dataclass(frozen=True)
class Shape:
    """How objects of one shape are read. paths: of the values that may mean something; values:
    takes them out of an object, as texts; places: which of them may be what; wrapped: where lines
    of servers may stand.
    """

    paths: tuple[Path, ...]
    places: Places
    wrapped: tuple[Path, ...]

    @cached_property
    def values(self) -> Callable[[Any], list[str]]:
        paths = self.paths
        if any(len(path) > 1 for path in paths) or len(paths) < _SEVERAL:
            return lambda o: [as_text(_at(o, path)) for path in paths]
        pick = itemgetter(*(path[0] for path in paths))
        return lambda o: [v if type(v) is str else as_text(v) for v in pick(o)]


def _looked_up(found: Any) -> Shape:
    """How objects of this shape are read."""
    told: list[tuple[Name, Path]] = []
    _collect(found, (), (), told)
    places = filled(
        places_of([name for name, _ in told]), [as_text(_at(found, path)) for _, path in told]
    )
    wanted = sorted({at for some in places for at in some})
    renumbered = {at: n for n, at in enumerate(wanted)}
    renamed = Places(*(tuple(renumbered[at] for at in some) for some in places))
    wrapped = tuple(path for name, path in told if name and name[-1] in _WRAPPED)
    return Shape(tuple(told[at][1] for at in wanted), renamed, wrapped)


_SEVERAL = 2


def filled(places: Places, values: Sequence[str]) -> Places:
    """What the names do not tell, by what stands in the values, where one of these is a request as
    it was sent.
    """
    named = (values[at] for at in places.request)
    requests = [n for n, value in enumerate(values) if _whole_request(value)]
    if not requests:
        return places
    found, taken = places._replace(request=tuple(requests)), set(requests)
    if any(map(_whole_request, named)):
        # Names that tell the request tell the rest, but for what has a name of its own.
        found, taken = places, {at for some in places for at in some}
    for meaning, test in _SHAPES.items():
        known = getattr(found, meaning)
        if any(test(values[at]) for at in known):
            continue
        fits = tuple(n for n, value in enumerate(values) if n not in taken and test(value))
        found = found._replace(**{meaning: (*fits, *known)})
        taken.update(fits)
    return found


def _whole_request(text: str) -> bool:
    sent = sent_in(text)
    return sent is not None and sent.protocol != ""


_SHAPES: dict[str, Callable[[str], object]] = {
    "status": lambda text: text in USUAL,
    "time": lambda text: moment_of(text).clock,
    "agent": looks_like_agent,
    "referrer": lambda text: text.startswith(("http://", "https://")),
    "client": is_client,
    "host": host_name,
}
"""Meaning → what such a value looks like, in the order in which they are given away."""


def _collect(value: Any, name: Name, path: Path, told: list[tuple[Name, Path]]) -> None:
    if len(told) >= _MOST_VALUES:
        return
    if type(value) is dict and len(path) <= _DEEPEST:
        for key, inner in value.items():
            _collect(inner, (*name, *parts_of(key)), (*path, key), told)
    elif type(value) is list and value:
        if type(value[0]) is dict and _is_pairs(value):
            for n, pair in enumerate(value):
                own, at = _pair(pair)
                told.append(((*name, *parts_of(own)), (*path, n, *at)))
        else:
            _collect(value[0], name, (*path, 0), told)
    else:
        told.append((name, path))


def values_in(line: str) -> tuple[Places, list[str], list[tuple[Name, str]]] | None:
    """What the values of an object may be, and these; and all its values by their names."""
    if (found := _named_in(line)) is None:
        return None
    shape = _looked_up(found)
    told: list[tuple[Name, Path]] = []
    _collect(found, (), (), told)
    return (
        shape.places,
        shape.values(found),
        [(name, as_text(_at(found, path))) for name, path in told],
    )


def _at(found: Any, path: Path) -> Any:
    for step in path:
        found = found[step]
    return found


def as_text(value: Any) -> str:
    """A value of an object as a text; empty where it is none."""
    if type(value) is str:
        return value
    if value is None or value is True or value is False or type(value) in {dict, list}:
        return ""
    return str(value)


def _sniff(lines: Sequence[str]) -> Likeness:
    first = [line for line in lines[:20] if line.strip() not in {"[", "]"}]
    if not any(map(_is_object, first)):
        return Likeness.NONE
    return (
        Likeness.SURE if most(first, _is_object) and any(map(_is_request, first)) else Likeness.SOME
    )


def _is_object(line: str) -> bool:
    return line.lstrip().startswith("{") or ('{"' in line and line.rstrip().endswith("}"))


def _is_request(line: str) -> bool:
    """Whether an object tells of a request."""
    if (found := _named_in(line)) is None:
        return False
    shape = _looked_up(found)
    if tells_of_requests(shape.places, shape.values(found)):
        return True
    return any(
        isinstance(text := _at(found, path), str)
        and (is_request_line(text) or (text.lstrip().startswith("{") and _is_request(text)))
        for path in shape.wrapped
    )


def _new_parser(sample: Sequence[str], hosts: frozenset[str]) -> Parser:
    inner = []
    for line in sample:
        if (found := _named_in(line)) is not None:
            inner += [
                text.rstrip("\r\n")
                for path in _looked_up(found).wrapped
                if isinstance(text := _at(found, path), str)
            ]
    return JsonParser(learned(inner, hosts))


JSON_LINES = LogFormat(_sniff, _new_parser, by_line=True)
