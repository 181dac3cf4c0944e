"""Caddy's routes: a tree that looks texts up finds each, and nothing else."""

from __future__ import annotations

import itertools
import re
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from upright_ledger.servers.caddy import routes
from upright_ledger.servers.caddy.routes import Lookup, handled, put


def followed(tree: list[dict[str, Any]], text: str) -> list[str]:
    """What the maps hold for a text that the routes lead to, told by their patterns alone; of
    routes with one group name the first that fits runs.
    """
    found, done = list[str](), set[str]()
    for route in tree:
        (condition,) = route.get("match", [{"vars_regexp": {"": {"pattern": ""}}}])
        ((_, told),) = condition["vars_regexp"].items()
        if route.get("group") in done or not re.match(told["pattern"], f":{text}"):
            continue
        done |= {route["group"]} if "group" in route else set()
        for handler in route["handle"]:
            if handler["handler"] == "subroute":
                found += followed(handler["routes"], text)
            else:
                found += [m["output"] for m in handler["mappings"] if m["input"] == text]
    return found


def sizes(tree: list[dict[str, Any]]) -> list[int]:
    """How many texts each map holds."""
    return [
        n
        for route in tree
        for handler in route["handle"]
        for n in (
            sizes(handler["routes"])
            if handler["handler"] == "subroute"
            else [len(handler["mappings"])]
        )
    ]


TEXTS = st.sets(st.text("ab.(é", max_size=5), min_size=1, max_size=40)


@given(TEXTS, st.integers(1, 4), st.integers(2, 5))
def test_each_text_is_found_in_a_small_map_and_others_are_not(
    texts: set[str], leaf: int, fan: int
) -> None:
    entries = [(text, {"input": text, "output": f"to {text}"}) for text in sorted(texts)]
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(routes, "LEAF", leaf)
        patch.setattr(routes, "FAN", fan)
        numbers = itertools.count()
        tree = Lookup("x", "{y}", lambda: f"g{next(numbers)}").tree(entries)
    for text in texts | {text + "a" for text in texts} | {text[:-1] for text in texts}:
        assert followed(tree, text) == ([f"to {text}"] if text in texts else []), text
    assert max(sizes(tree)) <= leaf
    assert sum(sizes(tree)) == len(texts)


def test_portions_are_cut_between_letters_and_are_alike_in_size() -> None:
    entries = [(letters, {}) for letters in ("aa", "ab", "b", "c", "d", "e", "f", "g")]
    with pytest.MonkeyPatch.context() as patch:
        for fan, told in (
            (1, ["aa ab b c d e f g"]),
            (2, ["aa ab b c", "d e f g"]),
            (3, ["aa ab", "b c", "d e", "f g"]),
            (4, ["aa ab", "b c", "d e", "f g"]),
            (8, ["aa ab", "b", "c", "d", "e", "f", "g"]),
            (20, ["aa ab", "b", "c", "d", "e", "f", "g"]),
        ):
            patch.setattr(routes, "FAN", fan)
            found = routes._buckets(entries, 0)
            assert [" ".join(text for text, _ in bucket) for bucket in found] == told, fan


def test_a_route_says_when_it_runs_and_when_not() -> None:
    assert handled(put(a="1")) == {"handle": [{"handler": "vars", "upright_a": "1"}]}
    assert handled(put(), match={"path": ["/x"]}, not_={"path": ["/y"]}, group="g") == {
        "handle": [{"handler": "vars"}],
        "match": [{"path": ["/x"], "not": [{"path": ["/y"]}]}],
        "group": "g",
    }
