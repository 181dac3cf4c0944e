"""The W3C Extended Log File Format."""

from __future__ import annotations

import re
from collections.abc import Sequence
from functools import lru_cache

from upright_ledger.core.inventory.noise import AsideClass
from upright_ledger.formats.logs.log_line import (
    Likeness,
    LogFormat,
    LogLine,
    NotALineError,
    host_name,
)


class W3cParser:
    """Lines of the W3C Extended Log File Format, whose `#Fields` directive may change on the
    way.
    """

    def __init__(self) -> None:
        self._at: dict[str, int] = {}
        self._width = 0
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
        stem, query = self._cell(cells, "cs-uri-stem"), self._cell(cells, "cs-uri-query")
        target = self._cell(cells, "cs-uri") or (f"{stem}?{query}" if query else stem)
        day = self._cell(cells, "date") or self._day
        status = self._cell(cells, "sc-status")
        if not target or not _is_day(day) or not _is_status(status):
            raise NotALineError("its address, date or status is missing")
        method = self._cell(cells, "cs-method") or "GET"
        agent = (
            _with_blanks(self._cell(cells, "cs(user-agent)"))
            if "cs(user-agent)" in self._at
            else None
        )
        host = self._cell(cells, "cs-host") or self._cell(cells, "cs(host)")
        clock = self._cell(cells, "time")
        return LogLine(
            f"{method} {target} HTTP/1.1", status, day, agent, self._cell(cells, "cs(referer)"),
            host_name(host),
            clock if _CLOCK.fullmatch(clock) else "",
        )  # fmt: skip

    def _directive(self, line: str) -> None:
        name, _, value = line[1:].partition(":")
        if name.lower() == "fields":
            fields = value.split()
            self._at = {field.lower(): n for n, field in enumerate(fields)}
            self._width = len(fields)
        elif name.lower() in {"date", "start-date"} and (
            match := re.match(r"\s*(\d{4}-\d\d-\d\d)", value)
        ):
            self._day = match[1]

    def _cell(self, cells: list[str], field: str) -> str:
        at = self._at.get(field)
        return "" if at is None or cells[at] == "-" else cells[at]


_CLOCK = re.compile(r"\d\d:\d\d:\d\d")


@lru_cache(maxsize=1_000)
def _is_day(text: str) -> bool:
    return re.fullmatch(r"\d{4}-\d\d-\d\d", text) is not None


@lru_cache(maxsize=1_000)
def _is_status(text: str) -> bool:
    return re.fullmatch(r"\d{3}", text) is not None


@lru_cache(maxsize=1 << 12)
def _with_blanks(agent: str) -> str:
    return agent.replace("+", " ")


def _sniff(lines: Sequence[str]) -> Likeness:
    named = any(line.startswith("#Fields:") for line in lines)
    return Likeness.SURE if named else Likeness.NONE


W3C = LogFormat(_sniff, W3cParser, lambda _: 0)
