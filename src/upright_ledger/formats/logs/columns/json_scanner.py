"""Scanning logs of JSON objects, one a line: those of one outline are read as columns.

`JsonParser` says what a line means. Here its answer for the first object of an outline says where
the others have their values, and each distinct value is looked at once; a property test holds both
equal. Lines with an escape in them, and all that is unusual, are left to the parser.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from typing import Any, ClassVar, NamedTuple

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from upright_ledger.formats.logs.columns.block_scanner import BlockScanner, Columns
from upright_ledger.formats.logs.columns.json_tokens import Tokens, tokens_of
from upright_ledger.formats.logs.columns.meaning_columns import (
    Told,
    by_number,
    columns_of,
    meanings,
)
from upright_ledger.formats.logs.forms.json_lines import JsonParser, Path, Shape, as_text
from upright_ledger.formats.logs.forms.line_objects import object_of
from upright_ledger.formats.logs.line_blocks import (
    LINE_BREAK,
    Bytes,
    Lines,
    Places,
    as_utf8,
)
from upright_ledger.formats.logs.log_line import LogLine, NotALineError
from upright_ledger.formats.logs.meanings import log_roles as roles
from upright_ledger.formats.logs.meanings.log_times import (
    DAY_LENGTH,
    DAY_SECONDS,
    IN_SECONDS,
    SECONDS_LENGTH,
    day_number,
    day_of,
    written_day,
)
from upright_ledger.formats.logs.visitors import Visitors, visitors_between, visitors_named

_MOST_OUTLINES = 1_000
_UNKNOWN = "unknown"
_MOST_SAID = 100  # different texts in which a line of a server may stand, of one block


class _Token(NamedTuple):
    """Where a value stands among those of its kind in a line."""

    is_number: bool
    number: int


class _Outline(NamedTuple):
    """How lines of one outline are read: what their values may mean, which they are (None: nothing
    that says anything), and those in which a line of a server may stand.
    """

    places: roles.Places
    tokens: tuple[_Token | None, ...]
    wrapped: tuple[_Token, ...]


class JsonScanner(BlockScanner):
    """Takes blocks apart. parser: what says of an object how it is read."""

    fewest: ClassVar[int] = 40
    """Lines of one outline in a block, below which they are left to the parser: columns of so few
    take longer.
    """

    def __init__(self, parser: JsonParser, *, noise: Mapping[str, str]) -> None:
        super().__init__(with_hosts=True, noise=noise)
        self._parser = parser
        self._outlines: dict[str, _Outline | None] = {}

    def take_apart(self, data: Bytes) -> tuple[Columns, int]:
        """See `BlockScanner.take_apart`."""
        data = as_utf8(data)
        breaks = np.flatnonzero(data == LINE_BREAK)
        lines = Lines(data, breaks)
        told = [*self._told(data, lines, tokens_of(data, breaks))]
        return columns_of(told, data, lines, self.without_noise)

    def _told(self, data: Bytes, lines: Lines, tokens: Tokens) -> Iterable[Told]:
        """What the lines of each outline say that can be read as columns."""
        codes = tokens.outlines.indices.to_numpy()
        names = tokens.outlines.dictionary.to_pylist()
        if len(names) > _MOST_OUTLINES:
            return
        for code, name in enumerate(names):
            rows = tokens.lines[codes == code]
            if len(rows) < self.fewest:
                continue
            outline = self._outline_of(name, data, lines, tokens, int(rows[0]))
            if outline is not None:
                yield self._read(data, tokens, rows, outline)

    def _outline_of(
        self, name: str, data: Bytes, lines: Lines, tokens: Tokens, row: int
    ) -> _Outline | None:
        """How lines of this outline are read, of which one stands in this row. Several threads ask:
        what one of them forgets another has in its hands.
        """
        known = self._outlines.get(name, _UNKNOWN)
        if isinstance(known, str):
            if len(self._outlines) > _MOST_OUTLINES:
                self._outlines.clear()
            known = self._outlines[name] = self._look_at(data, lines, tokens, row)
        return known

    def _look_at(self, data: Bytes, lines: Lines, tokens: Tokens, row: int) -> _Outline | None:
        """How lines are read that have the outline of this one; None where they are left to the
        parser.
        """
        try:
            found = object_of(lines.text(row))
        except NotALineError:
            return None
        where: dict[Path, _Token] = {}
        texts, numbers = list[str](), list[str]()
        if found is None or not _walk(found, (), where, texts, numbers):
            return None
        at = np.array([row])
        for runs, wanted in ((tokens.texts, texts), (tokens.numbers, numbers)):
            count = int(runs.first[row + 1] - runs.first[row])
            if [runs.of(data, at, n)[0].as_py() for n in range(count)] != wanted:
                return None
        shape: Shape = self._parser.shape_of(found)
        if any(callable(step) for path in shape.paths for step in path):
            return None
        wrapped = (where.get(path) for path in shape.wrapped)
        return _Outline(
            shape.places,
            tuple(where.get(path) for path in shape.paths),
            tuple(token for token in wrapped if token is not None and not token.is_number),
        )

    def _read(self, data: Bytes, tokens: Tokens, rows: Places, outline: _Outline) -> Told:
        """The columns of lines of one outline, but for those that are left to the parser."""
        for token in outline.wrapped:
            rows = rows[~self._may_hold_a_line(tokens.texts.of(data, rows, token.number))]
        places = outline.places
        columns = _Values(data, tokens, rows, outline)
        return Told(
            rows,
            columns.each(
                (*places.request, *places.target, *places.query, *places.method, *places.host),
                lambda v: (
                    f"{roles.host_in(places, v)} {request}"
                    if (request := roles.request_in(places, v))
                    else None
                ),
            ),
            columns.each(places.status, lambda v: roles.status_in(places, v) or None),
            columns.days(places.time),
            columns.each(
                places.agent, lambda v: roles.agent_in(places, v) if places.agent else None
            ),
            columns.each(places.referrer, lambda v: roles.referrer_in(places, v)),
            columns.visitors(places),
        ).whole()

    def _may_hold_a_line(self, texts: Any) -> Any:
        """In which of these a line of a server stands, or may."""
        told = texts.dictionary_encode()
        names = told.dictionary.to_pylist()
        if len(names) > _MOST_SAID:
            return np.ones(len(texts), np.bool_)
        heard = [isinstance(self._parser.heard(name), LogLine) for name in names]
        return np.array(heard, np.bool_)[told.indices.to_numpy()]


class _Values:
    """The values of lines of one outline."""

    def __init__(self, data: Bytes, tokens: Tokens, rows: Places, outline: _Outline) -> None:
        self._data, self._tokens, self._rows = data, tokens, rows
        self._outline = outline

    def _column(self, place: int) -> Any:
        token = self._outline.tokens[place]
        if token is None:
            return pa.repeat(pa.scalar("", pa.string()), len(self._rows))
        runs = self._tokens.numbers if token.is_number else self._tokens.texts
        return runs.of(self._data, self._rows, token.number)

    def each(
        self, places: Sequence[int], meaning: Callable[[Mapping[int, str]], str | None]
    ) -> Any:
        """What some values of each line mean, worked out once for all that are alike: an Arrow
        dictionary array.
        """
        places = sorted(set(places))
        tokens = self._outline.tokens
        read = [
            _as_read if (token := tokens[place]) is not None and token.is_number else str
            for place in places
        ]

        def of_values(values: Sequence[str]) -> str | None:
            told = (as_parser_has_it(v) for as_parser_has_it, v in zip(read, values, strict=True))
            return meaning(dict(zip(places, told, strict=True)))

        return meanings([self._column(place) for place in places], len(self._rows), of_values)

    def visitors(self, places: roles.Places) -> Visitors:
        """Who asked, of each line."""
        token = self._outline.tokens[places.client[0]] if places.client else None
        if token is not None and not token.is_number:
            texts = self._column(places.client[0])
            fits = pc.and_(
                pc.match_substring_regex(texts, "^[0-9A-Fa-f:.]{3,45}$"),
                pc.match_substring_regex(texts, "[.:]"),
            )
            if pc.all(fits).as_py() is not False:
                at = self._tokens.texts.first[self._rows] + token.number
                starts, ends = self._tokens.texts.starts[at], self._tokens.texts.ends[at]
                return visitors_between(self._data, starts, ends)
        clients = self.each(places.client, lambda v: roles.client_in(places, v))
        found: Visitors = visitors_named(clients.dictionary.to_pylist())
        of_lines: Visitors = found[clients.indices.to_numpy()]
        return of_lines

    def days(self, places: Sequence[int]) -> Any:
        """The day of each line: an Arrow dictionary array, null where none is told."""
        found = self._days_at(places[0]) if places else None
        if found is None:
            return self.each(places, lambda v: _first_day(places, v))
        return found

    def _days_at(self, place: int) -> Any:
        """The day of each line by one of its values; None where some tell none in a usual form."""
        token = self._outline.tokens[place]
        if token is None:
            return None
        texts = self._column(place)
        seconds = pc.match_substring_regex(texts, f"^(?:{IN_SECONDS.pattern})$")
        if pc.all(seconds).as_py():
            whole = pc.utf8_slice_codeunits(texts, 0, SECONDS_LENGTH).cast(pa.int64())
            alike = pa.array(whole.to_numpy() // DAY_SECONDS).dictionary_encode()
            days = [day_number(number) for number in alike.dictionary.to_pylist()]
        elif token.is_number or pc.any(seconds).as_py():
            return None
        else:
            alike = pc.utf8_slice_codeunits(texts, 0, DAY_LENGTH).dictionary_encode()
            days = [written_day(text) for text in alike.dictionary.to_pylist()]
        if not all(days):
            return None
        return by_number(alike.indices, days)


def _first_day(places: Sequence[int], values: Mapping[int, str]) -> str | None:
    return next((day for at in places if (day := day_of(values[at]))), None)


def _as_read(number: str) -> str:
    """A number as the parser has it."""
    return as_text(float(number) if "." in number else int(number))


def _walk(
    value: Any, path: Path, where: dict[Path, _Token], texts: list[str], numbers: list[str]
) -> bool:
    """Every value in the order in which it stands in its line; whether none stands too deep."""
    if type(value) is dict or type(value) is list:
        inner = value.items() if type(value) is dict else enumerate(value)
        return len(path) < _DEEPEST and all(
            _walk(one, (*path, name), where, texts, numbers) for name, one in inner
        )
    if type(value) is str:
        where[path] = _Token(is_number=False, number=len(texts))
        texts.append(value)
    elif type(value) in {int, float}:
        where[path] = _Token(is_number=True, number=len(numbers))
        numbers.append(as_text(value))
    return True


_DEEPEST = 30
