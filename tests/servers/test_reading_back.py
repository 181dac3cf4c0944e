"""Reading back what was written: a line that is dropped, swapped or altered is noticed, wherever it
makes a difference.
"""

from __future__ import annotations

import os
import random
import re
from dataclasses import replace
from functools import partial

import pytest
from hypothesis import given
from hypothesis import strategies as st

from conformance import make_rules
from corruption import RULE_FILES, corruptions
from properties import in_brief
from rule_kinds import differs, rules_of_every_kind
from upright_ledger.core.rules.templates.template_syntax import Goal
from upright_ledger.servers import load_dialect
from upright_ledger.servers.protocol import ServerDialect
from upright_ledger.servers.reading_back import differences_in_meaning


@in_brief
@given(seed=st.integers(0, 1 << 30))
def test_what_is_written_reads_back_and_what_is_corrupted_does_not(seed: int) -> None:
    rng = random.Random(seed)
    rules = make_rules(rng, most=3)
    rules = (
        rules if rng.random() < 0.3 else replace(rules, forms=())
    )  # forms are asked in many ways
    name = rng.choice(sorted(RULE_FILES))
    dialect: ServerDialect = load_dialect(name)  # type: ignore[assignment]
    written = dialect.write(rules)
    assert dialect.read_back(written.files, written.rules) == []
    made = list(corruptions(name, written.files))
    if not made or not len(written.rules):
        return
    what, file, change = rng.choice(made)
    files = {**written.files, file: change()}
    assert dialect.read_back(files, written.rules) != [], what


@pytest.mark.parametrize("name", sorted(RULE_FILES))
@pytest.mark.parametrize("fold", [True, False])
def test_what_is_dropped_swapped_or_altered_is_noticed(name: str, fold: bool) -> None:
    dialect: ServerDialect = load_dialect(name)  # type: ignore[assignment]
    written = dialect.write(rules_of_every_kind(fold))
    assert dialect.read_back(written.files, written.rules) == []
    made = list(corruptions(name, written.files))
    most = int(os.environ.get("UPRIGHT_CORRUPTIONS", "2"))
    for n, (what, file, change) in enumerate(
        random.Random(name).sample(made, min(len(made), most))
    ):
        files = {**written.files, file: change()}
        assert dialect.read_back(files, written.rules) != [], what
        if differences_in_meaning(partial(dialect.interpreter, files), written.rules) == []:
            assert differs(dialect, files, written.rules, n) == "", what


def with_references_swapped(text: str) -> str:
    """A destination whose first two captures change places."""
    marks = {
        "{1}": "{2}",
        "{2}": "{1}",
        "\\1": "\\2",
        "\\2": "\\1",
        "c1}": "c2}",
        "c2}": "c1}",
        ".1}": ".2}",
        ".2}": ".1}",
    }
    return re.sub("|".join(map(re.escape, marks)), lambda m: marks[m[0]], text)


@pytest.mark.parametrize("name", sorted(RULE_FILES))
def test_a_writer_that_mistakes_one_capture_for_another_is_noticed(
    name: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    fill = Goal.fill
    monkeypatch.setattr(
        Goal, "fill", lambda self, values: with_references_swapped(fill(self, values))
    )
    dialect = load_dialect(name)
    # A set of its own: what a writer works out for a rule set is remembered with it.
    written = dialect.write(replace(rules_of_every_kind(True)))
    monkeypatch.undo()
    found = dialect.read_back(written.files, written.rules)
    assert found != []


@pytest.mark.parametrize("name", sorted(RULE_FILES))
def test_a_writer_that_forgets_a_part_of_the_meaning_is_noticed(name: str) -> None:
    dialect: ServerDialect = load_dialect(name)  # type: ignore[assignment]
    rules = dialect.write(rules_of_every_kind(True)).rules
    for forgetful in (
        replace(rules, tracking=rules.tracking[1:]),
        replace(rules, tracking=rules.tracking[::-1]),
        replace(rules, forms=rules.forms[1:]),
        replace(rules, cache_control=""),
        replace(rules, rules=tuple(r for r in rules.rules if r.status)),
        replace(rules, rules=tuple(r._replace(query="drop") for r in rules.rules)),
        replace(rules, site_of=dict(list(rules.site_of.items())[1:])),
        replace(rules, forms=tuple(replace(f, slash="") for f in rules.forms)),
    ):
        files = dialect.write(forgetful).files
        assert differences_in_meaning(partial(dialect.interpreter, files), rules) != []
