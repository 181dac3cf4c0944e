"""The W3C Extended Log File Format, and the fixed one of the servers that write it, too."""

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
    Parser,
    host_name,
    is_status,
    most,
)


class W3cParser:
    """Lines of the W3C Extended Log File Format, whose `#Fields` directive may change on the
    way. at: field → its place among the cells of a line; width: how many these are; day: which the
    directives tell for lines that tell none.
    """

    def __init__(self) -> None:
        self.at: dict[str, int] = {}
        self.width = 0
        self.day = ""
        self._pick: Callable[[list[str]], tuple[str, ...]] = itemgetter(*[0] * len(_FIELDS))

    def __call__(self, line: str) -> LogLine | str:
        if line.startswith(DIRECTIVE):
            self._directive(line)
            return AsideClass.BLANK
        if not line.strip():
            return AsideClass.BLANK
        cells = _cells(line, self.width)
        if len(cells) != self.width:
            raise NotALineError(f"it has {len(cells)} fields, and #Fields names {self.width}")
        cells.append(NOTHING)  # for fields that this log has not
        told = ["" if cell == NOTHING else cell for cell in self._pick(cells)]
        stem, query, uri, method, status, day, clock, agent, *hosts, referrer, client = told
        request, day = request_of(stem, query, uri, method), day_of(day or self.day)
        if not request or not day or not is_status(status):
            raise NotALineError("its address, date or status is missing")
        return LogLine(
            request,
            status,
            day,
            agent_of(agent) if self.has_agent else None,
            referrer,
            host_of(*hosts),
            clock if _CLOCK.fullmatch(clock) else "",
            client,
        )

    @property
    def has_agent(self) -> bool:
        """Whether lines tell an agent."""
        return AGENT in self.at

    def _directive(self, line: str) -> None:
        name, _, value = line[1:].partition(":")
        if name.lower() == "fields":
            fields = value.split()
            self.at = {field.lower(): n for n, field in enumerate(fields)}
            self.width = len(fields)
            self._pick = itemgetter(*(self.at.get(field, len(fields)) for field in _FIELDS))
        elif name.lower() in {"date", "start-date"} and (
            match := re.match(r"\s*(\d{4}-\d\d-\d\d)", value)
        ):
            self.day = match[1]


DIRECTIVE, NOTHING = "#", "-"
QUOTE = '"'
_CELL = re.compile(r'"(?:[^"]|"")*+"(?!\S)|\S+')


def _cells(line: str, width: int) -> list[str]:
    """The cells of a line, between blanks or tabs; those in quotes may hold blanks, and their
    quotes are no part of them.
    """
    line = line.rstrip(" ")
    cells = line.split("\t" if 0 < width - 1 <= line.count("\t") else " ")
    if QUOTE not in line:
        return cells
    if len(cells) != width:
        cells = _CELL.findall(line)
    return [c[1:-1].replace('""', QUOTE) if _QUOTED.fullmatch(c) else c for c in cells]


_QUOTED = re.compile(r'"(?:[^"]|"")*+"')


def request_of(stem: str, query: str, uri: str, method: str) -> str:
    """Method, target and protocol, or an empty text."""
    target = uri or (f"{stem}?{query}" if query else stem)
    return f"{method or 'GET'} {target} HTTP/1.1" if target else ""


def host_of(header: str, host: str, asked: str) -> str:
    """The host that was asked, or an empty text."""
    return host_name(header or host or asked)


def day_of(text: str) -> str:
    """A day, or an empty text where it is none."""
    return text if _DAY.fullmatch(text) else ""


def agent_of(agent: str) -> str:
    """An agent with its blanks, for which a plus or an escape stands."""
    if agent.count("%20") > agent.count("+"):
        return unquote(unquote(agent) if "%25" in agent else agent)
    return agent.replace("+", " ")


REQUEST = ("cs-uri-stem", "cs-uri-query", "cs-uri", "cs-method")
STATUS, DAY, AGENT, REFERRER, CLIENT = (
    "sc-status",
    "date",
    "cs(user-agent)",
    "cs(referer)",
    "c-ip",
)
HOSTS = ("x-host-header", "cs-host", "cs(host)")
_FIELDS = (*REQUEST, STATUS, DAY, "time", AGENT, *HOSTS, REFERRER, CLIENT)
_CLOCK = re.compile(r"\d\d:\d\d:\d\d")
_DAY = re.compile(r"\d{4}-\d\d-\d\d")


def _sniff(lines: Sequence[str]) -> Likeness:
    named = any(line.startswith("#Fields:") for line in lines)
    return Likeness.SURE if named else Likeness.NONE


W3C = LogFormat(_sniff, lambda _sample, _hosts: W3cParser(), lambda _: 0)


_USUAL = (
    "date", "time", "s-ip", "cs-method", "cs-uri-stem", "cs-uri-query", "s-port", "cs-username",
    "c-ip", "cs(User-Agent)", "cs(Referer)", "sc-status", "sc-substatus", "sc-win32-status",
    "time-taken",
)  # fmt: skip
"""The fields that IIS writes where nobody chose others, in their order."""
_HEADLESS = re.compile(
    r"(?:\S+:)?\d{4}-\d\d-\d\d \d\d:\d\d:\d\d \S+ [A-Z]+ /\S* \S+ \d+ \S+ \S+ \S+ (?P<led>\S+ )?"
    r"\d{3} \d+ \d+(?: \d+)?"
)
"""A line of them, perhaps behind the name of the file in which it was found."""


def _new_headless(sample: Sequence[str], _hosts: frozenset[str]) -> Parser:
    led = any((match := _HEADLESS.fullmatch(line)) and match["led"] for line in sample)
    fields = [field for field in _USUAL if led or field != "cs(Referer)"]
    width = max((line.count(" ") + 1 for line in sample if _HEADLESS.fullmatch(line)), default=0)
    read = W3cParser()
    read(f"#Fields: {' '.join(fields[:width])}")
    return lambda line: read(_FOUND_IN.sub("", line))


_FOUND_IN = re.compile(r"\A\S+:(?=\d{4}-\d\d-\d\d )")


def _sniff_headless(lines: Sequence[str]) -> Likeness:
    return Likeness.SURE if most(lines[:20], _HEADLESS.fullmatch, 9) else Likeness.NONE


HEADLESS = LogFormat(_sniff_headless, _new_headless, lambda _: 0, by_line=True)
"""The same without the directives that say so, as who looks for lines finds them."""
_FIXED = re.compile(
    r"(?P<client>[^,]*), (?:[^,]*), (?P<month>\d{1,2})/(?P<date>\d{1,2})/"
    r"(?P<year>\d{2}(?:\d{2})?), "
    r"\d{1,2}:\d\d:\d\d, \w+, [^,]*, [^,]*, \d+, \d+, \d+, (?P<status>\d{3}), \d+, "
    r"(?P<method>[A-Z]+), (?P<stem>\S*), (?P<query>.*?),\s*"
)
"""IIS's own log file format: client, user, day, time, service, machine, its address, milliseconds,
bytes received and sent, status, status of the system, method, path, query string; no host, no
agent.
"""


def _fixed_line(line: str) -> LogLine | str:
    """A line of that format. Raises NotALineError."""
    if not line.strip():
        return AsideClass.BLANK
    match = _FIXED.fullmatch(line)
    if match is None:
        raise NotALineError("it has not the fields of its format")
    year, query = match["year"], match["query"].strip()
    month, date = int(match["month"]), int(match["date"])
    if month > _MONTHS:  # where people write the day first
        month, date = date, month
    day = f"{year if len(year) > _SHORT else f'20{year}'}-{month:02}-{date:02}"
    asked = request_of(match["stem"], "" if query == NOTHING else query, "", match["method"])
    return LogLine(asked, match["status"], day, None, "", "", client=match["client"])


_MONTHS, _SHORT = 12, 2


def _sniff_fixed(lines: Sequence[str]) -> Likeness:
    return Likeness.SURE if most(lines[:20], _FIXED.fullmatch, 9) else Likeness.NONE


IIS_FIXED = LogFormat(_sniff_fixed, lambda _sample, _hosts: _fixed_line, by_line=True)
