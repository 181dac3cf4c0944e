"""Runs that are kept: names, lists, exports, going on after a stop, and two of them side by
side.
"""

from __future__ import annotations

import csv
import json
import signal
import subprocess
import time
from collections import Counter
from pathlib import Path
from xml.etree import ElementTree as ET

import pytest
from python_calamine import CalamineWorkbook

from conftest import NEW, OLD, PROGRAM, Program
from raw_http import serve_pages
from upright_ledger.web.local.stand_in import serve

PAGES = {
    "/tower-clock/": "The tower clock | Quillhaven",
    "/gift-shop/": "Gift shop | Quillhaven",
    "/opening/": "Opening hours | Quillhaven",
}


def site(moves: dict[str, str]) -> object:
    """A stand-in server: some moves, and the pages."""

    def respond(_host: str, target: str) -> tuple[int, str, str]:
        path = target.partition("?")[0]
        if path in moves:
            return 301, f"{NEW}{moves[path]}", ""
        return (200, "", PAGES[path]) if path in PAGES else (404, "", "Nothing here")

    return serve(respond)


@pytest.fixture
def told(museum: Program) -> Program:
    """A ledger with old titles."""
    rows = [
        f"{OLD}/tower.html,Tower clock - Quillhaven,200",
        f"{OLD}/hours.html,Opening hours - Quillhaven,200",
        f"{OLD}/dead.html,Dead - Quillhaven,200",
    ]
    museum.write("old.csv", "url,title,status\n" + "\n".join(rows) + "\n")
    museum("gather", "old.csv")
    museum.write("urls.txt", f"{OLD}/tower.html\n{OLD}/hours.html\n{OLD}/dead.html\n")
    return museum


def test_two_runs_side_by_side(told: Program) -> None:
    good = {"/tower.html": "/tower-clock/", "/hours.html": "/opening/"}
    with site(good) as address:
        told("replay", "urls.txt", "--at", address, "--as", "before", code=1)
    with site({"/tower.html": "/gift-shop/", "/dead.html": "/opening/"}) as address:
        told("replay", "urls.txt", "--at", address, "--as", "after", code=1)
    found = told.json("reconcile", "before", "after", code=1)
    rows = {
        r["url"].removeprefix(OLD): (r["change"], r["before"], r["after"]) for r in found["rows"]
    }
    assert rows == {
        "/tower.html": ("content-changed", "ok", "ok"),
        "/hours.html": ("worse", "ok", "unanswered"),
        "/dead.html": ("content-changed", "unanswered", "ok"),
    }
    assert found["regressions"] == 3
    assert told.json("reconcile", "before", "before")["counts"] == {"same": 3}
    told(
        "reconcile",
        "before",
        "after",
        "--allow",
        "content-changed",
        "--allow",
        "unanswered",
        "--out",
        "changes.csv",
    )
    assert (
        (told.folder / "changes.csv").read_text().startswith("url,change,before,after,value,hits")
    )
    assert "Gift shop" in told("reconcile", "before", "after", code=1).out
    assert "no run 'never'" in told("reconcile", "before", "never", code=2).err


def test_a_node_that_answers_otherwise_is_named(told: Program) -> None:
    good = {"/tower.html": "/tower-clock/", "/hours.html": "/opening/"}
    with (
        site(good) as one,
        site(good) as two,
        site({**good, "/hours.html": "/gift-shop/"}) as three,
    ):
        places = [option for at in (one, two, three) for option in ("--at", at)]
        found = told.json("replay", "urls.txt", *places, code=1)
        assert [d["url"] for d in found["disagreements"]] == [f"{OLD}/hours.html"]
        assert [a["location"] for a in found["disagreements"][0]["answers"]] == [
            f"{NEW}/opening/"
        ] * 2 + [f"{NEW}/gift-shop/"]
        assert len(found["runs"]) == 3
        assert f"{three}: 301" in told("replay", "urls.txt", *places, code=1).out
        assert (
            "the same first answer"
            in told(
                "replay", "urls.txt", "--at", one, "--profile", "phone", "--profile", "de", code=1
            ).out
        )
        assert (
            "is not known"
            in told("replay", "urls.txt", "--at", one, "--profile", "a_b", code=2).err
        )


def test_a_page_that_says_the_same_is_no_regression(told: Program) -> None:
    with site({"/tower.html": "/tower-clock/", "/hours.html": "/opening/"}) as address:
        told("replay", "urls.txt", "--at", address, code=1)
    assert told.json("reconcile", "1", "last")["contents_compared"] == 2


def test_runs_are_listed_shown_again_and_exported(told: Program) -> None:
    assert "No run yet" in told("runs").out
    with site({"/tower.html": "/tower-clock/"}) as address:
        told("replay", "urls.txt", "--at", address, "--as", "first", code=1)
    listed = told.json("runs")["runs"]
    assert [(r["name"], r["kind"], sum(r["counts"].values())) for r in listed] == [
        ("first", "replay", 3)
    ]
    for name in ("rows.csv", "rows.jsonl", "rows.xlsx", "rows.xml"):
        told("runs", "first", "--out", name, "--hops", "hops.csv")
    rows = list(csv.DictReader((told.folder / "rows.csv").open()))
    assert [
        json.loads(x)["url"] for x in (told.folder / "rows.jsonl").read_text().splitlines()
    ] == [r["url"] for r in rows]
    suite = ET.fromstring((told.folder / "rows.xml").read_text())
    assert (suite.get("tests"), suite.get("failures")) == ("3", "2")
    book = CalamineWorkbook.from_path(told.folder / "rows.xlsx")
    assert book.sheet_names == ["traces", "hops"]
    assert [
        h["status"]
        for h in csv.DictReader((told.folder / "hops.csv").open())
        if h["trace"].endswith("tower.html")
    ] == ["301", "200"]
    told("runs", "1", "--as", "renamed")
    assert told.json("runs", "renamed")["urls"] == 3
    assert "is no name" in told("runs", "1", "--as", "7", code=2).err
    assert "no ending" in told("runs", "1", "--out", "rows.pdf", code=2).err


def test_a_run_that_is_killed_goes_on_without_asking_twice(museum: Program) -> None:
    asked: list[str] = []

    def respond(_host: str, target: str) -> tuple[int, str, str]:
        asked.append(target)
        return 404, "", "Nothing here"

    museum.write("urls.txt", "".join(f"{OLD}/p{n}\n" for n in range(400)))
    with serve(respond) as address:
        arguments = ["replay", "urls.txt", "--at", address, "--rate", "100", "--concurrent", "4"]
        run = subprocess.Popen(
            [PROGRAM, *arguments], cwd=museum.folder, stdout=subprocess.PIPE, stderr=subprocess.PIPE
        )
        deadline = time.monotonic() + 60
        while len(asked) < 180 and time.monotonic() < deadline:
            time.sleep(0.05)
        run.send_signal(signal.SIGKILL)
        run.wait()
        before = len(asked)
        kept = museum.json("runs")["runs"][0]
        assert not kept["finished"]
        done = museum.json("replay", "urls.txt", "--at", address, "--resume", code=1)
        assert done["urls"] == 400
        assert before > 100
        # What the last second had asked is asked again, and nothing else.
        assert len([t for t in asked if t != "/"]) - 400 < 150
        assert "no run at" in museum("replay", "urls.txt", "--at", address, "--resume", code=2).err


def test_ctrl_c_keeps_what_is_done(museum: Program) -> None:
    museum.write("urls.txt", "".join(f"{OLD}/p{n}\n" for n in range(300)))
    asked: list[str] = []

    def respond(_host: str, target: str) -> tuple[int, str, str]:
        asked.append(target)
        return 404, "", "Nothing here"

    with serve(respond) as address:
        arguments = [PROGRAM, "replay", "urls.txt", "--at", address, "--rate", "50"]
        run = subprocess.Popen(
            arguments,
            cwd=museum.folder,
            stdout=subprocess.PIPE,
            stderr=subprocess.PIPE,
            encoding="utf-8",
        )
        deadline = time.monotonic() + 60
        while len(asked) < 40 and time.monotonic() < deadline:
            time.sleep(0.05)
        run.send_signal(signal.SIGINT)
        out, err = run.communicate(timeout=30)
    assert "Traceback" not in err
    assert (run.returncode, "are done and kept" in out) == (130, True)


@pytest.mark.parametrize("pace", [("--rate", "300"), ("--concurrent", "3", "--rate", "0")])
def test_what_ctrl_c_stopped_is_asked_no_second_time(
    museum: Program, pace: tuple[str, ...]
) -> None:
    """Every hop counts: what is under way is seen through."""
    museum.write("urls.txt", "".join(f"{OLD}/p{n}\n" for n in range(400)))
    asked: list[str] = []

    def respond(_host: str, target: str) -> tuple[int, str, str]:
        asked.append(target)
        time.sleep(0.003)
        if target.startswith("/p"):
            return 301, f"{OLD}/on/{target[2:]}", ""
        return 200, "", "Here"

    with serve(respond) as address:
        arguments = ["replay", "urls.txt", "--at", address, *pace]
        for resumed in ([], ["--resume"]):
            begun = len(asked)
            run = subprocess.Popen(
                [PROGRAM, *arguments, *resumed],
                cwd=museum.folder,
                stdout=subprocess.PIPE,
                text=True,
            )
            deadline = time.monotonic() + 60
            while len(asked) < begun + 100 and time.monotonic() < deadline:
                time.sleep(0.01)
            run.send_signal(signal.SIGINT)
            out = run.communicate(timeout=60)[0]
            assert (run.returncode, "are done and kept" in out) == (130, True)
        museum("replay", "urls.txt", "--at", address, "--resume")
    counts = Counter(asked)
    assert len(counts) >= 800
    again = [target for target, times in counts.items() if times > 1 and target != "/"]
    assert not again, (len(again), again[:10])


def test_entries_are_chosen_by_value_section_and_verdict(told: Program) -> None:
    settings = Path(told.folder / "upright.toml")
    settings.write_text(settings.read_text().replace("[sections]", '[sections]\ntower = "/tower*"'))
    with site({"/hours.html": "/opening/"}) as address:
        assert told.json("replay", "--at", address, "--top", 2, code=1)["urls"] == 2
        assert told.json("replay", "--at", address, code=1)["counts"] == {"unanswered": 2, "ok": 1}
        assert told.json("replay", "--at", address, "--verdict", "unanswered", code=1)["urls"] == 2
        assert told.json("replay", "--at", address, "--section", "tower", code=1)["urls"] == 1
        assert told.json("replay", "--at", address, "--sample", 1, code=None)["urls"] == 1
        assert (
            "leave the files out"
            in told("replay", "urls.txt", "--at", address, "--sample", 1, code=2).err
        )


def test_coverage_by_section_and_source(told: Program) -> None:
    settings = Path(told.folder / "upright.toml")
    settings.write_text(settings.read_text().replace("[sections]", '[sections]\ntower = "/tower*"'))
    told("decide", "/tower.html", "--to", "/tower-clock/")
    found = told.json("rehearse", "urls.txt", "--by", "section", code=1)["coverage"]
    assert {c["name"]: (c["urls"], c["ok"]) for c in found} == {"tower": (1, 1), "": (2, 0)}
    assert told.json("rehearse", "--by", "source", code=1)["coverage"][0]["name"] == "old.csv"
    assert "none" in told("rehearse", "urls.txt", "--by", "section", code=1).out


def test_replay_can_mend_chains_of_our_own_rules(told: Program) -> None:
    told("decide", "--from", told.pairs("/tower.html,/hours.html,301", "/hours.html,/opening/,301"))
    with site({"/tower.html": "/hours.html", "/hours.html": "/opening/"}) as address:
        out = told("replay", "urls.txt", "--at", address, "--fix", code=1).out
    assert "1 answer mended" in out
    assert (
        "301 changes scheme and content, by the rule of /tower.html, then 301 changes content, by "
        "the rule of /hours.html" in " ".join(out.split())
    )
    assert "further rule" in out
    told("undo")
    assert told.json("check", code=1)["counts"] == {"chain": 1}


def test_a_server_that_is_busy_is_asked_again_later(told: Program) -> None:
    asked: list[str] = []

    def respond(_host: str, target: str) -> tuple[int, str, str]:
        asked.append(target)
        if target == "/tower.html" and asked.count(target) == 1:
            return 503, "", "Busy"
        return (200, "", PAGES[target]) if target in PAGES else (301, f"{NEW}/opening/", "")

    with serve(respond) as address:
        found = told.json("replay", "urls.txt", "--at", address)
    assert (found["counts"], asked.count("/tower.html")) == ({"ok": 3}, 2)


CHROME = (
    "<title>Quillhaven</title><body><header>Quillhaven Museum of Clocks, tickets and "
    "visits</header><nav>Home Collection Journal Visit Shop</nav>"
)
TEXTS = {
    "tower": (
        "The turret movement of 1742 was built by two blacksmiths; its pendulum swings once in two "
        "seconds behind the north dial."
    ),
    "barge": (
        "Barges carried lamp oil along the canal until the railway bridge opened; the harbour "
        "master kept tide tables in a ledger."
    ),
    "bells": (
        "Five bronze bells were cast in Fernwick, hung in an oak frame, and rung by hand until "
        "electricity reached the belfry."
    ),
}


def page(text: str) -> str:
    """A whole page, whose title is that of all others."""
    return f"{CHROME}<main><p>{text}</p><script>{text}</script></main>"


def test_texts_tell_a_wrong_page_where_titles_say_nothing(museum: Program) -> None:
    museum.write("urls.txt", "".join(f"{OLD}/{name}.html\n" for name in TEXTS))
    with serve_pages({f"/{name}.html": page(text) for name, text in TEXTS.items()}, {}) as address:
        museum("replay", "urls.txt", "--at", address, "--as", "before", code=0)
    after = {
        f"/{name}/": page(f"{text} Reworded a little for the relaunch.")
        for name, text in TEXTS.items()
    }
    moves = {"/tower.html": "/tower/", "/barge.html": "/barge/", "/bells.html": "/barge/"}
    with serve_pages(after, moves) as address:
        museum("replay", "urls.txt", "--at", address, "--as", "after")
    found = museum.json("reconcile", "before", "after", code=1)
    assert {r["url"].removeprefix(OLD): r["change"] for r in found["rows"]}[
        "/bells.html"
    ] == "content-changed"
    assert (found["counts"]["content-changed"], found["contents_compared"]) == (1, 3)
    rows = {r["url"].removeprefix(OLD): r for r in found["rows"]}
    assert (rows["/bells.html"]["likeness"], rows["/tower.html"]["text_likeness"]) == ("", 1.0)
    assert rows["/bells.html"]["text_likeness"] < 0.1
