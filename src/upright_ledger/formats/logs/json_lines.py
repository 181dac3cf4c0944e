"""Logs of one JSON object a line."""

from __future__ import annotations

import re
from collections.abc import Sequence
from datetime import UTC, datetime
from functools import lru_cache
from typing import Any, NamedTuple

from msgspec import MsgspecError
from msgspec.json import decode

from upright_ledger.core.inventory.noise import AsideClass
from upright_ledger.formats.files.json_text import read_json
from upright_ledger.formats.logs.log_line import (
    MONTHS,
    Likeness,
    LogFormat,
    LogLine,
    NotALineError,
    host_name,
    is_status,
    most,
)

_TIMES = (
    "time",
    "timestamp",
    "@timestamp",
    "time_local",
    "time_iso8601",
    "ts",
    "date",
    "datetime",
    "start_time",
)


_TARGETS = ("request_uri", "uri", "path", "url", "target", "request_path", "cs-uri-stem")


_STATUSES = ("status", "status_code", "response", "code", "response_status")


_AGENTS = ("http_user_agent", "user_agent", "agent", "useragent", "user-agent")


_REFERRERS = ("http_referer", "referer", "referrer", "http_referrer")


_HOSTS = ("host", "http_host", "server_name", "vhost", "request_host")


class JsonParser:
    """Lines that are JSON objects with the names servers commonly give. Objects of one shape are
    read alike: where their names lead is looked up once.
    """

    def __init__(self) -> None:
        self._known: dict[tuple[Any, ...], _Shape] = {}

    def __call__(self, line: str) -> LogLine | str:
        try:
            found = decode(line)  # several times as quick, and stricter
        except (MsgspecError, RecursionError):
            if not line.strip():
                return AsideClass.BLANK
            try:
                found = read_json(line)
            except ValueError:
                raise NotALineError("it is no JSON object") from None
        if not isinstance(found, dict):
            raise NotALineError("it is no JSON object")
        names = tuple([(n, *v) if type(v) is dict else n for n, v in found.items()])
        shape = self._known.get(names)
        if shape is None:
            if len(self._known) > _MOST_SHAPES:
                self._known.clear()
            shape = _shape_of(found)
            if len(line) <= _LONG:  # who writes longer ones is not remembered
                self._known[names] = shape
        return _read(found, shape)


_MOST_SHAPES = 1_000
_LONG = 10_000  # characters
_Place = tuple[str, str | None]
"""The name of a value, and in a nested object its name there."""


class _Shape(NamedTuple):
    """Where the values of a meaning may stand, the likeliest first."""

    request: tuple[_Place, ...]
    target: tuple[_Place, ...]
    query: tuple[_Place, ...]
    method: tuple[_Place, ...]
    status: tuple[_Place, ...]
    time: tuple[_Place, ...]
    agent: tuple[_Place, ...]
    referrer: tuple[_Place, ...]
    host: tuple[_Place, ...]


_NAMES: dict[str, tuple[str, ...]] = {
    "request": ("request",),
    "target": _TARGETS,
    "query": ("query_string", "args", "query"),
    "method": ("method", "request_method", "verb"),
    "status": _STATUSES,
    "time": _TIMES,
    "agent": _AGENTS,
    "referrer": _REFERRERS,
    "host": _HOSTS,
}
"""Meaning → the names that servers give it."""


def _shape_of(found: dict[str, Any]) -> _Shape:
    """Names in lower case; of what is nested, the inner names, where they say nothing new to the
    outer ones.
    """
    places: dict[str, _Place] = {}
    for name, value in found.items():
        if isinstance(value, dict):
            for inner in value:
                places.setdefault(inner.lower(), (name, inner))
        else:
            places[name.lower()] = (name, None)
    return _Shape(
        **{
            meaning: tuple(places[name] for name in names if name in places)
            for meaning, names in _NAMES.items()
        }
    )


def _read(found: dict[str, Any], shape: _Shape) -> LogLine:
    request = _first(found, shape.request) if shape.request else ""
    if not request or " " not in request:
        target = _first(found, shape.target)
        query = _first(found, shape.query) if shape.query else ""
        if target and query and "?" not in target:
            target = f"{target}?{query.removeprefix('?')}"
        method = _first(found, shape.method) or "GET"
        request = f"{method} {target} HTTP/1.1" if target else ""
    status = _first(found, shape.status)
    day = _day_of(_first(found, shape.time))
    if not request or not day or not is_status(status):
        raise NotALineError("its address, time or status is missing")
    agent = _first(found, shape.agent) if shape.agent else None
    host = host_name(_first(found, shape.host))
    return LogLine(request, status, day, agent, _first(found, shape.referrer), host)


def _first(found: dict[str, Any], places: tuple[_Place, ...]) -> str:
    for name, inner in places:
        value = found[name] if inner is None else found[name][inner]
        if type(value) is str:
            if value and value != "-":
                return value
            continue
        if isinstance(value, list):
            value = value[0] if value else None
        if value is not None and value not in ("", "-"):
            return str(value)
    return ""


def _day_of(text: str) -> str:
    """The day of a time, as YYYY-MM-DD, or an empty text."""
    written = _day_at(text[:_DAY_LENGTH])
    if written:
        return written
    try:
        seconds = float(text)
    except ValueError:
        return ""
    seconds = seconds / 1000 if seconds > 1e11 else seconds  # some servers count milliseconds
    return _day_number(int(seconds // 86_400)) if 0 < seconds < 1e11 else ""


_DAY_LENGTH = 11  # of 04/May/2026; what stands behind a day says no more of it


@lru_cache(maxsize=1 << 12)
def _day_at(text: str) -> str:
    """The day with which a time begins, where it is written out."""
    if match := re.match(r"(\d{4})-(\d\d)-(\d\d)", text):
        return match[0]
    if (match := re.match(r"(\d{2})/([A-Z][a-z]{2})/(\d{4})", text)) and match[2] in MONTHS:
        return f"{match[3]}-{MONTHS[match[2]]}-{match[1]}"
    return ""


@lru_cache(maxsize=1 << 12)
def _day_number(days: int) -> str:
    """A day, counted from 1970."""
    return datetime.fromtimestamp(days * 86_400, UTC).strftime("%Y-%m-%d")


def _is_json_log(line: str) -> bool:
    """Whether an object tells of a request: it names a status and what asked, or how."""
    try:
        names = {str(k).lower() for k in read_json(line)}
    except (ValueError, TypeError):
        return False
    asked = {
        "request",
        "method",
        "request_method",
        "http_user_agent",
        "user_agent",
        "agent",
        "verb",
    }
    return bool(names & asked) and bool(names & {"status", "status_code", "response", "code"})


def _sniff(lines: Sequence[str]) -> Likeness:
    first = lines[:20]
    if most(first, _is_object) and _is_json_log(lines[0]):
        return Likeness.SURE
    return Likeness.SOME if any(map(_is_object, first)) else Likeness.NONE


def _is_object(line: str) -> bool:
    return line.lstrip().startswith("{")


JSON_LINES = LogFormat(_sniff, JsonParser)
