"""Written files with one line dropped, swapped or altered."""

from __future__ import annotations

import json
import random
from collections.abc import Callable, Iterator, Mapping
from copy import deepcopy
from functools import partial
from typing import Any

DROP, SWAP, ALTER = "drop", "swap", "alter"
RULE_FILES = {
    "nginx": ("redirects.conf", "server.inc"),
    "apache": ("redirects.conf", "plain.txt", "groups.txt", "params.txt", "wild.txt"),
    "htaccess": (".htaccess",),
    "haproxy": ("redirects.cfg", "sites.map", "plain.map", "groups.map", "params.map", "wild.map",
        "templates.map", "choices.map"),
    "lighttpd": ("upright_rules.lua", "redirects.lua", "upright_redirects.lua"),
    "caddy": ("redirects.json",),
}  # fmt: skip
_COMMENTS = ("#", "--")


def corruptions(
    name: str, files: Mapping[str, bytes]
) -> Iterator[tuple[str, str, Callable[[], bytes]]]:
    """For every line that a server reads: what is done, to which file, and a function that gives
    the file then.
    """
    for file in RULE_FILES[name]:
        if file in files:
            made = _in_json(files[file]) if name == "caddy" else _in_lines(files[file])
            for what, change in made:
                yield f"{file}: {what}", file, change


def _in_lines(data: bytes) -> Iterator[tuple[str, Callable[[], bytes]]]:
    lines = data.decode("latin-1").split("\n")
    told = [
        n
        for n, line in enumerate(lines)
        if line.strip() and not line.lstrip().startswith(_COMMENTS)
    ]

    def with_lines(change: dict[int, str | None]) -> Callable[[], bytes]:
        changed = (change.get(n, line) for n, line in enumerate(lines))
        return lambda: "\n".join(line for line in changed if line is not None).encode("latin-1")

    for at, n in enumerate(told):
        yield f"{DROP} {lines[n]!r}", with_lines({n: None})
        altered = _altered(lines[n], n)
        yield f"{ALTER} {lines[n]!r} to {altered!r}", with_lines({n: altered})
        if at + 1 < len(told) and lines[n] != lines[told[at + 1]]:
            other = told[at + 1]
            yield (
                f"{SWAP} {lines[n]!r} with {lines[other]!r}",
                with_lines({n: lines[other], other: lines[n]}),
            )


def _altered(text: str, seed: int) -> str:
    """A text with one letter or digit changed, somewhere."""
    places = [n for n, c in enumerate(text) if c.isascii() and c.isalnum()]
    if not places:
        return f"{text}x"
    at = random.Random(seed).choice(places)
    other = "7" if text[at].isdigit() and text[at] != "7" else "q" if text[at] not in "qQ" else "z"
    return text[:at] + other + text[at + 1 :]


def _in_json(data: bytes) -> Iterator[tuple[str, Callable[[], bytes]]]:
    whole = json.loads(data)
    for n, (path, value) in enumerate(_nodes(whole, ())):
        if isinstance(value, str):
            yield f"{ALTER} {value!r}", partial(_with, whole, path, _altered(value, n))
        elif path and isinstance(path[-1], int):
            yield f"{DROP} {str(value)[:150]}", partial(_with, whole, path, None)
            if path[-1] and value != _at(whole, (*path[:-1], path[-1] - 1)):
                yield f"{SWAP} {str(value)[:150]}", partial(_with, whole, path, (path[-1] - 1,))


def _nodes(value: Any, path: tuple[Any, ...]) -> Iterator[tuple[tuple[Any, ...], Any]]:
    yield path, value
    for key, inner in (
        value.items()
        if isinstance(value, dict)
        else enumerate(value)
        if isinstance(value, list)
        else ()
    ):
        yield from _nodes(inner, (*path, key))


def _at(whole: Any, path: tuple[Any, ...]) -> Any:
    for key in path:
        whole = whole[key]
    return whole


def _with(whole: Any, path: tuple[Any, ...], change: Any) -> bytes:
    """The JSON with the value at a path replaced, taken out (None), or swapped with that of another
    index (a tuple).
    """
    changed = deepcopy(whole)
    place = changed
    for key in path[:-1]:
        place = place[key]
    if change is None:
        del place[path[-1]]
    elif isinstance(change, tuple):
        place[path[-1]], place[change[0]] = place[change[0]], place[path[-1]]
    else:
        place[path[-1]] = change
    return json.dumps(changed, ensure_ascii=False).encode()
