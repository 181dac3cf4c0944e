"""upright.toml: what is wrong in it is told with its line and key, whatever it is."""

from __future__ import annotations

import tomllib

import pytest
from hypothesis import given
from hypothesis import strategies as st

from conftest import Program
from upright_ledger.settings.lines import line_of

FAULTS = {
    "unknown key": ("[survey]", "[survey]\ndepht = 3", "[survey] depht", "did you mean depth?"),
    "unknown table": ("[folding]", "[foldings]", "[foldings]", "did you mean folding?"),
    "kind": ("[survey]", "[survey]\ndepth = '3'", "[survey] depth", "must be a whole number"),
    "least": ("[survey]", "[survey]\ndepth = -1", "[survey] depth = -1", "a number from 0"),
    "most": ("lines = 400", "lines = 99999999999", "[retention] lines", "up to 36,500"),
    "choice": ('case = "fold"', 'case = "Fold"', "[folding] case = 'Fold'", "exact or fold"),
    "form": ("[notify]", '[notify]\npost = "ftp://x"', "[notify] post", "http or https address"),
    "list": ("secret = []", "secret = 5", "[folding] secret", "be a list"),
    "of any name": ("[sections]", "[sections]\na = 3", "[sections] a", "be a text or a list"),
    "path": ("[folding.significant]", '[folding.significant]\n"/x" = "a"', "/x", "be a list"),
    "profile": ("[build]", "[profile.shop]\nrows = 3\n[build]", "[profile.shop] rows", "no sett"),
    "not a number": ("traffic = 1.0", "traffic = nan", "[value] traffic", "a number from 0"),
    "origin": ("[origins]", '[origins]\nmial = "x.example"', "[origins] mial", "it may be"),
}


@pytest.mark.parametrize("fault", FAULTS)
def test_a_fault_is_told_with_its_line_and_key(museum: Program, fault: str) -> None:
    written, instead, key, why = FAULTS[fault]
    path = museum.folder / "upright.toml"
    text = path.read_text()
    assert written in text
    path.write_text(text.replace(written, instead, 1))
    told = " ".join(museum("balance", code=3).err.split())
    assert key in told
    assert why in told
    lines = zip(text.split("\n"), path.read_text().split("\n"), strict=False)
    changed = next(n for n, (old, new) in enumerate(lines, 1) if old != new)
    said = int(told.partition("upright.toml, line ")[2].partition(":")[0])
    assert said in {changed, changed + 1}


_NAMES = st.text("abc-_1", min_size=1, max_size=4)
_VALUES = st.one_of(st.integers(0, 9), st.sampled_from(["x", "[a]", "# b"]), st.just([1, 2]))


@given(st.dictionaries(_NAMES, st.dictionaries(_NAMES, _VALUES, max_size=4), max_size=4))
def test_the_line_of_a_key_is_the_one_that_holds_it(tables: dict[str, dict[str, object]]) -> None:
    """Judged by another parser: with that line taken out, the key alone is missing."""
    lines = []
    for table, values in tables.items():
        lines += ["", f"# [{table}]", f"[{table}]"]
        lines += [f"{key} = {value!r}  # [x]" for key, value in values.items()]
    text = "\n".join(lines)
    assert tomllib.loads(text) == tables
    for table, values in tables.items():
        for key in values:
            at = line_of(text, (table, key))
            without = "\n".join(line for n, line in enumerate(lines, 1) if n != at)
            left = {**tables, table: {k: v for k, v in values.items() if k != key}}
            assert tomllib.loads(without) == left
