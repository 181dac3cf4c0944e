"""The W3C Extended Log File Format."""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from operator import itemgetter
from urllib.parse import unquote

from upright_ledger.core.inventory.noise import AsideClass
from upright_ledger.formats.logs.log_line import (
    Likeness,
    LogFormat,
    LogLine,
    NotALineError,
    host_name,
    is_status,
)


class W3cParser:
    """Lines of the W3C Extended Log File Format, whose `#Fields` directive may change on the
    way.
    """

    def __init__(self) -> None:
        self._pick: Callable[[list[str]], tuple[str, ...]] = itemgetter(*[0] * len(_FIELDS))
        self._width = 0
        self._has_agent = False
        self._day = ""

    def __call__(self, line: str) -> LogLine | str:
        if line.startswith("#"):
            self._directive(line)
            return AsideClass.BLANK
        if not line.strip():
            return AsideClass.BLANK
        cells = line.split(" ") if " " in line else line.split("\t")
        if len(cells) != self._width:
            raise NotALineError(f"it has {len(cells)} fields, and #Fields names {self._width}")
        cells.append("-")  # for fields that this log has not
        told = ["" if cell == "-" else cell for cell in self._pick(cells)]
        (
            stem,
            query,
            uri,
            day,
            status,
            method,
            agent,
            header,
            host,
            asked,
            clock,
            referrer,
            client,
        ) = told
        target = uri or (f"{stem}?{query}" if query else stem)
        day = day or self._day
        if not target or not _DAY.fullmatch(day) or not is_status(status):
            raise NotALineError("its address, date or status is missing")
        return LogLine(
            f"{method or 'GET'} {target} HTTP/1.1",
            status,
            day,
            _spelled(agent) if self._has_agent else None,
            referrer,
            host_name(header or host or asked),
            clock if _CLOCK.fullmatch(clock) else "",
            client,
        )

    def _directive(self, line: str) -> None:
        name, _, value = line[1:].partition(":")
        if name.lower() == "fields":
            fields = value.split()
            at = {field.lower(): n for n, field in enumerate(fields)}
            self._width, self._has_agent = len(fields), "cs(user-agent)" in at
            self._pick = itemgetter(*(at.get(field, len(fields)) for field in _FIELDS))
        elif name.lower() in {"date", "start-date"} and (
            match := re.match(r"\s*(\d{4}-\d\d-\d\d)", value)
        ):
            self._day = match[1]


def _spelled(agent: str) -> str:
    """An agent with its blanks, for which a plus or an escape stands."""
    if agent.count("%20") > agent.count("+"):
        return unquote(unquote(agent) if "%25" in agent else agent)
    return agent.replace("+", " ")


_FIELDS = (
    "cs-uri-stem", "cs-uri-query", "cs-uri", "date", "sc-status", "cs-method", "cs(user-agent)",
    "x-host-header", "cs-host", "cs(host)", "time", "cs(referer)", "c-ip",
)  # fmt: skip
_CLOCK = re.compile(r"\d\d:\d\d:\d\d")
_DAY = re.compile(r"\d{4}-\d\d-\d\d")


def _sniff(lines: Sequence[str]) -> Likeness:
    named = any(line.startswith("#Fields:") for line in lines)
    return Likeness.SURE if named else Likeness.NONE


W3C = LogFormat(_sniff, lambda _sample, _hosts: W3cParser(), lambda _: 0)
