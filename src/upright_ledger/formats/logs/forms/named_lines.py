"""Lines of names with values: key=value (logfmt), LTSV, events whose values hold blanks."""

from __future__ import annotations

import re
from collections.abc import Sequence

from upright_ledger.core.inventory.noise import AsideClass
from upright_ledger.formats.logs.forms.json_lines import filled
from upright_ledger.formats.logs.log_line import (
    Likeness,
    LogFormat,
    LogLine,
    Parser,
)
from upright_ledger.formats.logs.meanings.log_roles import (
    Places,
    are_asked,
    line_of,
    parts_of,
    places_of,
    tells_of_requests,
)

_PAIR = re.compile(
    r'(?<![^\s,;|{(])([A-Za-z_@][\w.@:-]*)=(?:"([^"\\]*+(?:\\.[^"\\]*+)*+)"|'
    r"'([^'\\]*+(?:\\.[^'\\]*+)*+)'(?![^\s,;|)}])|"
    r"((?:GET|HEAD|POST|PUT|PATCH|DELETE|OPTIONS) /\S*|[^\s\"]\S*)?)"
)
_EXTENDED = re.compile(r"\b(?:CEF:\d|LEEF:\d[.\d]*)\|(?:[^|]*\|){4,6}")
"""With which an event begins whose values may hold blanks."""
_TOLD = {"dhost": "host", "start": "starttime", "end": "time"}
"""Names of such events that say something else elsewhere, and what they mean."""
_ESCAPED = re.compile(r"\\([=|\\])")
_NEXT = re.compile(r"[\s^]+(?=[A-Za-z_][\w.-]*=)")
_LABEL = re.compile(r"([A-Za-z_][\w.-]*):(.*)", re.DOTALL)
_COLON = re.compile(r"[,;|]\s{1,9}(?=[A-Za-z_][\w .-]{0,30}: )")
"""What divides names and values between which a colon stands."""
_METRIC = re.compile(r"[A-Za-z_:][\w:]*\{.*\} +[-+\d.eE]+(?: +\d+)?", re.DOTALL)
"""A figure with labels, as programs tell of themselves; it stands for many requests."""
_FEWEST = 3
_DIVIDED = 2  # values that end in a sign by which all are divided
_MOST_SHAPES = 1_000


def _pairs(line: str) -> list[tuple[str, str]]:
    """The names of a line with their values, in either form."""
    if "\t" in line:
        cells = line.split("\t")
        matches = [m for cell in cells if (m := _LABEL.match(cell)) is not None]
        if len(matches) == len(cells) and len(matches) >= _FEWEST:
            return [(m[1], m[2]) for m in matches]
    if (event := _EXTENDED.search(line)) is not None:
        return _labelled(_NEXT.split(line[event.end() :]))
    matches = list(_PAIR.finditer(line))
    if len(matches) < _FEWEST and len(parts := _COLON.split(line)) >= _FEWEST:
        told = [part.partition(": ") for part in parts]
        pairs = [(name, value.strip().strip('"')) for name, _, value in told]
        pairs[0] = ((pairs[0][0].split() or [""])[-1], pairs[0][1])
    else:
        closing = _closing([m[4] for m in matches if m[4]])
        ends = [*(m.start() for m in matches[1:]), len(line)]
        pairs = [(m[1], _value(m, line, e, closing)) for m, e in zip(matches, ends, strict=False)]
        parts = [line[: matches[0].start()]] if matches else []
    # Many write the time before all names.
    return [*pairs, ("timestamp", parts[0])] if pairs else []


def _value(match: re.Match[str], line: str, end: int, closing: str) -> str:
    """The value of a name; a bare one may hold blanks where a sign divides all of them, or where a
    browser begins to tell its name. end: where the next name begins.
    """
    if match[4] is None:
        return match[2] or match[3] or ""
    goes_on = (closing and not match[4].endswith(closing)) or match[4].startswith("Mozilla/")
    value = line[match.start(4) : end].rstrip() if goes_on else match[4]
    return _bare(value.removesuffix(closing))


def _closing(values: Sequence[str]) -> str:
    """The sign that stands behind bare values to divide them, or nothing."""
    return next((s for s in ",;" if sum(v.endswith(s) for v in values) >= _DIVIDED), "")


def _labelled(told: Sequence[str]) -> list[tuple[str, str]]:
    """Names with values that stand apart; some names are told by a label beside them."""
    pairs = [
        (name.strip(), _ESCAPED.sub(r"\1", value))
        for name, sign, value in (t.partition("=") for t in told)
        if sign
    ]
    labels = _TOLD | {n.removesuffix("Label"): v for n, v in pairs if n.endswith("Label")}
    return [(labels.get(name, name), value) for name, value in pairs]


def _bare(value: str) -> str:
    """A value without the brace that closes the names around it."""
    return (
        value.rstrip(":").removesuffix("}")
        if value.rstrip(":").endswith("}") and "{" not in value
        else value
    )


class NamedParser:
    """Lines that name each of their values."""

    def __init__(self, asked: frozenset[str] = frozenset()) -> None:
        """asked: names that tell the host that was asked, beside those that always do."""
        self._known: dict[tuple[str, ...], Places] = {}
        self._asked = asked

    def __call__(self, line: str) -> LogLine | str:
        if not line.strip():
            return AsideClass.BLANK
        pairs = _pairs(line)
        names = tuple([name for name, _ in pairs])
        places = self._known.get(names)
        if places is None:
            if len(self._known) > _MOST_SHAPES:
                self._known.clear()
            places = _places(pairs)
            asked = (n for n, name in enumerate(names) if name in self._asked)
            places = self._known[names] = places._replace(host=(*places.host, *asked))
        if not (places.status or places.request or places.target):
            return AsideClass.PROSE
        return line_of(places, [value for _, value in pairs])


def _places(pairs: Sequence[tuple[str, str]]) -> Places:
    """What the values mean, by their names, and by their shape where a name is nobody's."""
    named = places_of([parts_of(name) for name, _ in pairs])
    return filled(named, [value for _, value in pairs])


def _sniff_named(lines: Sequence[str]) -> Likeness:
    first = lines[:60]
    if any(map(_METRIC.fullmatch, first)):
        return Likeness.NONE
    told = [pairs for line in first if len(pairs := _pairs(line)) >= _FEWEST]
    requests = [
        pairs for pairs in told if tells_of_requests(_places(pairs), [value for _, value in pairs])
    ]
    # Other lines of a program may stand between them.
    enough = len(requests) > 1 or len(requests) * 2 >= len(first)
    return Likeness.SURE if requests and enough else Likeness.NONE


def _new_named(sample: Sequence[str], hosts: frozenset[str]) -> Parser:
    told: dict[str, set[str]] = {}
    for name, value in (pair for line in sample for pair in _pairs(line)):
        told.setdefault(name, set()).add(value)
    asked = (name for name, values in told.items() if are_asked(parts_of(name), values, hosts))
    return NamedParser(frozenset(asked))


NAMED = LogFormat(_sniff_named, _new_named)
