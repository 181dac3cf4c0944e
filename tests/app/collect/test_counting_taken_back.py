"""What was set aside and is taken back is the same as what was never set aside."""

from __future__ import annotations

from pathlib import Path
from tempfile import TemporaryDirectory

from hypothesis import given
from hypothesis import strategies as st

from conftest import NEW
from counting import KINDS, LISTS, OLDS, WRITERS, Asked, counted, gathered, write_log
from ledgers import fresh_ledger
from properties import in_brief
from upright_ledger.app.collect.fold import folding
from upright_ledger.app.journal import undo

CLASSES = ("furniture", "probe", "random", "bots only", "page asset")


@in_brief
@given(
    asked=LISTS,
    kind=KINDS,
    take_back=st.lists(st.sampled_from([*CLASSES, "/backup*", "/s.css"]), min_size=1, max_size=3),
)
def test_set_aside_and_taken_back_is_the_same_as_never_set_aside(
    asked: list[Asked], kind: str, take_back: list[str]
) -> None:
    with TemporaryDirectory() as held:
        folder = Path(held)
        log = write_log(folder / "access.log", kind, WRITERS[kind](asked))
        after, before = fresh_ledger(OLDS, [NEW], "after"), fresh_ledger(OLDS, [NEW], "before")
        gathered(after, [log])
        aside = counted(after)
        folding(after, take_back=take_back)
        folding(before, take_back=take_back)
        gathered(before, [log])
        assert counted(after) == counted(before)
        undo(after)
        assert counted(after) == aside
