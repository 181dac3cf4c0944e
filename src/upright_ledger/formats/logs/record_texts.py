"""Records that take several lines, as objects: those that programs print over many lines, names
with a value a line (tables stood on their side, YAML, what caches and databases tell), and messages
of HTTP as they were sent.
"""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Callable, Iterator, Sequence
from functools import lru_cache
from itertools import islice
from typing import Any

from upright_ledger.formats.files.loose_objects import loose_begin, loose_object
from upright_ledger.formats.logs.forms.json_lines import tells_request
from upright_ledger.formats.logs.forms.line_objects import BEFORE
from upright_ledger.formats.logs.log_line import is_quoted_request
from upright_ledger.formats.logs.meanings.log_roles import sent_in
from upright_ledger.formats.logs.meanings.log_times import times_in

_NAMED = re.compile(
    r"[\s|*-]{0,8}[:\[]?[\"']?(?P<name>[A-Za-z@_][\w.@()-]{0,40})[\"']?\]?"
    r"(?:\s{0,40}(?:=>|[:=|])\s{0,40}|\s{2,40}|\t)(?P<value>\S.*?)?[,\s]{0,40}"
)
_INNER = re.compile(r"([A-Za-z][\w-]{1,40}): (.*)", re.DOTALL)
"""The header that a value holds."""
_FIGURES = re.compile(r"\d+\.\d+(?: \d+\.\d+)+")
"""Seconds since 1970, since the begin, and since the last of such lines, as caches write them."""
_RULED = re.compile(
    r"\s*[*-]+\s*\[?\s*(?:\d+\. row|RECORD \d+)\b.*|\s*-{3,}\s*|\*\s+<<.*>>.*|"
    r"(?:.*\s)?Array|\s*[()]\s*|-\s+\w+|\(?\d+ rows?\b.*|\s*\[\[?[\w. \"'-]{1,60}\]\]?\s*"
)
"""What stands between records: the rules that databases draw, those of YAML, those of caches, what
PHP writes around a list, and the headings of TOML.
"""
_ITEM = re.compile(r"\s{0,8}- (?=[\"']?[A-Za-z_][\w-]{0,40}[\"']?:)")
_STATUS_LINE = re.compile(r"HTTP/\d(?:\.\d)? ([1-5]\d\d)\b")
_HEADER = re.compile(r"(?P<name>[A-Za-z][A-Za-z0-9-]{1,40}): ?(?P<value>.*)")
_FEWEST = 3
_MOST_NAMES = 300
_LONGEST = 200  # characters of a line in which a time stands
_SAMPLE = 20  # records
_AHEAD = 1 << 16  # characters
_REQUEST_LINE = re.compile(r"[A-Z]{3,9} \S+ HTTP/\d")
_CLOSING = frozenset(["}", "})", "}]", "]"])

Record = dict[str, Any] | str
"""What it tells by its names; a text where it is damaged."""
Reader = Callable[[str], Iterator[Record]]


def reader_of(text: str) -> Reader | None:
    """What reads the records of a text that begins like this one; None where its lines stand for
    themselves, or tell of no requests.
    """
    return _reader_of(text[:_AHEAD])


@lru_cache(maxsize=8)  # the same begin is looked at for several questions
def _reader_of(text: str) -> Reader | None:
    lines = [line for line in text.splitlines()[:_FIRST] if line.strip()]
    for looks_so, reader in (
        (_are_printed, printed_objects),
        (_are_sent, sent_messages),
        (_are_named, named_records),
    ):
        if not looks_so(lines):
            continue
        first = islice(reader(text), _SAMPLE)
        told = [tells_request(record) for record in first if isinstance(record, dict)]
        if sum(told) * 2 >= len(told) > 0:
            return reader
    return None


_FIRST = 300  # lines


def _are_printed(lines: Sequence[str]) -> bool:
    opened = sum(line.rstrip().endswith("{") for line in lines)
    return 0 < opened * 2 <= len(lines) and any(line.strip(" ,\t") in _CLOSING for line in lines)


def _are_sent(lines: Sequence[str]) -> bool:
    plain = [_SIDE.sub("", line) for line in lines]
    return any(map(_REQUEST_LINE.match, plain)) and any(map(_STATUS_LINE.match, plain))


def _are_named(lines: Sequence[str]) -> bool:
    if any(map(is_quoted_request, lines)):
        return False  # what stands before a colon there is a host
    names = Counter(match["name"] for line in lines if (match := _NAMED.fullmatch(line)))
    others = sum(1 for line in lines if _RULED.fullmatch(line))
    return len(names) >= _FEWEST and (sum(names.values()) + others) * 10 >= len(lines) * 9


def printed_objects(text: str) -> Iterator[Record]:
    """The objects that a program printed, one after the other. One that is torn ends before the
    next line that a brace begins.
    """
    at = 0
    while (begin := loose_begin(text, at)) >= 0:
        before = times_in(text[max(text.rfind("\n", 0, begin), 0) : begin])
        try:
            found, at = loose_object(text, begin)
        except ValueError:
            end = text.find("\n{", begin)
            at = end if end > 0 else len(text)
            yield text[begin:at]
            continue
        yield {BEFORE: before[0].day, **found} if before else found


def named_records(text: str) -> Iterator[Record]:
    """Records of a name with its value a line, divided by empty lines, by rules, or by the signs
    with which the items of a list begin. What a cache asks of the server behind it, and how it
    spoke with visitors, are no requests of theirs.
    """
    for record in _each_named(text):
        if isinstance(record, str) or not any(map(_NO_VISITOR.match, record)):
            yield record


_NO_VISITOR = re.compile(r"Bereq[A-Z]|Sess(?:Open|Close)\Z")


def between_records(line: str) -> bool:
    """Whether a line is empty, or one that divides records."""
    return not line.strip() or _RULED.fullmatch(line) is not None


def _each_named(text: str) -> Iterator[Record]:
    record: dict[str, Any] = {}
    for line in text.splitlines():
        item = _ITEM.match(line)
        divides = between_records(line) or item
        if divides and record and list(record) != [BEFORE]:
            yield record
            record = {}
        if divides and (moments := times_in(line[:_LONGEST])):
            record = {BEFORE: line[moments[0].at :][:_LONGEST]}
        if (divides and not item) or len(record) > _MOST_NAMES:
            continue
        if (match := _NAMED.fullmatch(line)) is not None:
            _tell(record, match["name"], (match["value"] or "").strip("\"'"))
        else:
            yield line
    if record:
        yield record


def _tell(record: dict[str, Any], name: str, value: str) -> None:
    """Add a value to a record; a header in it is told below its name."""
    inner = _INNER.fullmatch(value)
    if inner is None:
        record.setdefault(name, value)
        return
    below = record.setdefault(name, {})
    if isinstance(below, dict):
        first = inner[2].partition(" ")[0] if _FIGURES.fullmatch(inner[2]) else inner[2]
        below.setdefault(inner[1], first)


_SIDE = re.compile(r"\A[<>*] ?")
"""By which programs tell what was sent from what came back."""


def sent_messages(text: str) -> Iterator[Record]:
    """Requests as they were sent, with the statuses of their answers; the day is the last one that
    stood before them, or that of the answer.
    """
    record: dict[str, Any] = {}
    seen, answered = "", False
    for line in (_SIDE.sub("", line) for line in text.splitlines()):
        header = _HEADER.fullmatch(line)
        if (sent := sent_in(line.strip())) is not None and sent.protocol:
            if record:
                yield record
            record = {"request": sent.line, "headers": {}, "time": seen}
            seen, answered = "", False
        elif (status := _STATUS_LINE.match(line.strip())) is not None:
            answered = True
            if record:
                record["status"] = status[1]
        elif header is None:
            if moments := times_in(line[:_LONGEST]):
                seen = line[moments[0].at :]
        elif record and not answered:
            record["headers"].setdefault(header["name"], header["value"])
        elif record and header["name"].lower() == "date":
            record["time"] = record["time"] or header["value"]
    if record:
        yield record
