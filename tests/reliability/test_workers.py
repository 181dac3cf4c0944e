"""A process that dies, or meets what nobody foresaw, never makes a run look complete."""

from __future__ import annotations

import csv
import os
import random
import signal
import subprocess
import time
from collections.abc import Callable
from pathlib import Path

import pytest

from conftest import OLD, PROGRAM, Program, opened
from jobs import work
from raw_http import serve_site
from upright_ledger.app.worker_process import WorkerDiedError, WorkerProcess
from upright_ledger.demo.faulty_site import make_faulty_site
from upright_ledger.errors import InputError
from upright_ledger.web.local.real_servers import free_port
from upright_ledger.web.local.stand_in import Served, serve, serve_whole


def take_all(apart: WorkerProcess[int], into: list[int]) -> None:
    """Take up all that comes."""
    while not apart.ended:
        if (thing := apart.next(10.0)) is not None:
            into.append(thing)


@pytest.mark.parametrize(
    ("how", "told"),
    [
        ("killed", "signal 9"),
        ("exit", "exit code 0"),
        ("left", "exit code 0"),
        ("raises", "what nobody foresaw (jobs.py"),
        ("end of file", "EOFError"),
        ("broken pipe", "BrokenPipeError"),
        ("memory", "MemoryError"),
        ("cannot be sent", "pickle"),
    ],
)
@pytest.mark.parametrize("things", [0, 3])
def test_whatever_ends_a_process_is_told_after_all_that_it_handed_over(
    how: str, told: str, things: int
) -> None:
    found: list[int] = []
    with WorkerProcess[int](work) as apart:
        apart.begin([(how, things)])
        with pytest.raises(WorkerDiedError) as raised:
            take_all(apart, found)
    assert found == list(range(things))
    assert told in str(raised.value)
    assert raised.value.exit_code == 3


def test_one_of_two_that_dies_is_told_though_the_other_ends_well() -> None:
    with WorkerProcess[int](work, 2) as apart:
        apart.begin([("well", 3), ("killed", 2)])
        found: list[int] = []
        with pytest.raises(WorkerDiedError):
            take_all(apart, found)
        take_all(apart, found)
    assert sorted(found) == [0, 0, 1, 1, 2]


def test_a_process_that_died_idle_is_told_when_it_is_asked_for_something() -> None:
    with WorkerProcess[int](work) as apart:
        apart.begin([("killed", 0)])
        with pytest.raises(WorkerDiedError):
            apart.next(10.0)
        assert apart.ended
        apart.begin([("well", 1)])
        with pytest.raises(WorkerDiedError):
            take_all(apart, [])


def test_what_is_stopped_by_hand_has_not_died_and_errors_in_words_come_as_they_are() -> None:
    with WorkerProcess[int](work) as apart:
        apart.begin([("waits", 2)])
        assert (apart.next(10.0), apart.next(10.0)) == (0, 1)
        apart.stop()
        assert (apart.next(1.0), apart.ended) == (None, True)
    with WorkerProcess[int](work) as apart:
        apart.begin([("told", 0)])
        with pytest.raises(InputError, match="no such file") as raised:
            apart.next(10.0)
    assert raised.value.hint == "name another"


WAITS = (
    "²",
    "١٢",
    "Mon, 01 Jan 0001 00:00:00 GMT",
    "Mon, 01 Jan 0001 00:00:00 -0000",
    "-1",
    "1e3",
    "inf",
    "",
    "0" * 4000,
)


def test_no_retry_after_ends_a_replay(museum: Program) -> None:
    museum.write("urls.txt", "".join(f"{OLD}/p{n}\n" for n in range(len(WAITS))))
    asked: list[str] = []

    def respond(_host: str, target: str) -> Served:
        asked.append(target)
        if target.startswith("/p") and asked.count(target) == 1:
            return Served(
                429,
                "later",
                headers=(("Retry-After", WAITS[int(target[2:])].encode().decode("latin-1")),),
            )
        return Served(404, "Nothing here")

    with serve_whole(respond) as address:
        found = museum.json("replay", "urls.txt", "--at", address, code=1)
    assert found["urls"] == len(WAITS)
    assert all(asked.count(f"/p{n}") == 2 for n in range(len(WAITS)))


def workers_of(process: int) -> list[int]:
    """The processes that work for one."""
    found = []
    for task in Path(f"/proc/{process}/task").iterdir():
        for child in map(int, (task / "children").read_text().split()):
            if b"spawn_main" in Path(f"/proc/{child}/cmdline").read_bytes():
                found += [child, *workers_of(child)]
    return found


needs_proc = pytest.mark.skipif(
    not Path(f"/proc/self/task/{os.getpid()}/children").exists(),
    reason="this system does not tell children",
)


def killed_in_the_middle(
    program: Program,
    arguments: list[str],
    seconds: float,
    rng: random.Random,
    ready: Callable[[int], bool],
) -> tuple[int, str]:
    """Run the program, and kill one of the processes that work for it, some time after it is
    ready.
    """
    run = subprocess.Popen(
        [PROGRAM, *arguments],
        cwd=program.folder,
        stdout=subprocess.PIPE,
        stderr=subprocess.PIPE,
        encoding="utf-8",
    )
    deadline = time.monotonic() + 60
    while not ready(run.pid) and run.poll() is None and time.monotonic() < deadline:
        time.sleep(0.01)
    time.sleep(seconds)
    if run.poll() is None and (workers := workers_of(run.pid)):
        os.kill(rng.choice(workers), signal.SIGKILL)
    _, err = run.communicate(timeout=60)
    assert "Traceback" not in err, err
    return run.returncode, err


@needs_proc
def test_a_replay_whose_process_is_killed_says_so_and_goes_on(museum: Program) -> None:
    rng = random.Random(0)
    museum.write("urls.txt", "".join(f"{OLD}/p{n}\n" for n in range(520)))
    asked: list[str] = []

    def respond(_host: str, target: str) -> tuple[int, str, str]:
        asked.append(target)
        time.sleep(0.01)
        return (
            (301, f"{OLD}/to{target}", "")
            if target.startswith("/p") and int(target[2:]) % 3
            else (404, "", "no")
        )

    with serve(respond) as address:
        command = ["replay", "urls.txt", "--at", address]
        whole = [*command, "--out", "rows.csv"]
        begun = len(asked)
        code, err = killed_in_the_middle(
            museum, whole, rng.random() * 0.3, rng, lambda _: len(asked) > begun
        )
        assert (code, "of 520 URLs were asked, and are kept" in err, "--resume" in err) == (
            3,
            True,
            True,
        )
        assert not (museum.folder / "rows.csv").exists()
        museum(*whole, "--resume", code=1)
        rows = list(csv.DictReader((museum.folder / "rows.csv").open()))
        museum(*command, "--out", "undisturbed.csv", code=1)
        undisturbed = list(csv.DictReader((museum.folder / "undisturbed.csv").open()))
    told = [[(r["url"], r["verdicts"], r["hops"]) for r in some] for some in (rows, undisturbed)]
    assert (told[0] == told[1], len(rows)) == (True, 520)


@needs_proc
def test_a_survey_whose_process_is_killed_says_so_and_goes_on(tmp_path: Path) -> None:
    rng = random.Random(0)
    site = make_faulty_site(f"http://localhost:{free_port()}", 100)
    surveyor = opened(tmp_path / "museum", "--old", OLD, "--new", site.origin)
    asked: list[str] = []
    command = ["survey", f"{site.origin}/", "--rate", "150", "--as", "new"]
    with serve_site(site, asked):
        code, err = killed_in_the_middle(
            surveyor, command, rng.random(), rng, lambda _: len(asked) > 20
        )
        # The death of the process that reads is no end: another one reads what it owed.
        assert code in {1, 3}
        if code == 3:
            assert "addresses are done and kept" in err
            assert "--resume" in err
            surveyor(*command, "--resume", code=1)
    whole = surveyor.json("survey", "--again", "last", "--as", "new", code=1)
    assert {f["kind"] for f in whole["faults"]} >= set(site.truth)


@needs_proc
def test_a_rehearsal_whose_reading_is_killed_writes_nothing(museum: Program) -> None:
    lines = [f"{OLD}/p{n}/a-page-of-the-old-site-with-a-long-name.html\n" for n in range(200_000)]
    museum.write("urls.txt", "".join(lines))
    museum.write("rows.csv", "as it was")
    command = ["rehearse", "urls.txt", "--out", "rows.csv", "--force"]
    code, err = killed_in_the_middle(
        museum, command, 0.3, random.Random(1), lambda run: bool(workers_of(run))
    )
    assert (code, "ended before its work was done" in err) == (3, True)
    assert (museum.folder / "rows.csv").read_text() == "as it was"
