"""Several people, and several commands, at work on one ledger at once: nobody's work is lost, and
nobody sees half of another's.
"""

from __future__ import annotations

import csv
import os
import signal
import subprocess
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import replace
from pathlib import Path

import pytest

from conftest import NEW, OLD, PROGRAM, Program
from raw_http import serve_site
from upright_ledger.app.collect.reading.sorting import Gathered, Sorter
from upright_ledger.app.move_state import MoveState
from upright_ledger.core.inventory.answer import AnswerKind, usual
from upright_ledger.core.inventory.placing.classification import Classifier
from upright_ledger.demo.faulty_site import make_faulty_site
from upright_ledger.formats.records import ReadOptions
from upright_ledger.formats.registry import read_urls
from upright_ledger.ledger.store import Ledger, open_ledger
from upright_ledger.ledger.tables.answers import of_person, post_answers
from upright_ledger.ledger.tables.observations import SightingWriter
from upright_ledger.ledger.tables.renormalise import refold
from upright_ledger.ledger.tables.sources import SourceFacts, add_source, close_source
from upright_ledger.settings.file import write_policy
from upright_ledger.web.local.real_servers import free_port
from upright_ledger.web.local.stand_in import Served, serve_whole

PATIENCE = 120.0


def begin(program: Program, *arguments: str) -> subprocess.Popen[str]:
    """Start a command and go on."""
    whole = {**os.environ, "NO_COLOR": "1", "COLUMNS": "100", "UPRIGHT_AUTHOR": "colleague"}
    pipe = subprocess.PIPE
    return subprocess.Popen(
        [PROGRAM, *arguments], cwd=program.folder, env=whole, stdout=pipe, stderr=pipe, text=True
    )


def ended(process: subprocess.Popen[str]) -> tuple[int, str, str]:
    out, err = process.communicate(timeout=PATIENCE)
    assert "Traceback" not in err, err
    return process.returncode, out, err


def until_it_waits(process: subprocess.Popen[str]) -> None:
    """Wait until a process has worked, and works no more: it waits for the ledger."""
    before, since, until = -1, time.monotonic(), time.monotonic() + PATIENCE
    while time.monotonic() < until:
        assert process.poll() is None, process.communicate()
        now = _ticks(process.pid)
        if now - before > 1:
            before, since = now, time.monotonic()
        elif now > 20 and time.monotonic() - since > 1.0:
            return
        time.sleep(0.1)
    raise AssertionError("it never waited")


def _ticks(pid: int) -> int:
    fields = Path(f"/proc/{pid}/stat").read_text().rpartition(")")[2].split()
    return int(fields[11]) + int(fields[12])


@contextmanager
def held(ledger: Ledger, url: str) -> Iterator[None]:
    """A ledger in whose midst somebody answers an entry with 410, as the last thing."""
    with ledger.step("decide", regardless=True) as step:
        yield
        entry = next(e for e in MoveState(ledger).entries if e.legacy_url == url)
        post_answers(step, [of_person(entry, usual(AnswerKind.GONE))])
        step.summary = "somebody's"


@pytest.fixture
def moved(museum: Program) -> Program:
    """A ledger with some pages that can be matched, one that leads on to another, and one nobody
    asks for.
    """
    names = ("otters", "wolves", "foxes", "badgers")
    museum.write(
        "old.csv", "url,title\n" + "".join(f"{OLD}/{n}.html,All about {n}\n" for n in names)
    )
    museum.write(
        "new.csv",
        "url,title,status\n" + "".join(f"{NEW}/animals/{n},All about {n},200\n" for n in names),
    )
    museum("gather", "old.csv")
    museum("stock", "new.csv")
    return museum


def answer_of(program: Program, url: str) -> str:
    return next(e["answer"] for e in program.json("entries")["entries"] if e["legacy_url"] == url)


@pytest.mark.parametrize(
    "command",
    [
        ("match",),
        ("check", "--fix"),
        ("review", "--in", "review.csv"),
        ("decide", "--from", "pairs.csv"),
    ],
    ids=lambda c: " ".join(c[:2]),
)
def test_what_somebody_answered_meanwhile_stands(moved: Program, command: tuple[str, ...]) -> None:
    url = f"{OLD}/otters.html"
    if command[0] == "check":
        moved("decide", "/otters.html", "--to", f"{OLD}/wolves.html", "--as-given")
        moved("decide", "/wolves.html", "--to", "/animals/wolves")
    if command[0] == "review":
        moved("review", "--out", "review.csv")
        text = (moved.folder / "review.csv").read_text(encoding="utf-8-sig")
        rows = list(csv.DictReader(text.splitlines()))
        for row in rows:
            row["answer"] = "ignore"
        with (moved.folder / "review.csv").open("w", encoding="utf-8") as file:
            writer = csv.DictWriter(file, list(rows[0]))
            writer.writeheader()
            writer.writerows(rows)
    moved.pairs("/otters.html,/animals/otters,301", "/foxes.html,/animals/foxes,301")
    ledger = open_ledger(moved.folder)
    with held(ledger, url):
        process = begin(moved, *command)
        until_it_waits(process)
    code, out, err = ended(process)
    assert code in {0, 1}, (code, out, err)
    assert answer_of(moved, url) == AnswerKind.GONE
    assert "1 entry was answered or seen anew meanwhile, and left alone" in err


def test_what_is_gathered_while_all_is_folded_anew_is_folded_so_too(museum: Program) -> None:
    museum.write("a.txt", f"{OLD}/shop.php?item=1\n")
    museum("gather", "a.txt")
    museum.write(
        "b.txt", "".join(f"{OLD}/shop.php?item={n % 50}&colour={n}\n" for n in range(2000))
    )
    ledger = open_ledger(museum.folder)
    policy = replace(ledger.settings.policy, significant={"/shop.php": ("item",)})
    with ledger.step("fold") as step:
        process = begin(museum, "gather", "b.txt")
        until_it_waits(process)
        refold(step, Classifier(ledger.settings.sites, policy))
    write_policy(ledger.folder, policy)
    code, out, err = ended(process)
    assert code == 0, (out, err)
    assert museum.json("balance")["entries"] == 50
    assert "Nothing to change" in museum("fold", "--apply").out


def test_a_match_by_entries_that_were_folded_anew_is_refused(moved: Program) -> None:
    ledger = open_ledger(moved.folder)
    policy = replace(ledger.settings.policy, case="exact")
    with ledger.step("fold") as step:
        process = begin(moved, "match")
        until_it_waits(process)
        refold(step, Classifier(ledger.settings.sites, policy))
    write_policy(ledger.folder, policy)
    code, _, err = ended(process)
    assert code == 2, err
    assert "folded anew while this was worked out" in err
    assert {e["answer"] for e in moved.json("entries")["entries"]} == {"open"}


def test_what_was_worked_out_from_evidence_is_left_where_there_is_more(moved: Program) -> None:
    ledger = open_ledger(moved.folder)
    moved.write("more.txt", f"{OLD}/wolves.html\n")
    with moved_on(ledger, moved):
        process = begin(moved, "match")
        until_it_waits(process)
    _, _, err = ended(process)
    assert "1 entry was answered or seen anew" in err
    assert answer_of(moved, f"{OLD}/wolves.html") == "open"
    assert answer_of(moved, f"{OLD}/foxes.html") == "move"


@contextmanager
def moved_on(ledger: Ledger, program: Program) -> Iterator[None]:
    """A ledger in whose midst a list is gathered, as the last thing."""
    with ledger.step("gather", "more.txt") as step:
        yield
        source = add_source(step, SourceFacts("more.txt", "text", "gather", "digest", 1, lines=1))
        writer = SightingWriter(step, source, ledger.policy_for(step))
        placer = Classifier(ledger.settings.sites, ledger.settings.policy)
        sorter = Sorter(placer, Gathered("more.txt", "text"), program.folder)
        with sorter.rejects:
            for portion in sorter.portions(
                read_urls(program.folder / "more.txt", "text", ReadOptions())[1].items
            ):
                writer.add(portion)
        writer.settle()
        close_source(
            step.connection,
            source,
            SourceFacts("more.txt", "text", "gather", "digest", 1, lines=1),
            0,
        )


def log_of(day: int, name: str, count: int = 400) -> str:
    line = (
        '203.0.113.9 - - [{day:02}/Mar/2026:10:{m:02}:{s:02} +0000] "GET /{name}/{n} HTTP/1.1" 200 '
        '5 "-" "Mozilla/5.0"\n'
    )
    return "".join(line.format(day=day, m=n // 60, s=n % 60, name=name, n=n) for n in range(count))


def test_logs_that_are_gathered_at_once_all_count(museum: Program) -> None:
    for n in range(5):
        museum.write(
            f"{n}.log", log_of(n + 1, f"p{n}") + log_of(9, "all")
        )  # the last lines stand in all of them
    found = [ended(p) for p in [begin(museum, "gather", f"{n}.log") for n in range(5)]]
    assert [code for code, _, _ in found] == [0] * 5, found
    assert museum.json("balance")["entries"] == 6 * 400
    assert sum(e["hits"] for e in museum.json("entries", "--limit", "9999")["entries"]) == 6 * 400


def test_long_commands_and_short_ones_take_turns(museum: Program) -> None:
    """While one asks a server for long, and saves what it knows, others decide, gather and fold;
    nobody dies.
    """
    site = make_faulty_site(f"http://127.0.0.1:{free_port()}")
    museum.write("urls.txt", "".join(f"{OLD}/page/{n}\n" for n in range(60)))
    museum("gather", "urls.txt")
    with serve_site(site):
        slow = ("--rate", "20", "--at", site.origin)
        long = [begin(museum, "replay", *slow), begin(museum, "replay", "urls.txt", *slow)]
        short = []
        while any(p.poll() is None for p in long):
            for n, command in enumerate(
                (
                    ("decide", f"/page/{len(short) % 60}", "--gone"),
                    ("fold", "--case", "exact"),
                    ("undo",),
                    ("balance",),
                    ("check",),
                )
            ):
                short.append((command, museum(*command, code=None)))
                assert n >= 0
        found = [ended(p) for p in long]
    for code, out, err in found:
        assert code in {0, 1}, (out, err)
        assert "60 of 60" in out + err or "60 distinct" in out + err
    for command, outcome in short:
        assert outcome.code in {0, 1, 2}, (command, outcome)
        assert "locked" not in outcome.err


def test_one_machine_that_is_asked_for_many_hosts_is_asked_no_faster(
    open_museum: Callable[..., Program],
) -> None:
    hosts = [f"h{n}.quillhaven.example" for n in range(4)]
    program = open_museum(*(x for h in hosts for x in ("--old", f"http://{h}")), "--new", NEW)
    program.write("urls.txt", "".join(f"http://{h}/{n}\n" for h in hosts for n in range(8)))
    times: list[float] = []

    def respond(_: str, target: str) -> Served:
        times.append(time.monotonic())
        return Served(404 if target != "/robots.txt" else 200, "")

    with serve_whole(respond) as address:
        program(
            "replay", "urls.txt", "--at", address, "--rate", "20", "--concurrent", "2", code=None
        )
    asked = sorted(times)[-32:]
    assert len(asked) == 32
    # Times are of the requests themselves, and a machine under load only makes them come later.
    assert asked[-1] - asked[0] > 31 / 20 * 0.8


def test_a_run_has_one_owner_and_one_list(museum: Program) -> None:
    urls = [f"{OLD}/page/{n}\n" for n in range(80)]
    museum.write("urls.txt", "".join(urls))
    museum.write("fewer.txt", "".join(urls[:9]))
    museum("gather", "urls.txt")
    asked: list[str] = []

    def respond(_: str, target: str) -> Served:
        asked.append(target)
        return Served(404, "")

    with serve_whole(respond) as address:
        asking = ("--at", address, "--rate", "20")
        first = begin(museum, "replay", "urls.txt", *asking)
        while len(asked) < 20:
            time.sleep(0.05)
        first.send_signal(signal.SIGKILL)
        first.communicate()
        assert (
            "was to ask for other addresses"
            in museum("replay", "fewer.txt", *asking, "--resume", code=2).err
        )
        both = [begin(museum, "replay", "urls.txt", *asking, "--resume") for _ in range(2)]
        found = sorted(ended(p) for p in both)
    assert [code for code, _, _ in found] == [1, 2], found
    assert "somebody is at run 1" in found[1][2]
    museum("runs", "last", "--out", "rows.csv")
    with (museum.folder / "rows.csv").open(encoding="utf-8") as file:
        assert sorted(r["url"] for r in csv.DictReader(file)) == sorted(u.strip() for u in urls)


def test_a_host_that_asks_for_an_hour_is_left_and_asked_the_rest_another_time(
    museum: Program,
) -> None:
    museum.write("urls.txt", "".join(f"{OLD}/page/{n}\n" for n in range(40)))
    asked: list[str] = []

    def respond(_: str, target: str) -> Served:
        asked.append(target)
        busy = 12 <= len(asked) < 100
        return Served(429, headers=(("Retry-After", "3600"),)) if busy else Served(404, "")

    with serve_whole(respond) as address:
        asking = ("urls.txt", "--at", address, "--concurrent", "1", "--rate", "30")
        told = museum("replay", *asking, code=3).err
        assert "asks to be left alone for 3,600 seconds" in told
        assert "of 40 URLs were asked, and are kept" in told
        assert len(asked) < 20
        asked += ["-"] * 100
        museum("replay", *asking, "--resume", code=1)
        museum("runs", "last", "--out", "rows.csv")
    with (museum.folder / "rows.csv").open(encoding="utf-8") as file:
        rows = list(csv.DictReader(file))
    assert len({r["url"] for r in rows}) == 40
    assert all(r["status"] == "404" for r in rows)


def test_a_sheet_and_a_list_that_are_read_twice_say_nothing_new(museum: Program) -> None:
    museum.pairs("/a,/new/a,301", "/b,/new/b,301", name="p.csv")
    museum.write("new.csv", "url,status\n" + "".join(f"{NEW}/new/{n},200\n" for n in "abc"))
    for command in (("decide", "--from", "p.csv"), ("stock", "new.csv")):
        museum(*command)
        before = museum.json("history")["steps"], museum.json("entries")["entries"]
        museum(*command)
        assert (museum.json("history")["steps"], museum.json("entries")["entries"]) == before
    museum.write("p.csv", "old,new,status\n/a,/new/c,301\n")  # another sheet of the same name
    museum("decide", "--from", "p.csv")
    assert answer_of(museum, f"{OLD}/a") == "move"
    museum("undo", "3")
    museum.pairs("/a,/new/a,301", "/b,/new/b,301", name="p.csv")
    assert (
        "2 answers posted" in museum("decide", "--from", "p.csv").out
    )  # what was taken back can be given again


def test_who_waits_says_for_whom_and_what_was_complete_before_a_fault_is_named(
    museum: Program,
) -> None:
    museum.write("a.txt", f"{OLD}/a\n")
    museum.write("b.txt", f"{OLD}/b\n")
    museum.write("c.csv", 'url,clicks\n/c,1\n"' + "x" * 20_000_000)
    told = museum("gather", "a.txt", "b.txt", "c.csv", code=3)
    assert "2 steps of this command were complete before that, and stand: 2 to 3" in told.err
    ledger = open_ledger(museum.folder)
    with held(ledger, f"{OLD}/a"):
        process = begin(museum, "decide", "/b", "--gone")
        assert process.stderr is not None
        line = process.stderr.readline()
        assert line.startswith("upright: waiting for ")
        assert f"process {os.getpid()}" in line or "another command" in line
    assert ended(process)[0] == 0


def test_a_fold_by_settings_that_somebody_changed_meanwhile_is_refused(museum: Program) -> None:
    museum.write("a.txt", f"{OLD}/A\n{OLD}/a\n")
    museum("gather", "a.txt")
    ledger = open_ledger(museum.folder)
    with ledger.step("fold") as step:
        process = begin(museum, "fold", "--take-back", "furniture")
        until_it_waits(process)
        policy = replace(ledger.settings.policy, case="exact")
        refold(step, Classifier(ledger.settings.sites, policy))
    write_policy(ledger.folder, policy)
    code, _, err = ended(process)
    assert code == 2, err
    assert "somebody folded all entries anew meanwhile" in err
    assert museum.json("balance")["entries"] == 2
