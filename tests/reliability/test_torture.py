"""A share of `make torture`: commands that are killed, run out of room, meet damaged ledgers, or
one another; see torture.py.
"""

from __future__ import annotations

import shutil
from collections.abc import Iterator

import pytest

from torture_bench import Bench, Faults, bench_on
from torture_cases import ERRORS, KILLS, torture
from torture_damages import damaged
from torture_together import crowded, paired

pytestmark = pytest.mark.skipif(
    not shutil.which("cc"), reason="there is no C compiler: apt-get install gcc libc6-dev"
)


@pytest.fixture(scope="module")
def own() -> Iterator[Bench]:
    with bench_on("sqlite") as bench:
        yield bench


def test_killed_commands_are_whole_or_not_there_and_go_on(own: Bench) -> None:
    counts, wrong = torture(own, KILLS, 4, seed=11)
    assert not wrong, "\n".join(wrong)
    assert counts["before"]


def test_disks_that_are_full_or_broken_are_told(own: Bench) -> None:
    counts, wrong = torture(own, ERRORS, 4, seed=12)
    assert not wrong, "\n".join(wrong)
    assert counts["before"]


def test_damaged_ledgers_are_told(own: Bench) -> None:
    counts, wrong = damaged(own, 16, seed=13)
    assert not wrong, "\n".join(wrong)
    assert sum(n for what, n in counts.items() if what.endswith("told")) > 5


def test_two_commands_at_once_lead_to_what_one_after_the_other_does(own: Bench) -> None:
    counts, wrong = paired(own, 1, seed=14)
    assert not wrong, "\n".join(wrong)
    assert counts.total() == 1


def test_a_crowd_loses_nothing(own: Bench) -> None:
    counts, wrong = crowded(own, 1, seed=15, writers=3, readers=1)
    assert not wrong, "\n".join(wrong)
    assert counts["decide"]


def test_what_only_reads_works_on_a_full_disk(own: Bench) -> None:
    for command in (
        ("balance",),
        ("entries",),
        ("history",),
        ("runs",),
        ("handover",),
        ("fold",),
        ("check",),
    ):
        folder = own.copy("disturbed")
        for left in ("ledger.db-wal", "ledger.db-shm"):
            (folder / left).unlink(missing_ok=True)
        usual = own.run(command, folder)
        told = own.run(command, folder, Faults(own.library, "full", 1))
        assert (told.code, told.out) == (usual.code, usual.out), command
