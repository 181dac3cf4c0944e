"""Logs whose lines stand bare, with what some other program put before each of them: a collector, a
container, a search through files. Most formats are read with such words before them; these are not.
"""

from __future__ import annotations

import re
from collections.abc import Sequence

from upright_ledger.formats.logs.forms.named_lines import NAMED
from upright_ledger.formats.logs.forms.request_tables import HEADED
from upright_ledger.formats.logs.forms.w3c import HEADLESS, IIS_FIXED, W3C
from upright_ledger.formats.logs.log_line import Likeness, LogFormat, LogLine, Parser

_BARE = (W3C, IIS_FIXED, HEADLESS, NAMED, HEADED)
_CLOCK = r"\d\d:\d\d:\d\d(?:[.,]\d{1,9})?"
_MOMENT = rf"\d{{4}}-\d\d-\d\d[T ]{_CLOCK}(?:Z|[+-]\d\d:?\d\d)?"
_PREFIX = re.compile(
    r"(?:<\d{1,3}>(?:1 )?)?"  # the priority of RFC 5424, section 6.2.1, and its version
    rf"(?:(?:[^\W\d]{{3,4}}\.? [ \d]\d {_CLOCK}|{_MOMENT}) [\w.:-]{{1,255}} "
    r"(?:[^\s:\[\]]{1,100}(?:\[\d{1,10}\])?:|[^\s:]{1,100} \S{1,50} \S{1,100} -) ?"
    rf"|{_MOMENT} (?:stdout|stderr) [FP] "
    rf"|{_MOMENT} (?=\S)"
    r"|[\w.-]{1,100} {1,20}\| "
    r"|[\w./-]{1,255}\.\w{1,10}:(?:\d{1,12}:)?"
    r"|\d{1,12}:(?=\S)"
    r"|> )"
)
"""Words of syslog, of the logs of containers, with and without their names, of what found lines in
files, of quotes in mails.
"""
_SAMPLE = 60
_TENTHS = 9


def _bare(lines: Sequence[str]) -> list[str]:
    """Lines without what stands before them; none where too few have it."""
    found = [_PREFIX.match(line) for line in lines[:_SAMPLE]]
    if sum(map(bool, found)) * 10 < len(found) * _TENTHS:
        return []
    return [_PREFIX.sub("", line, count=1) for line in lines]


def _inner(lines: Sequence[str]) -> LogFormat | None:
    """The format of the lines without it, where they are not of that one with it."""
    bare = _bare(lines)
    for form in _BARE if bare else ():
        if (form is not NAMED or "\t" in bare[0]) and form.sniff(bare) == Likeness.SURE:
            return form if form.sniff(lines) != Likeness.SURE else None
    return None


def _sniff(lines: Sequence[str]) -> Likeness:
    return Likeness.SURE if lines and _inner(lines) is not None else Likeness.NONE


def _new_parser(sample: Sequence[str], hosts: frozenset[str]) -> Parser:
    parser = (_inner(sample) or W3C).new_parser(_bare(sample), hosts)

    def read(line: str) -> LogLine | str:
        return parser(_PREFIX.sub("", line, count=1))

    return read


PREFIXED = LogFormat(_sniff, _new_parser)
