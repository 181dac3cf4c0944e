"""JSON as rows: an object or a list a line, or one document in which the rows lie somewhere."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from itertools import chain, islice
from pathlib import Path
from typing import Any

from upright_ledger.errors import InputError
from upright_ledger.formats.delimiters import MAX_COLUMNS
from upright_ledger.formats.files.json_text import read_json
from upright_ledger.formats.files.property_list import property_list
from upright_ledger.formats.files.text import open_text
from upright_ledger.formats.tables.cells import Row, cell_text, looks_like_address, tells_address
from upright_ledger.formats.tables.rows.json_shapes import numbered_rows, scalar_of

Named = Mapping[str, Any]
"""Name, with its outer names and dots before it → scalar."""
MAX_DOCUMENT = 1 << 27  # characters
_HEAD = 1000  # rows that name the columns
_SAMPLE = 200  # rows that tell whether there are addresses
_DEEPEST = 12
_VALUE = "value"


def json_rows(path: Path, encoding: str) -> Iterator[Row]:
    """The rows under a header of all names that the first ones hold, of property lists as well.
    Raises InputError.
    """
    if (properties := property_list(path)) is not None:
        yield from under_header(enumerate(_records(properties, ()), 1))
        return
    with open_text(path, encoding) as file:
        lines = enumerate(file, 1)
        first = list(islice(((n, line) for n, line in lines if line.strip()), 2))
        if len(first) == 2 and all(isinstance(_value_of(line), dict | list) for _, line in first):
            told = ((n, _read(path, n, line)) for n, line in chain(first, lines) if line.strip())
            rows = ((n, flat(value)) for n, value in told)
            yield from under_header(rows)
            return
    with open_text(path, encoding) as file:  # a packed one cannot be gone back in
        document = _document(path, file.read(MAX_DOCUMENT + 1))
    yield from under_header(enumerate(_records(document, ()), 1))


def under_header(rows: Iterator[tuple[int, Named]]) -> Iterator[Row]:
    """Rows of named values under a header of all names that the first ones hold."""
    first = list(islice(rows, _HEAD))
    names = list(dict.fromkeys(name for _, told in first for name in told))[:MAX_COLUMNS]
    yield 0, _shortest(names)
    for line, told in chain(first, rows):
        cells = [_cell(told.get(name)) for name in names]
        yield line, cells if any(cells) else []


def _shortest(names: Sequence[str]) -> list[str]:
    """Names without those outer ones that tell them apart from no other."""
    taken: dict[str, int] = {}
    for name in names:
        last = name.rpartition(".")[2]
        taken[last] = taken.get(last, 0) + 1
    lasts = [name.rpartition(".")[2] for name in names]
    return [
        last if taken[last] == 1 and not last.isdigit() else name
        for name, last in zip(names, lasts, strict=True)
    ]


def _document(path: Path, text: str) -> Any:
    if len(text) > MAX_DOCUMENT:
        raise InputError(
            f"{path} is one JSON text of more than {MAX_DOCUMENT:,} characters",
            "export it as JSON Lines",
        )
    try:
        return read_json(text)
    except ValueError as error:
        if "\n" not in text.strip():
            raise InputError(f"{path} is damaged JSON: {error}", "export it again") from None
    number, line = next(
        (n, line) for n, line in enumerate(text.splitlines(), 1) if _value_of(line) is None
    )
    return _read(path, number, line)


def _value_of(line: str) -> Any:
    """The value of a line; None where it is none."""
    try:
        return read_json(line)
    except ValueError:
        return None


def _read(path: Path, number: int, line: str) -> Any:
    try:
        return read_json(line)
    except ValueError as error:
        raise InputError(
            f"{path} line {number:,} is damaged JSON: {error}", "mend or delete the line"
        ) from None


def _records(value: Any, names: Sequence[Sequence[str]], depth: int = 0) -> list[Named]:
    """The rows of a document: of the lists and objects in it those of which most hold an address.
    names: lists of names that stand beside it.
    """
    if depth > _DEEPEST:
        return []
    if isinstance(value, list):
        return _of_list(value, names, depth)
    if not isinstance(value, dict):
        return []
    if _are_addresses(value):
        return [{"url": key, **flat(told, "hits")} for key, told in value.items()]
    numbered = [flat(row) for row in numbered_rows(value)]
    if _addresses(numbered):
        return numbered
    beside = [found for inner in _lists_in(value) if (found := _names_in(inner))]
    best = max(
        (_records(inner, beside, depth + 1) for inner in value.values()),
        key=lambda rows: (_addresses(rows), len(rows)),
        default=[],
    )
    own = _tree(value)
    return best if _addresses(best) or (best and not _addresses(own)) else own


def _of_list(items: list[Any], names: Sequence[Sequence[str]], depth: int) -> list[Named]:
    if not items:
        return []
    if all(isinstance(item, list) for item in items):
        header = _names_in(items[0])
        body = items[1:] if header else items
        width = max(map(len, items))
        header = header or next((list(told) for told in names if len(told) == width), [])
        return [flat(item, names=[header] if header else ()) for item in body]
    if any(_branches(item) for item in items):
        return [row for item in items for row in _tree(item)]
    rows = [flat(item, names=names) for item in items]
    nested = [item for item in items if isinstance(item, dict | list)]
    if not nested or _addresses([_own(item) for item in items]):
        return rows
    inner = [row for item in nested for row in _records(item, names, depth + 1)]
    told = [row for row in inner if len(row) > 1] if _addresses(rows) else inner
    return inner if _addresses(told) > _addresses(rows) else rows


def _tree(value: Any, depth: int = 0) -> list[Named]:
    """The row that an object is, and those of the objects below it that are of its kind."""
    branches = _branches(value) if depth <= _DEEPEST else {}
    if not branches:
        return [flat(value)]
    own = {name: inner for name, inner in value.items() if name not in branches}
    below = [row for inner in branches.values() for item in inner for row in _tree(item, depth + 1)]
    return [flat(own), *below]


def _branches(value: Any) -> dict[str, list[Any]]:
    """The lists in an object whose objects have its own names, as the pages of a tree have."""
    if not isinstance(value, dict):
        return {}
    scalars = {name for name, inner in value.items() if not isinstance(inner, dict | list)}
    return {
        name: inner
        for name, inner in value.items()
        if isinstance(inner, list)
        and inner
        and all(isinstance(item, dict) and _is_like(item, scalars) for item in inner)
    }


def _is_like(item: dict[str, Any], names: set[str]) -> bool:
    own = {name for name, inner in item.items() if not isinstance(inner, dict | list)}
    return bool(own) and len(own & names) * 4 >= len(own | names) * 3


def _own(item: Any) -> Named:
    """The texts that an object holds itself."""
    return {k: v for k, v in item.items() if isinstance(v, str)} if isinstance(item, dict) else {}


def flat(value: Any, name: str = _VALUE, names: Sequence[Sequence[str]] = ()) -> Named:
    """The scalars in a value by their names. names: lists of names for lists of as many values."""
    found: dict[str, Any] = {}
    _put(found, name if not isinstance(value, dict) else "", value, list(names), 0)
    return found


def _put(
    found: dict[str, Any], name: str, value: Any, names: list[Sequence[str]], depth: int
) -> None:
    value = scalar_of(value)
    if isinstance(value, dict) and depth <= _DEEPEST:
        for key, inner in value.items():
            _put(found, f"{name}.{key}" if name else str(key), inner, names, depth + 1)
    elif isinstance(value, list) and depth <= _DEEPEST:
        header = next((told for told in names if len(told) == len(value)), None)
        if header is not None:
            names.remove(header)
        for n, inner in enumerate(value[:MAX_COLUMNS]):
            its = header[n] if header is not None else f"{name}.{n}" if n else name
            only = _only(inner)
            _put(found, its, inner if only is None else only, names, depth + 1)
    else:
        found.setdefault(name, value)


def _only(value: Any) -> Any:
    """The one scalar of an object that holds nothing else; else None."""
    if isinstance(value, dict) and len(value) == 1:
        inner = next(iter(value.values()))
        return inner if isinstance(inner, str | int | float) else None
    return None


def _lists_in(value: dict[str, Any]) -> Iterator[Any]:
    """What an object holds, and what the objects in it hold."""
    for inner in value.values():
        yield inner
        if isinstance(inner, dict):
            yield from inner.values()


def _names_in(value: Any) -> list[str]:
    """The names that a list holds, each a text or an object with a name; none where it holds other
    things.
    """
    if not isinstance(value, list) or not value or len(value) > MAX_COLUMNS:
        return []
    told = [item.get("name") if isinstance(item, dict) else item for item in value]
    names = [t for t in told if isinstance(t, str) and t and not looks_like_address(t)]
    return names if len(names) == len(value) == len(set(names)) else []


def _are_addresses(value: dict[str, Any]) -> bool:
    keys = list(islice(value, _SAMPLE))
    return sum(map(looks_like_address, keys)) * 2 > len(keys)


def _addresses(rows: Sequence[Named]) -> int:
    """How many rows hold an address, as far as the first ones tell."""
    seen = rows[:_SAMPLE]
    many = sum(
        any(isinstance(told, str) and tells_address(told) for told in row.values()) for row in seen
    )
    return many * len(rows) // len(seen) if seen else 0


def _cell(value: Any) -> str:
    return "" if isinstance(value, dict | list | bool) else cell_text(value)
