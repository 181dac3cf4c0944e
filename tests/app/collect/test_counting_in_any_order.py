"""No order of the lines of a log, and no cut of it into files, decides what is counted."""

from __future__ import annotations

import random
from pathlib import Path
from tempfile import TemporaryDirectory

from hypothesis import given
from hypothesis import strategies as st

from conftest import NEW, OLD
from counting import KINDS, LISTS, OLDS, WRITERS, Asked, counted, gathered, write_log
from ledgers import fresh_ledger
from properties import in_brief
from upright_ledger.app.journal import undo


@in_brief
@given(
    asked=LISTS,
    kind=KINDS,
    seed=st.integers(0, 1 << 20),
    parts=st.integers(1, 4),
    listed=st.booleans(),
    data=st.data(),
)
def test_no_order_of_lines_and_no_cut_into_files_decides_anything(
    asked: list[Asked], kind: str, seed: int, parts: int, listed: bool, data: st.DataObject
) -> None:
    lines = WRITERS[kind](asked)
    mixed = random.Random(seed).sample(lines, len(lines))
    named = data.draw(st.sampled_from(asked)).target.partition("?")[0] if listed else ""
    with TemporaryDirectory() as held:
        folder = Path(held)
        whole = write_log(folder / "whole.log", kind, lines)
        pieces = [
            write_log(folder / f"{n}.log", kind, part)
            for n in range(parts)
            if (part := mixed[n::parts])
        ]
        if named:
            (folder / "list.txt").write_text(f"{OLD}{named}\n")
        one, other = fresh_ledger(OLDS, [NEW], "one"), fresh_ledger(OLDS, [NEW], "other")
        never = ("/s.css", "/admin", "/robots.txt", "/img/logo.gif")
        with_list = [folder / "list.txt"] if named and not named.startswith(never) else []
        gathered(one, [whole, *with_list])
        files = [*pieces, *with_list]
        random.Random(seed).shuffle(files)
        gathered(other, files)
        assert counted(other) == counted(one)
        if seed % 4:
            return
        # A source that counts no more leaves all as if it had never been.
        extra = folder / "extra.log"
        write_log(extra, kind, WRITERS[kind]([a._replace(day=6, status=200) for a in asked]))
        gathered(other, [extra])
        undo(other)
        assert counted(other) == counted(one)
