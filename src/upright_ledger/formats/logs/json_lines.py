"""Logs of one JSON object a line."""

from __future__ import annotations

import re
from collections.abc import Sequence
from datetime import UTC, datetime
from typing import Any

from upright_ledger.core.inventory.noise import AsideClass
from upright_ledger.formats.files.json_text import read_json
from upright_ledger.formats.logs.log_line import (
    MONTHS,
    Likeness,
    LogFormat,
    LogLine,
    NotALineError,
    host_name,
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


def parse_json(line: str) -> LogLine | str:
    """A line that is a JSON object with the names servers commonly give."""
    if not line.strip():
        return AsideClass.BLANK
    try:
        found = read_json(line)
    except ValueError:
        raise NotALineError("it is no JSON object") from None
    if not isinstance(found, dict):
        raise NotALineError("it is no JSON object")
    flat = _flat(found)
    request = _first(flat, ("request",))
    target = _first(flat, _TARGETS)
    if not request or " " not in request:
        query = _first(flat, ("query_string", "args", "query"))
        if target and query and "?" not in target:
            target = f"{target}?{query.removeprefix('?')}"
        method = _first(flat, ("method", "request_method", "verb")) or "GET"
        request = f"{method} {target} HTTP/1.1" if target else ""
    status = _first(flat, _STATUSES)
    day = _day_of(_first(flat, _TIMES))
    if not request or not day or not re.fullmatch(r"\d{3}", status):
        raise NotALineError("its address, time or status is missing")
    has_agent = any(name in flat for name in _AGENTS)
    agent = _first(flat, _AGENTS) if has_agent else None
    return LogLine(
        request, status, day, agent, _first(flat, _REFERRERS), host_name(_first(flat, _HOSTS))
    )


def _flat(found: dict[str, Any]) -> dict[str, Any]:
    """Names in lower case; of what is nested, the inner names, where they say nothing new to the
    outer ones.
    """
    flat: dict[str, Any] = {}
    for name, value in found.items():
        if isinstance(value, dict):
            for inner, text in value.items():
                flat.setdefault(str(inner).lower(), text)
        else:
            flat[str(name).lower()] = value
    return flat


def _first(flat: dict[str, Any], names: tuple[str, ...]) -> str:
    for name in names:
        value = flat.get(name)
        if isinstance(value, list):
            value = value[0] if value else None
        if value is not None and value not in ("", "-"):
            return str(value)
    return ""


def _day_of(text: str) -> str:
    if match := re.match(r"(\d{4})-(\d\d)-(\d\d)", text):
        return match[0]
    if (match := re.match(r"(\d{2})/([A-Z][a-z]{2})/(\d{4})", text)) and match[2] in MONTHS:
        return f"{match[3]}-{MONTHS[match[2]]}-{match[1]}"
    try:
        seconds = float(text)
    except ValueError:
        return ""
    seconds = seconds / 1000 if seconds > 1e11 else seconds  # some servers count milliseconds
    return datetime.fromtimestamp(seconds, UTC).strftime("%Y-%m-%d") if 0 < seconds < 1e11 else ""


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


JSON_LINES = LogFormat(_sniff, lambda: parse_json)
