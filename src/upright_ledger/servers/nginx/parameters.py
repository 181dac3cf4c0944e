"""Lookup tables for nginx where letter case or query parameters decide.

nginx's `map` ignores case and knows no query. A looked-up value therefore carries the part of its
key in which case counts, and a second map lets it through only where that equals what was asked.
"""

from __future__ import annotations

import re
from collections import defaultdict
from collections.abc import Callable

from upright_ledger.core.rules.exact_rule import ExactRule, PathRules
from upright_ledger.core.url.request_target import lower_ascii

# A looked-up value begins with the key it belongs to; only where that equals the key asked for it
# counts.
SAME_KEY = r"~^(?<upright_k>[^\t]*)\t\k<upright_k>\t(?<upright_a>.*)$"


def twice(name: str) -> str:
    """The key that finds a parameter given twice in a query."""
    word = re.escape(name)
    return f"~(?:^|&){word}(?:=[^&]*)?&(?:.*&)?{word}(?:=|&|$)"


def literal(text: str) -> str:
    """A text that stands for itself in a map value, where `$` would begin a variable."""
    return text.replace("$", "${upright_dollar}")


def spread(table: dict[str, str], pattern: Callable[[str], str]) -> dict[str, str]:
    """Write keys that differ in letter case only as regexes: nginx takes them for one key
    otherwise.
    """
    by_fold: dict[str, list[str]] = defaultdict(list)
    for key in table:
        by_fold[lower_ascii(key)].append(key)
    if len(by_fold) == len(table):
        return table
    return {
        k if len(by_fold[lower_ascii(k)]) == 1 else f"~^{pattern(k)}$": v for k, v in table.items()
    }


CASED = frozenset(["upright_common", "upright_special", "upright_group", "upright_wild"])
"""The tables that are looked up by site and path."""


def cased(name: str, table: dict[str, str], *, fold: bool) -> dict[str, dict[str, str]]:
    """A table that is looked up by site and path. With exact case a result carries its key, which a
    second map compares byte by byte.
    """
    if fold:
        return {f"upright_{name}": table}
    proven = {k: v if k == "default" else f"{literal(k)}\t{v}" for k, v in table.items()}
    return {
        f"upright_{name}_any": spread(proven, re.escape),
        f"upright_{name}": {"default": "", SAME_KEY: "$upright_a"},
    }


class ParamTables:
    """Tables for paths where parameters choose the page: rules with the most parameters are asked
    first.
    """

    def __init__(self, fold_case: bool) -> None:
        self.fold_case = fold_case
        self.groups: dict[tuple[frozenset[str], tuple[tuple[str, ...], ...]], str] = {}
        self._group_of: dict[str, str] = {"default": ""}
        self._ranks: dict[int, dict[str, str]] = defaultdict(lambda: {"default": ""})
        self._tail_of: dict[str, str] = {}  # a path may hold a question mark, too

    def add(self, key: str, rules: PathRules, value: Callable[[ExactRule], str]) -> None:
        """Add the rules of one path; `value` gives what a rule's lookup yields.

        Paths with the same parameters and the same lists of them, in the same order, share a group.
        """
        shapes = tuple(rules.by_shape)
        group = self.groups.setdefault((rules.names, shapes), f"g{len(self.groups) + 1}")
        self._group_of[key] = group
        for rank, (shape, table) in enumerate(rules.by_shape.items()):
            for values, rule in table.items():
                tail = "?" + "&".join(f"{name}={v}" for name, v in zip(shape, values, strict=True))
                proof = tail if self.fold_case else key + tail
                asked = f"{group}{key}{tail}"
                self._tail_of[asked] = tail
                self._ranks[rank][asked] = f"{literal(proof)}\t{value(rule)}"

    def tables(self) -> dict[str, dict[str, str]]:
        if not self.groups:
            return {}
        out = cased("group", self._group_of, fold=self.fold_case)
        variables: dict[str, str] = {}
        for n, name in enumerate(sorted({n for names, _ in self.groups for n in names}), 1):
            word = re.escape(name)
            variables[name] = f"upright_p{n}"
            out[f"upright_p{n}"] = {
                "default": "",
                f"~(?:^|&){word}=(?<upright_v>[^&]*)": "=$upright_v",
                f"~(?:^|&){word}(?:&|$)": "=",
            }
        seen, twice = {"default": ""}, {"default": ""}
        for (names, _), group in self.groups.items():
            words = "|".join(re.escape(n) for n in sorted(names))
            seen[f"~^{group}&(?:.*&)?(?:{words})(?:=|&|$)"] = "1"
            twice[
                f"~^{group}&(?:.*&)?(?<upright_w>{words})(?:=[^&]*)?&(?:.*&)?\\k<upright_w>(?:=|&|"
                "$)"
            ] = "1"
        out["upright_seen"], out["upright_twice"] = seen, twice
        last = max(self._ranks, default=-1)
        for rank in range(last, -1, -1):
            out[f"upright_any_{rank}"] = spread(self._ranks[rank], self._pattern)
            out[f"upright_tail_{rank}"] = {"default": ""} | {
                group: "?" + "&".join(f"{literal(n)}${{{variables[n]}}}" for n in shapes[rank])
                for (_, shapes), group in self.groups.items()
                if rank < len(shapes)
            }
            following = f"$upright_params_{rank + 1}" if rank < last else ""
            out[f"upright_params_{rank}"] = {"default": following, SAME_KEY: "$upright_a"}
        out["upright_single"] = {"": "$upright_params_0" if last >= 0 else "", "default": ""}
        out["upright_by_params"] = {"": "$upright_special", "default": "$upright_single"}
        return out

    def _pattern(self, key: str) -> str:
        tail = self._tail_of[key]
        path = re.escape(key.removesuffix(tail))
        return (f"(?i:{path})" if self.fold_case else path) + re.escape(tail)
