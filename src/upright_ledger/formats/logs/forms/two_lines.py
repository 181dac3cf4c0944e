"""Logs of frameworks that tell a request in one line and its answer in a later one, which belong
together by the number of the request, or by their order.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from typing import NamedTuple

from upright_ledger.core.inventory.noise import AsideClass
from upright_ledger.formats.logs.forms.any_line import asked_in
from upright_ledger.formats.logs.forms.json_lines import values_in
from upright_ledger.formats.logs.log_line import Likeness, LogFormat, LogLine
from upright_ledger.formats.logs.meanings.log_roles import told_by
from upright_ledger.formats.logs.meanings.log_times import times_in

_PHRASES = (
    "OK|Created|Accepted|No Content|Partial Content|Moved Permanently|Found|See Other|Not Modified|"
    "(?:Temporary|Permanent) Redirect|Bad Request|Unauthorized|Forbidden|Not Found|"
    "Method Not Allowed|Not Acceptable|Request Timeout|Conflict|Gone|Too Many Requests|"
    "Internal Server Error|Not Implemented|Bad Gateway|Service Unavailable|Gateway Timeout"
)
"""Of RFC 9110, section 15."""
_ANSWER = re.compile(
    r"\b(?:(?:completed|sent|finished|responded|response|returned|status)\b[^\d\n]{0,12}"
    rf"(?P<status>[1-5]\d\d)|(?P<told>[1-5]\d\d) (?:{_PHRASES}))\b",
    re.IGNORECASE,
)
_NO_ROUTE = re.compile(r"No route matches|RoutingError")
"""With which Ruby's framework answers 404, and says no more of it."""
_NUMBER = re.compile(
    r"\[(?=[\w-]{0,39}\d)([\w-]{8,40})\]|"
    r"\b(?:request|req|trace|correlation)[_.-]?id[\"']?[=:]\s*[\"']?([\w.-]{1,100})",
    re.IGNORECASE,
)
_NUMBERS = frozenset(
    ["reqid", "requestid", "xrequestid", "traceid", "correlationid", "correlation", "rid"]
)
_MOST_HELD = 10_000
_FIRST = 60  # lines


class _Half(NamedTuple):
    """What a line tells: a request, or how one was answered, of a number or none."""

    number: str
    asked: LogLine | None = None
    status: str = ""
    day: str = ""


class TwoLines:
    """Reads the lines of one log; a request counts with the line of its answer."""

    def __init__(self) -> None:
        self._held: dict[str, LogLine] = {}

    def __call__(self, line: str) -> LogLine | str:
        if not line.strip():
            return AsideClass.BLANK
        half = _in_json(line) if line.lstrip().startswith("{") else _in_words(line)
        if half is None:
            return AsideClass.PROSE
        if half.asked is not None:
            if half.asked.status:
                return half.asked
            if len(self._held) >= _MOST_HELD:
                del self._held[next(iter(self._held))]
            self._held[half.number] = half.asked
            return AsideClass.BEGUN
        asked = self._held.pop(half.number, None)
        if asked is None:
            return AsideClass.PROSE
        return asked._replace(status=half.status, day=asked.day or half.day)


def _in_words(line: str) -> _Half | None:
    if (asked := asked_in(line)) is not None:
        return _Half(_number_in(line), asked)
    answer = _ANSWER.search(line)
    if answer is None and not _NO_ROUTE.search(line):
        return None
    day = next((m.day for m in times_in(line)), "")
    return _Half(_number_in(line), None, _status_of(answer), day)


def _status_of(answer: re.Match[str] | None) -> str:
    """The status that an answer tells; where no route leads to, it is told by no number."""
    return answer["status"] or answer["told"] if answer is not None else "404"


def _number_in(line: str) -> str:
    match = _NUMBER.search(line)
    return match[match.lastindex or 0] if match is not None else ""


def _in_json(line: str) -> _Half | None:
    told = values_in(line)
    if told is None:
        return None
    places, values, others = told
    number = next((text for name, text in others if name and name[-1] in _NUMBERS), "")
    if not number:
        return None
    found = told_by(places, values)
    if found.request:
        return _Half(number, found)
    return _Half(number, None, found.status, found.day) if found.status else None


def _sniff(lines: Sequence[str]) -> Likeness:
    parser, whole, begun = TwoLines(), 0, 0
    for line in lines[:_FIRST]:
        told = parser(line)
        begun += told == AsideClass.BEGUN
        whole += isinstance(told, LogLine)
    return Likeness.SURE if begun and begun <= 2 * whole <= 2 * begun else Likeness.NONE


TWO_LINES = LogFormat(_sniff, lambda _sample, _hosts: TwoLines())
