"""Lines of logs whose format nobody named: a request is known by its shape, its status by its
place, its time by its form, and what the other fields are by what stands in them all over the log.

Prefixes of containers, journals and collectors stand before, and do not matter.
"""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass, replace
from functools import lru_cache

from upright_ledger.core.inventory.noise import AsideClass
from upright_ledger.formats.logs.forms.line_fields import (
    ADDRESS,
    BARE,
    BRACED,
    BRACKETED,
    CACHED,
    PROTOCOL,
    QUOTED,
    STATUS,
    URL,
    Field,
    Request,
    bare_agent,
    fields_of,
    is_client,
    looks_like_agent,
    plain_line,
    request_in,
    statuses_in,
)
from upright_ledger.formats.logs.log_line import (
    NO_REQUEST,
    Likeness,
    LogFormat,
    LogLine,
    NotALineError,
    Parser,
    host_name,
    most,
)
from upright_ledger.formats.logs.meanings.error_words import failure_of, no_route_in
from upright_ledger.formats.logs.meanings.log_roles import is_method
from upright_ledger.formats.logs.meanings.log_times import Moment, are_day_first, times_in

FIRST_WORD = (BARE, 1)
USUAL = frozenset(
    map(
        str,
        (
            *(200, 201, 204, 206, 301, 302, 303, 304, 307, 308, 400, 401, 403, 404, 405, 408),
            *(410, 413, 429, 499, 500, 502, 503, 504),
        ),
    )
)
"""Statuses that servers give often: of several figures of three digits these are one."""
_SAMPLE = 200
_OF_HAPROXY = re.compile(r" [A-Za-z-]{2}[A-Z-]{2} (?:\d+[/ ]){4}\d+ ")
"""How HAProxy says how a session ended, and how many there were."""
_HASH = re.compile(r"#([0-9A-Fa-f]{2})")
_TOLD_TOGETHER = 2  # referrer and agent
_SHARE = 4  # one in so many lines, by which fields, and requests told twice, are known


@dataclass(frozen=True)
class _Layout:
    """Where the fields of a log are. status: how many fields behind the request, or before it where
    that is negative; 0: it is told by nothing but its shape. agent, referrer, host: which field, as
    (kind, its number among those of that kind, counted from the request), or None. is_combined: the
    fields are those of the Common or Combined Log Format, perhaps with the host in front, and with
    more behind. begins: requests are told before they are answered, too.
    with_hashes: some signs of a request are written as #XX. in_words: nothing but what
    a framework says of addresses that lead nowhere tells of requests. day_first: it stands before
    the month where both are told in figures.
    """

    status: int = 0
    agent: tuple[int, int] | None = None
    referrer: tuple[int, int] | None = None
    host: tuple[int, int] | None = None
    is_combined: bool = False
    begins: bool = False
    with_hashes: bool = False
    in_words: bool = False
    day_first: bool = False


def is_request_line(line: str) -> bool:
    """Whether a line tells of a request, and how it was answered."""
    line = plain_line(line)
    fields = fields_of(line)
    request = request_in(fields)
    if request is None:
        return failure_of(line) is not None
    return bool(statuses_in(fields, request)) or failure_of(line) is not None


def asked_in(line: str) -> LogLine | None:
    """The request of which a line tells, its status perhaps empty."""
    line = plain_line(line)
    fields = fields_of(line)
    request = request_in(fields)
    if request is None:
        return None
    status = next((text for _, text in statuses_in(fields, request)), "")
    day = _time_of(line, fields[request.first].at).day
    client = next((f.text for f in fields if is_client(f.text)), "")
    return LogLine(request.text, status, day, None, "", "", client=client)


def learned(sample: Sequence[str], hosts: frozenset[str]) -> AnyLine:
    """A reader of the lines of a log, by some of its lines. hosts: of the old sites."""
    return AnyLine(_layout_of(tuple(sample), hosts))


@lru_cache(maxsize=8)  # the same lines are looked at for several questions
def _layout_of(sample: Sequence[str], hosts: frozenset[str]) -> _Layout:
    told = []
    for line in sample[:_SAMPLE]:
        fields = fields_of(plain_line(line))
        if (request := request_in(fields)) is not None:
            told.append((fields, request))
    layout = _layout(told, hosts)
    asked = [fields[request.first].text for fields, request in told]
    if len(asked) > 1 and not most(asked, PROTOCOL.search):  # one alone is damaged rather
        layout = replace(layout, is_combined=False)
    if any(plain_line(line) != line for line in sample[:_SAMPLE]):
        layout = replace(layout, is_combined=False)
    if most(sample[:_SAMPLE], _OF_HAPROXY.search):
        layout = replace(layout, is_combined=False, with_hashes=True)
    begun = sum(not statuses_in(fields, request) for fields, request in told)
    words = begun == len(told) and any(map(no_route_in, sample[:_SAMPLE]))
    return replace(
        layout,
        begins=begun * _SHARE >= max(len(told), 1),
        in_words=words,
        day_first=not layout.is_combined and are_day_first(sample[:_SAMPLE]),
    )


def _layout(told: Sequence[tuple[Sequence[Field], Request]], hosts: frozenset[str]) -> _Layout:
    if not told:
        return _Layout(is_combined=True)  # as nothing speaks against it
    usual: Counter[int] = Counter()
    cached: set[int] = set()
    columns: dict[tuple[int, int], list[str]] = {}
    for fields, request in told:
        for at, text in statuses_in(fields, request):
            usual[at] += text in USUAL
            shift = request.last if at > 0 else request.first
            if CACHED.match(fields[shift + at].text):
                cached.add(at)
        for place, held in _placed(fields, request):
            columns.setdefault(place, []).append(held)
    columns = {at: texts for at, texts in columns.items() if not _is_damage(at, texts, told)}
    # Of several that always hold a status, that behind the request, and of these the first.
    status = max(usual, key=lambda at: (usual[at], at in cached, at > 0, -at), default=0)
    agent = _best(columns, looks_like_agent, often=True)
    silent = [(QUOTED, n) for n in (1, 2) if set(columns.get((QUOTED, n), "x")) <= {"-", ""}]
    if agent is None and len(silent) == _TOLD_TOGETHER:
        columns = {at: texts for at, texts in columns.items() if at[0] != QUOTED or at in silent}
    referrer = _best(columns, lambda t: URL.match(t) is not None, {agent})
    if agent is not None and referrer is None:
        before = (agent[0], agent[1] - 1)
        if agent[0] == QUOTED and all(t in {"-", ""} for t in columns.get(before, ("x",))):
            referrer = before
    elif referrer is not None and agent is None and (referrer[0], referrer[1] + 1) in columns:
        agent = (referrer[0], referrer[1] + 1)
    elif agent is None and referrer is None and any(columns.get((QUOTED, 2), ())):
        referrer, agent = (QUOTED, 1), (QUOTED, 2)  # as all who write them order them
    host = _host_place(columns, hosts, {agent, referrer})
    is_plain = status == 1 and not any(kind == QUOTED and n < 1 for kind, n in columns)
    named = agent in {None, (QUOTED, 2)} and referrer in {None, (QUOTED, 1)}
    alone = agent is not None or not any(kind == QUOTED for kind, _ in columns)
    return _Layout(
        status, agent, referrer, host, is_plain and named and alone and host in {None, FIRST_WORD}
    )


def _is_damage(place: tuple[int, int], texts: Sequence[str], told: Sequence[object]) -> bool:
    """Whether a field stands in hardly any line; a quoted one, which a single quote too many makes,
    in no more than half of them.
    """
    return len(texts) * (2 if place[0] == QUOTED else _SHARE) < len(told) + (place[0] == QUOTED)


def _placed(fields: Sequence[Field], request: Request) -> Iterable[tuple[tuple[int, int], str]]:
    """Each field but the request's with its place: of those in quotes and brackets, and of what
    stands in braces between upright strokes, as HAProxy writes what it captured, among their kind,
    counted from the request; words are counted from the line's begin up to the request, and behind
    it downwards from -1.
    """
    for kind in (QUOTED, BRACED, BRACKETED):
        texts = [
            (n, text)
            for n, f in enumerate(fields)
            if f.kind == kind and n != request.first
            for text in (f.text.split("|") if kind == BRACED else (f.text,))
        ]
        behind = sum(n < request.first for n, _ in texts)
        for rank, (_, text) in enumerate(texts):
            yield (kind, rank - behind + (rank >= behind)), text
    words = 0
    for n, field in enumerate(fields[: request.first]):
        if field.kind == BARE:
            words += 1
            yield (BARE, words), fields[n].text
    rest = (f.text for f in fields[request.last + 1 :] if f.kind == BARE)
    for n, text in enumerate(rest, 1):
        yield (BARE, -n), text


def _best(
    columns: dict[tuple[int, int], list[str]],
    test: Callable[[str], bool],
    taken: Iterable[tuple[int, int] | None] = (),
    *,
    often: bool = False,
) -> tuple[int, int] | None:
    """The field in quotes, braces or brackets in which most texts stand a test, of two alike the
    first; None where hardly any does. often: of two alike rather that which is empty in fewer
    lines.
    """
    best, largest = None, (0.5, 1.0)
    for place, texts in columns.items():
        if place[0] == BARE or place in set(taken):
            continue
        told = [t for t in texts if t not in {"", "-"}]
        share = sum(map(test, told)) / len(told) if told else 0.0
        how_well = (share, len(told) / len(texts) if often else 1.0)
        if how_well > largest:
            best, largest = place, how_well
    return best


def _host_place(
    columns: dict[tuple[int, int], list[str]],
    hosts: frozenset[str],
    taken: set[tuple[int, int] | None],
) -> tuple[int, int] | None:
    """Which field names the host that was asked: one that names an old one, or a name where the
    client's address stands beside it.
    """
    first, second = (columns.get((BARE, n), []) for n in (1, 2))
    for place, texts in columns.items():
        known = sum(_is_of(text, hosts) for text in texts)
        likely = known * 2 >= len(texts) or (most(texts, host_name) and place != FIRST_WORD)
        if place not in taken and known and likely:
            return place
    if most(first, host_name) and most(second, ADDRESS.match):
        return FIRST_WORD
    if most(second, host_name) and most(first, ADDRESS.match):
        return BARE, 2
    return None


def _without_name(text: str) -> str:
    """A word without the name that may stand before it, as in host=www.fern.example."""
    return text.rpartition("=")[2].strip('"')


def _is_of(text: str, hosts: frozenset[str]) -> bool:
    low = _without_name(text).lower()
    return low in hosts or low.rpartition(":")[0] in hosts


class AnyLine:
    """Reads lines of one log."""

    def __init__(self, layout: _Layout) -> None:
        self.layout = layout

    def __call__(self, line: str) -> LogLine | str:
        if not line.strip():
            return AsideClass.BLANK
        line = plain_line(line)
        if (error := failure_of(line)) is not None:
            return error
        fields = fields_of(line)
        request = request_in(fields)
        if self.layout.in_words and (missing := no_route_in(line)) is not None:
            return missing
        if request is None:
            return self._without_request(fields)
        status = self._status(fields, request)
        moment = _time_of(line, fields[request.first].at)
        if not status and self.layout.begins:
            return AsideClass.BEGUN
        if not status:
            raise NotALineError("its status cannot be found")
        told = dict(_placed(fields, request))
        layout = self.layout

        def of(place: tuple[int, int] | None) -> str:
            text = told.get(place, "") if place is not None else ""
            return "" if text == "-" else text

        behind = fields[request.last].at + len(fields[request.last].text)
        agent = (of(layout.agent) or "-") if layout.agent is not None else bare_agent(line[behind:])
        host = host_name(_without_name(of(layout.host)))
        client = next((f.text for f in fields if is_client(f.text)), "")
        led = of(layout.referrer)
        asked = _HASH.sub(r"%\1", request.text) if layout.with_hashes else request.text
        day = (layout.day_first and moment.other) or moment.day
        return LogLine(asked, status, day, agent, led, host, client=client)

    def _status(self, fields: Sequence[Field], request: Request) -> str:
        found = dict(statuses_in(fields, request))
        return found.get(self.layout.status) or next(iter(found.values()), "")

    @staticmethod
    def _without_request(fields: Sequence[Field]) -> str:
        """What is no request that anybody could answer, or another line of a program. Raises
        NotALineError for one that was torn.
        """
        quoted = [f.text for f in fields if f.kind == QUOTED]
        if quoted and quoted[0] in NO_REQUEST and any(STATUS.match(f.text) for f in fields):
            return AsideClass.NOT_A_PAGE_REQUEST
        is_said = len(fields) >= _SENTENCE or (fields and _LEVEL.match(fields[0].text))
        if is_said and not quoted and not any(map(_is_of_request, fields)):
            return AsideClass.PROSE
        if not quoted and fields and _WORD.match(fields[-1].text):
            return AsideClass.PROSE  # what became of a connection
        raise NotALineError("it tells of no request")


def _is_of_request(field: Field) -> bool:
    """Whether a field is a client's address, or a method: what stands in lines of requests."""
    return is_method(field.text.strip("'\"")) or is_client(field.text)


_SENTENCE = 3  # words; fewer are damage rather
_WORD = re.compile(r"[A-Z][a-z]{4,}\Z")
_LEVEL = re.compile(
    r"(?:info|warn|warning|fail|error|debug|dbug|trace|trce|crit|notice):?\Z", re.IGNORECASE
)
"""How grave it is, as programs begin what they say."""


def _time_of(line: str, at: int) -> Moment:
    """The time of a request: the last one before it, or the first behind it."""
    found = times_in(line)
    before = [m for m in found if m.at < at]
    return before[-1] if before else found[0] if found else Moment("")


def _sniff(lines: Sequence[str]) -> Likeness:
    first = lines[:60]
    told = sum(map(is_request_line, first)) or sum(no_route_in(line) is not None for line in first)
    if told * 2 >= len(first) and told:
        return Likeness.SURE
    if told >= _SEVERAL and told * _OTHERS >= len(first) and all(map(times_in, first)):
        return Likeness.SURE  # the other lines are what a program says besides
    return Likeness.SURE if any(map(_WRITTEN.search, first)) else Likeness.NONE


_SEVERAL, _OTHERS = 2, 6
_WRITTEN = re.compile(r'"[A-Z]{3,9} [^\s"]+ HTTP/\d')
"""Text that holds it is never a list."""


def _new_parser(sample: Sequence[str], hosts: frozenset[str]) -> Parser:
    return learned(sample, hosts)


ANY_LINE = LogFormat(_sniff, _new_parser, by_line=True)
