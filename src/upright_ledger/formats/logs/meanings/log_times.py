"""Times in logs, in the forms in which servers, frameworks and collectors write them."""

from __future__ import annotations

import re
from collections.abc import Iterable
from datetime import UTC, date, datetime, timedelta
from functools import lru_cache
from typing import NamedTuple

from upright_ledger.formats.logs.log_line import MONTHS

_MONTH = "(?P<month>Jan|Feb|Mar|Apr|May|Jun|Jul|Aug|Sep|Oct|Nov|Dec)"
_CLOCK = r"(?P<clock>\d{2}:\d{2}:\d{2})"
_YEAR = r"(?P<year>\d{4})"
_FORMS = tuple(
    map(
        re.compile,
        (
            rf"(?<!\d)(?P<day>\d{{2}})/{_MONTH}/(?P<year>\d{{4}})(?:[: ]{_CLOCK})?",
            rf"(?<!\d){_YEAR}-(?P<number>\d{{2}})-(?P<day>\d{{2}})(?:[T ]{_CLOCK})?(?!\d)",
            rf"(?<!\d){_YEAR}/(?P<number>\d{{2}})/(?P<day>\d{{2}})(?: - | |-|T){_CLOCK}",
            rf"\b{_MONTH} {{1,2}}(?P<day>\d{{1,2}}) {_CLOCK}(?:\.\d+)?(?: [A-Z]{{3,4}})? {_YEAR}\b",
            rf"(?<![\d.])(?P<day>\d{{2}})\.(?P<number>\d{{2}})\.{_YEAR}(?:,? {_CLOCK})?(?![\d.])",
            rf"\b(?P<day>\d{{1,2}})[ -]{_MONTH}[ -](?P<year>\d{{4}})(?: {_CLOCK})?",
            rf"\b{_MONTH}[a-z]* {{1,2}}(?P<day>\d{{1,2}}), {_YEAR}(?:,? (?:@ |at )?{_CLOCK})?",
            (
                rf"(?<!\d){_YEAR}(?P<number>0[1-9]|1[0-2])(?P<day>0[1-9]|[12]\d|3[01])"
                r"T?(?P<run>\d{6})Z?(?!\d)"
            ),
            rf"\b{_MONTH} {{1,2}}(?P<day>\d{{1,2}}) {_YEAR} {_CLOCK}",
            (
                rf"(?<![\d/])(?P<a>\d{{1,2}})/(?P<b>\d{{1,2}})/{_YEAR}(?:,? |:)(?P<hour>\d{{1,2}})"
                r"(?P<rest>:\d{2}:\d{2})"
            ),
            r"(?<![^\s;,|\[\"'(])(?P<a>\d{1,2})/(?P<b>\d{1,2})/(?P<year>\d{4})(?![^\s;,|\]\"')])",
        ),
    )
)
_YEARLESS = re.compile(rf"\b{_MONTH} {{1,2}}(?P<day>\d{{1,2}}) {_CLOCK}")
"""As RFC 3164 has it, section 4.1.2."""
_OF_LEVEL = re.compile(rf"^[IWEF](?P<number>0[1-9]|1[0-2])(?P<day>0[1-9]|[12]\d|3[01]) {_CLOCK}\.")
"""How grave it is, month and day, as many programs in Go begin a line."""
_SHORT = re.compile(
    r"(?<!\d)(?P<short>\d{2})(?P<number>0[1-9]|1[0-2])(?P<day>0[1-9]|[12]\d|3[01])"
    rf"(?: {_CLOCK}|/\d{{6}}\b)"
)
"""A year of two digits, as some write it without any sign."""
_SECONDS = re.compile(r"(?<![\d.:/-])(1\d{9})(?:\.\d+|\d{3}|\d{6})?(?![\d:])")
_SCALES = ((1e8, 1e11, 1.0), (1e11, 1e14, 1e3), (1e14, 1e17, 1e6), (1e17, 1e20, 1e9))
"""From, to, and how many are a second: of seconds, and of their thousandths, since 1970."""


class Moment(NamedTuple):
    """A day (YYYY-MM-DD), and the time of day or an empty text. at: where it stands in its text.
    other: the day that it is where day and month stand the other way round, or an empty text.
    """

    day: str
    clock: str = ""
    at: int = 0
    other: str = ""


def times_in(text: str) -> list[Moment]:
    """The times that a text writes out, in their order; such as name no year only where no other
    does.
    """
    found = [m for form in _FORMS for match in form.finditer(text) if (m := _moment(match))]
    yearless = (_YEARLESS, _SHORT, _OF_LEVEL)
    if not found and (match := next(filter(None, (f.search(text) for f in yearless)), None)):
        found = [m for m in (_moment(match),) if m is not None]
    if not found and (match := _SECONDS.search(text)) is not None:
        found = [moment_of(match[0])._replace(at=match.start())]
    return sorted(found, key=lambda m: m.at)


def are_day_first(lines: Iterable[str]) -> bool:
    """Whether days in figures are read with the day before the month: where the first or last of
    these lines would be months apart otherwise, as no log is that goes on day by day.
    """
    told = [m for line in lines for m in times_in(line[:_NEAR])[:1]]
    if not any(m.other for m in told):
        return False
    other = [date.fromisoformat(m.other or m.day) for m in told]
    usual = [date.fromisoformat(m.day) for m in told]
    return max(other) - min(other) < max(usual) - min(usual)


def other_way_round(day: str) -> str:
    """A day whose month and day are told the other way round, where it may be."""
    year, month, number = day.split("-") if day else ("", "", "99")
    return f"{year}-{number}-{month}" if int(number) <= _MONTHS else day


_NEAR = 200  # characters within which a line tells its time


def day_of(text: str) -> str:
    """The day of a time, or an empty text; see `moment_of`."""
    if IN_SECONDS.fullmatch(text) is not None:
        return day_number(int(text[:SECONDS_LENGTH]) // DAY_SECONDS)
    return written_day(text[:DAY_LENGTH]) or moment_of(text).day


DAY_LENGTH = 11
"""Characters of 04/May/2026; what stands behind a day says no more of it."""
IN_SECONDS = re.compile(r"1[0-9]{9}(?:\.[0-9]{1,6})?")
"""Seconds since 1970, of which the first ten figures tell the day."""
SECONDS_LENGTH, DAY_SECONDS = 10, 86_400


@lru_cache(maxsize=1 << 12)
def written_day(text: str) -> str:
    """The day with which a time begins, where it is written out in one of the usual forms."""
    match = next((m for form in _FORMS[:2] if (m := form.match(text)) is not None), None)
    found = _moment(match) if match is not None else None
    return found.day if found is not None else ""


def moment_of(text: str) -> Moment:
    """The time that a text is, or a number of seconds, milliseconds or less since 1970; an empty
    day where it is none.
    """
    for form in (*_FORMS, _YEARLESS, _OF_LEVEL):
        if (match := form.search(text, 0, _LONGEST)) is not None:
            return _moment(match) or Moment("")
    try:
        number = float(text)
    except ValueError:
        return Moment("")
    for least, most, scale in _SCALES:
        if least <= number < most:
            return Moment(*_of_seconds(int(number / scale)))
    return Moment("")


_LONGEST = 40  # characters before the end of a time


def _of_seconds(seconds: int) -> tuple[str, str]:
    minutes, rest = divmod(seconds % DAY_SECONDS, 60)
    return day_number(seconds // DAY_SECONDS), f"{minutes // 60:02}:{minutes % 60:02}:{rest:02}"


@lru_cache(maxsize=1 << 12)
def day_number(days: int) -> str:
    """A day, counted from 1970."""
    return datetime.fromtimestamp(days * DAY_SECONDS, UTC).strftime("%Y-%m-%d")


def _moment(match: re.Match[str]) -> Moment | None:
    told = match.groupdict()
    if told.get("a"):
        # Day and month in figures: the one above twelve tells; else as in America, whose programs
        # write them so.
        first, second = int(told["a"]), int(told["b"])
        number, date = (second, first) if first > _MONTHS else (first, second)
        if not (1 <= number <= _MONTHS and 1 <= date <= _DAYS):
            return None
        clock = f"{int(told['hour']):02}{told['rest']}" if told.get("hour") else ""
        year, other = told["year"], ""
        if date <= _MONTHS:
            other = f"{year}-{date:02}-{number:02}"
        return Moment(f"{year}-{number:02}-{date:02}", clock, match.start(), other)
    if run := told.get("run"):
        told["clock"] = f"{run[:2]}:{run[2:4]}:{run[4:]}"
    month = told.get("number") or MONTHS[told["month"]]
    year, day = told.get("year"), f"{int(told['day']):02}"
    if short := told.get("short"):
        year = f"20{short}"
    if year is None:
        year = _year_of(month, day)
    return Moment(f"{year}-{month}-{day}", told.get("clock") or "", match.start())


_MONTHS, _DAYS = 12, 31


def _year_of(month: str, day: str) -> str:
    """The year of a day that names none: the last one in which it was."""
    latest = datetime.now(UTC) + timedelta(days=1)
    return str(latest.year - ((month, day) > (f"{latest.month:02}", f"{latest.day:02}")))
