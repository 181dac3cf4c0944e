"""Steps taken back, and taken back again, in any order: held against a model that keeps whole
copies.
"""

from __future__ import annotations

import os
import tempfile
from pathlib import Path

from hypothesis import settings
from hypothesis import strategies as st
from hypothesis.stateful import RuleBasedStateMachine, initialize, invariant, rule

from conftest import NEW, OLD, Program
from ledgers import fresh_ledger
from properties import in_brief
from slow_lines import lines_stand
from upright_ledger.app.collect.fold import folding
from upright_ledger.app.collect.gather import gather
from upright_ledger.app.decide.decide import decide_one
from upright_ledger.app.journal import history, undo
from upright_ledger.app.move_state import MoveState
from upright_ledger.core.inventory.answer import usual
from upright_ledger.errors import UprightError

NAMES = st.sampled_from("abc")
State = dict[str, tuple[str, str, float, tuple[str, ...]]]


class Steps(RuleBasedStateMachine):
    """Random commands. copies: step → the ledger before and after it."""

    @initialize()
    def start(self) -> None:
        self.ledger = fresh_ledger([OLD], [NEW])
        self.copies: dict[int, tuple[State, State]] = {}
        self.first = self.state()
        self.files = 0

    def state(self) -> State:
        """Entry → its answer, how often it was named, and how it was spelled."""
        return {
            e.key: (e.answer.kind, e.answer.destination, e.evidence.value, e.variants)
            for e in MoveState(self.ledger).entries
            if e.sources or e.answer.kind != "open"
        }

    @invariant()
    def lines_are_what_facts_amount_to(self) -> None:
        if hasattr(self, "ledger"):
            lines_stand(f"sqlite:///{self.ledger.own_file}")

    def note(self, before: State) -> None:
        """Keep copies beside the newest step, if there is a new one."""
        newest = history(self.ledger)[0]["step"]
        if newest not in self.copies and newest > 1:
            self.copies[newest] = (before, self.state())

    @rule(name=NAMES, to=st.sampled_from(["x", "y", ""]))
    def decide(self, name: str, to: str) -> None:
        before = self.state()
        answer = usual("move", f"{NEW}/{to}") if to else usual("gone", "")
        decide_one(self.ledger, f"/{name}", answer)
        self.note(before)

    @rule(names=st.lists(NAMES, min_size=1, max_size=3), upper=st.booleans())
    def gather(self, names: list[str], upper: bool) -> None:
        before = self.state()
        self.files += 1
        with tempfile.TemporaryDirectory() as held:
            path = Path(held) / f"{self.files}.txt"
            path.write_text(
                f"# {self.files}\n" + "".join(f"{OLD}/{n.upper() if upper else n}\n" for n in names)
            )
            gather(self.ledger, [str(path)])
        self.note(before)

    @rule(case=st.sampled_from(["fold", "exact"]))
    def fold(self, case: str) -> None:
        before = self.state()
        folding(self.ledger, case=case)
        self.note(before)

    @rule(count=st.integers(1, 3))
    def take_back(self, count: int) -> None:
        before = self.state()
        try:
            undo(self.ledger, count)
        except UprightError:
            assert self.state() == before
        self.note(before)

    @rule(data=st.data())
    def take_back_one(self, data: st.DataObject) -> None:
        if not self.copies:
            return
        before, target = self.state(), data.draw(st.sampled_from(sorted(self.copies)))
        was, then = self.copies[target]
        touched = {k for k in {*was, *then} if was.get(k) != then.get(k)}
        command = next(h["command"] for h in history(self.ledger) if h["step"] == target)
        try:
            undo(self.ledger, target=target)
        except UprightError:
            assert self.state() == before
        else:
            after = self.state()
            if command == "decide":  # what was decided later would be lost: that is refused
                assert all(
                    (before.get(k) or ("open", ""))[:2] == (then.get(k) or ("open", ""))[:2]
                    for k in touched
                )
                assert all(
                    (after.get(k) or ("open", ""))[:2] == (was.get(k) or ("open", ""))[:2]
                    for k in touched
                )
        self.note(before)

    @invariant()
    def what_stands_is_what_the_journal_says(self) -> None:
        if not hasattr(self, "ledger"):
            return
        steps = {h["step"]: h for h in history(self.ledger)}
        for number, step in steps.items():
            if step["undone_by"] is not None:
                assert steps[step["undone_by"]]["undone_by"] is None, (number, step)

    def teardown(self) -> None:
        """All steps taken back, one after the other, lead to where it began."""
        if not hasattr(self, "ledger"):
            return
        for _ in range(200):
            try:
                undo(self.ledger)
            except UprightError:
                break
        assert self.state() == self.first, history(self.ledger)


TestSteps = Steps.TestCase
TestSteps.settings = settings(
    in_brief, max_examples=int(os.environ.get("UPRIGHT_SEQUENCES", "12")), stateful_step_count=12
)


def test_an_undo_that_is_undone_out_of_turn_is_refused(museum: Program) -> None:
    museum("decide", "/x", "--to", "/a/")
    museum("decide", "/x", "--to", "/b/")
    museum("undo")
    museum("undo")
    assert "undo step 5 first" in museum("undo", "--step", "4", code=2).err
    museum("undo", "--step", "5")
    museum("undo", "--step", "4")
    assert museum.json("entries")["entries"][0]["destination"] == f"{NEW}/b/"
    museum("undo")
    museum("undo")
    assert (
        not museum.json("entries")["entries"]
        or museum.json("entries")["entries"][0]["answer"] == "open"
    )


def test_undos_of_undos_at_any_depth_are_known_to_the_journal(museum: Program) -> None:
    museum("decide", "/x", "--gone")
    for step in range(2, 8):
        museum("undo", "--step", step)
        stands = step % 2 == 1
        undone = {s["step"]: s["undone_by"] for s in museum.json("history")["steps"]}
        assert undone == {n: None if (step + n) % 2 else n + 1 for n in range(2, step + 1)} | {
            1: None,
            step + 1: None,
        }
        assert bool(museum.json("entries")["entries"]) == stands


def test_several_steps_are_taken_back_as_one(museum: Program) -> None:
    for name in "abc":
        museum("decide", f"/{name}", "--gone")
    museum("undo", "3")
    steps = museum.json("history")["steps"]
    assert (steps[0]["command"], steps[0]["step"]) == ("undo", 5)
    assert [s["undone_by"] for s in steps[1:4]] == [5, 5, 5]
    museum("undo", "--step", "5")
    assert {e["answer"] for e in museum.json("entries")["entries"]} == {"gone"}
    museum("undo", "4", code=2)  # there are three: nothing is taken back
    assert {e["answer"] for e in museum.json("entries")["entries"]} == {"gone"}
