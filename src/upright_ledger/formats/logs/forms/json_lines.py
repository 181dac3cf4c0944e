"""Logs of one JSON object a line, however deep in it a request is told, and whatever wraps it."""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from contextlib import suppress
from dataclasses import dataclass
from functools import cached_property
from operator import itemgetter
from typing import Any
from urllib.parse import urlencode

from upright_ledger.core.inventory.noise import AsideClass
from upright_ledger.formats.logs.forms.any_line import USUAL, is_request_line, learned
from upright_ledger.formats.logs.forms.line_fields import is_client, looks_like_agent
from upright_ledger.formats.logs.forms.line_objects import is_object, named_in, object_of
from upright_ledger.formats.logs.log_line import (
    Likeness,
    LogFormat,
    LogLine,
    NotALineError,
    Parser,
    host_name,
    is_quoted_request,
    most,
)
from upright_ledger.formats.logs.meanings.log_roles import (
    Name,
    Places,
    are_asked,
    is_method,
    is_target,
    line_of,
    parts_of,
    places_of,
    sent_in,
    tells_of_requests,
)
from upright_ledger.formats.logs.meanings.log_times import Moment, moment_of

_MOST_SHAPES = 1_000
_LONG, _PAIR = 10_000, 2  # characters; values
_NESTED = frozenset((dict, list))
_DEEPEST, _MOST_VALUES = 8, 500
_WRAPPED = frozenset(["log", "message", "msg", "textpayload", "line", "event", "raw", "data"])
"""Names under which collectors put the line that a server wrote."""

Path = tuple[str | int | Callable[[Any], str], ...]
"""Names and numbers by which a value is reached, and at last perhaps what is made of it."""


class JsonParser:
    """Lines that are JSON objects. Objects of one shape are read alike: where their names lead is
    looked up once.
    """

    def __init__(self, wrapped: Parser | None = None, asked: frozenset[Name] = frozenset()) -> None:
        """wrapped: reads the line of a server that stands in an object as a text. asked: names
        under which the host that was asked is told, beside the usual ones.
        """
        self._wrapped, self._asked = wrapped, asked
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
        if isinstance(inner, LogLine) and inner.agent is not None:
            return inner
        try:
            own = line_of(shape.places, shape.values(found))
        except NotALineError:
            if inner is not None:
                return inner
            raise
        # Both may tell of one request, and one of them who asked.
        tells_who = isinstance(own, LogLine) and own.agent is not None
        return inner if isinstance(inner, LogLine) and not tells_who else own

    def shape_of(self, found: dict[str, Any], *, remember: bool = True) -> Shape:
        """How objects like this one are read."""
        kinds = set(map(type, found.values()))
        outline = tuple(found) if kinds.isdisjoint(_NESTED) else _outline(found)
        known = self._known.get(outline)
        if known is None:
            if len(self._known) > _MOST_SHAPES:
                self._known.clear()
            known = _looked_up(found, self._asked)
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
    if not value or type(value[0]) not in _NESTED:
        return tuple([name for name, _ in _headers(value)]) or bool(value)
    if _is_pairs(value):
        return tuple([_pair(pair) for pair in value])
    return _outline(value[0], depth + 1) if type(value[0]) is dict else True


def _is_pairs(value: list[Any]) -> bool:
    """Whether a list holds names with values, as headers and attributes are often told."""
    return all(
        (type(v) is dict and "value" in v and isinstance(v.get("name", v.get("key")), str))
        or (type(v) is list and len(v) == _PAIR and isinstance(v[0], str))
        for v in value
    )


def _pair(pair: dict[str, Any] | list[Any]) -> tuple[str, Path]:
    """The name that one of them has, and where its value is; some name its type, as in
    {"stringValue": "…"}.
    """
    if isinstance(pair, list):
        return pair[0], (1,)
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
        if any(len(path) > 1 for path in paths) or len(paths) <= 1:
            return lambda o: [as_text(_at(o, path)) for path in paths]
        pick = itemgetter(*(path[0] for path in paths))
        return lambda o: [v if type(v) is str else as_text(v) for v in pick(o)]


def _looked_up(found: Any, asked: frozenset[Name] = frozenset()) -> Shape:
    """How objects of this shape are read. asked: names of the host that was asked, too."""
    told: list[tuple[Name, Path]] = []
    _collect(found, (), (), told)
    places = filled(
        places_of([name for name, _ in told]), [as_text(_at(found, path)) for _, path in told]
    )
    hosts = (at for at, (name, _) in enumerate(told) if name in asked)
    places = places._replace(host=(*places.host, *hosts))
    wanted = sorted({at for some in places for at in some})
    renumbered = {at: n for n, at in enumerate(wanted)}
    renamed = Places(*(tuple(renumbered[at] for at in some) for some in places))
    wrapped = tuple(
        path
        for name, path in told
        if name and (name[-1] in _WRAPPED or is_quoted_request(_at(found, path)))
    )
    return Shape(tuple(told[at][1] for at in wanted), renamed, wrapped)


def filled(places: Places, values: Sequence[str]) -> Places:
    """What the names do not tell, by what stands in the values, where one of these is a request as
    it was sent.
    """
    status = [n for n, value in enumerate(values) if value in USUAL]
    if _is_asked(places, values) and not places.status and len(status) == 1:
        return places._replace(status=tuple(status))
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


def _is_asked(places: Places, values: Sequence[str]) -> bool:
    """Whether a method and a target are told by their names."""
    asked = any(is_method(values[at].upper()) for at in places.method)
    return asked and any(is_target(values[at]) for at in (*places.target, *places.request))


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
    if type(value) is dict and name and name[-1] in _QUERIES and value:
        told.append((name, (*path, _as_query)))
    elif type(value) is dict and len(path) <= _DEEPEST:
        for key, inner in value.items():
            _collect(inner, (*name, *parts_of(key)), (*path, key), told)
    elif type(value) is list and value:
        if type(value[0]) in _NESTED and _is_pairs(value):
            for n, pair in enumerate(value):
                own, at = _pair(pair)
                told.append(((*name, *parts_of(own)), (*path, n, *at)))
        elif headers := _headers(value):
            told += [((*name, *parts_of(own)), (*path, *at)) for own, at in headers]
        else:
            _collect(value[0], name, (*path, 0), told)
    else:
        told.append((name, path))


def values_in(line: str) -> tuple[Places, list[str], list[tuple[Name, str]]] | None:
    """What the values of an object may be, and these; and all its values by their names."""
    if (found := named_in(line)) is None:
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
        found = step(found) if callable(step) else found[step]
    return found


def _as_query(told: dict[str, Any]) -> str:
    """Parameters with their values, as a query string."""
    return urlencode({name: as_text(value) for name, value in told.items()})


def _header_value(text: str) -> str:
    return text.partition(":")[2].strip()


_HEADER = re.compile(r"([A-Za-z][\w-]{0,60}): \S")
_QUERIES = frozenset(["querystringparameters", "queryparameters", "queryparams", "query", "params"])
"""Names of objects that hold the parameters of a query string."""


def _headers(told: list[Any]) -> list[tuple[str, Path]]:
    """The names of headers that are told as texts, each with its value or one after the other, and
    where their values are.
    """
    if not all(type(text) is str for text in told):
        return []
    named = [(match[1], n) for n, text in enumerate(told) if (match := _HEADER.match(text))]
    if len(named) == len(told):
        return [(name, (n, _header_value)) for name, n in named]
    known = any(text.lower() in {"host", "user-agent"} for text in told[::2])
    if known and len(told) % 2 == 0:
        return [(name, (2 * n + 1,)) for n, name in enumerate(told[::2])]
    return []


def as_text(value: Any) -> str:
    """A value of an object as a text; empty where it is none."""
    if type(value) is str:
        return value
    if value is None or value is True or value is False or type(value) in {dict, list}:
        return ""
    return str(value)


def _sniff(lines: Sequence[str]) -> Likeness:
    first = [line for line in lines[:20] if line.strip() not in {"[", "]"}]
    if not any(map(is_object, first)):
        return Likeness.NONE
    return (
        Likeness.SURE if most(first, is_object) and any(map(_is_request, first)) else Likeness.SOME
    )


def _is_request(line: str) -> bool:
    found = named_in(line)
    return found is not None and tells_request(found)


def tells_request(found: dict[str, Any]) -> bool:
    """Whether an object tells of a request that was answered."""
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
    asked: set[Name] = set()
    for line in sample:
        if (found := named_in(line)) is not None:
            told: list[tuple[Name, Path]] = []
            _collect(found, (), (), told)
            asked |= {n for n, at in told if are_asked(n, [as_text(_at(found, at))], hosts)}
            inner += [
                text.rstrip("\r\n")
                for path in _looked_up(found).wrapped
                if isinstance(text := _at(found, path), str)
            ]
    return JsonParser(learned(inner, hosts), frozenset(asked))


JSON_LINES = LogFormat(_sniff, _new_parser, by_line=True)
