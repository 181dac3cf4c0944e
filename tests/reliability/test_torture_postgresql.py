"""A share of `make torture` on a team's database; see torture.py."""

from __future__ import annotations

import shutil
from collections.abc import Iterator

import pytest

from clusters import BINARIES
from torture_bench import Bench, bench_on
from torture_cases import GONE, KILLS, torture

pytestmark = [
    pytest.mark.skipif(
        not shutil.which("cc"), reason="there is no C compiler: apt-get install gcc libc6-dev"
    ),
    pytest.mark.skipif(
        BINARIES is None, reason="PostgreSQL is not installed: apt-get install postgresql"
    ),
]


@pytest.fixture(scope="module")
def team() -> Iterator[Bench]:
    with bench_on("postgresql") as bench:
        yield bench


def test_the_same_on_postgresql(team: Bench) -> None:
    for how, sent in ((KILLS, True), ((GONE,), False)):
        counts, wrong = torture(team, how, 2, seed=16, sent=sent)
        assert not wrong, "\n".join(wrong)
        assert counts.total() == 2
