"""Shapes in which programs lay rows into JSON without a list of them: objects by their numbers or
keys, a list or an object for each column, scalars with their type.
"""

from __future__ import annotations

import re
from typing import Any

_TYPE = re.compile(r"\$\w{1,40}|S|N|B|BOOL")
"""How a scalar's type is called by databases that write it beside the scalar."""
_FEWEST = 2


def scalar_of(value: Any) -> Any:
    """The scalar that an object tells with its type; any other value as it is."""
    if isinstance(value, dict) and len(value) == 1:
        ((name, inner),) = value.items()
        if _TYPE.fullmatch(name) and isinstance(inner, str | int | float):
            return inner
    return value


def numbered_rows(value: dict[str, Any]) -> list[dict[str, Any]]:
    """The rows of an object that holds one row a name, all alike, or one column a name, all as
    long; none where it is another.
    """
    inner = list(value.values())
    if len(inner) < _FEWEST:
        return []
    if all(isinstance(column, list) and len(column) == len(inner[0]) for column in inner):
        if any(isinstance(cell, dict | list) for column in inner for cell in column):
            return []
        return [dict(zip(value, cells, strict=True)) for cells in zip(*inner, strict=True)]
    if not all(isinstance(row, dict) and row for row in inner):
        return []
    names = inner[0].keys()
    if any(row.keys() != names for row in inner):
        return []
    if all(name.isdigit() for name in names):
        return [{name: told[key] for name, told in value.items()} for key in names]
    return [{**row} for row in inner]
