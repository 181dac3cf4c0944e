"""What cron says when nothing is heard, what is too little to be said, and what is proposed."""

from __future__ import annotations

import os
import time
from pathlib import Path

import pytest

from conftest import NEW, OLD, Program
from upright_ledger.web.local.stand_in import serve

AGENT = "Mozilla/5.0 (X11; Linux x86_64; rv:128.0) Gecko/20100101 Firefox/128.0"


def lines(path: str, times: int, second: int = 0) -> str:
    return "".join(
        f'198.51.100.{n} - - [12/May/2026:10:00:{second + n:02} +0000] "GET {path} HTTP/1.1" 404 5 '
        f'"-" "{AGENT}"\n'
        for n in range(times)
    )


@pytest.fixture
def told(museum: Program) -> Program:
    """A ledger that says what is silent for a day, and only what loses five requests."""
    settings = museum.folder / "upright.toml"
    text = settings.read_text()
    text = text.replace("# least = 5 ", "least = 5 ").replace("# silent_after", "silent_after")
    settings.write_text(text)
    return museum


def aged(path: Path, hours: float) -> None:
    when = time.time() - 3600 * hours
    os.utime(path, (when, when))


def test_a_log_that_stopped_growing_is_said_once_and_when_it_is_heard_again(told: Program) -> None:
    log = told.write("access.log", lines("/home/", 1))
    old = told.write("access.log.1", lines("/earlier/", 1))
    aged(old, 300)
    watch = ("triage", "--new", "access.log", "--message", "news.json", "--force")
    assert told(*watch).out == ""
    aged(log, 30)
    found = told.json(*watch, code=1)
    assert [(n["kind"], n["url"], n["why"]) for n in found["news"]] == [
        ("is silent", "access.log", "written last 30 hours ago")
    ]
    assert "nothing is heard of access.log" in (told.folder / "news.json").read_text()
    assert told(*watch).out == ""
    with log.open("a") as out:
        out.write(lines("/home/", 1, 30))
    said = told(*watch, code=None).out
    assert "1 log or site is heard again:\n  access.log" in said
    assert told(*watch).out == ""


def test_little_is_not_said_until_it_is_more(told: Program) -> None:
    log = told.write("access.log", lines("/few.html", 3))
    assert told("triage", "--new", "access.log").out == ""
    with log.open("a") as out:
        out.write(lines("/few.html", 3, 20))
    found = told.json("triage", "--new", "access.log", code=1)
    assert [(n["kind"], n["lost"]) for n in found["news"]] == [("fails newly", 6)]


def test_a_message_names_the_page_that_is_proposed(told: Program) -> None:
    told.write("new.csv", f"url,title\n{NEW}/visit/opening-hours/,Opening hours\n")
    told("stock", "new.csv")
    told.write("urls.csv", f"url,title\n{OLD}/visit/opening-hours.html,Opening hours\n")
    told("gather", "urls.csv")
    told("match", "--accept-above", "1.01")
    told.write("access.log", lines("/visit/opening-hours.html", 9))
    said = told("triage", "--new", "access.log", code=1).out
    assert f"proposed: {NEW}/visit/opening-hours/" in said


def test_a_site_that_stopped_answering_is_one_piece_of_news(told: Program) -> None:
    told("decide", "--from", told.pairs(*(f"/{n}.html,/now/,301" for n in range(4))))
    told("build", "--for", "nginx", "--out", "rules")
    told("handover", "rules", "--live", "--at", "2026-05-01T00:00")
    told.write("access.log", "")
    with serve(
        lambda _, target: (301, f"{NEW}/now/", "") if ".html" in target else (200, "", "x")
    ) as at:
        place = at
        watch = ("triage", "--new", "access.log", "--replay", "0", "--at", place)
        assert told.json(*watch)["news"] == []
    found = told.json(*watch, code=1)
    assert [(n["kind"], n["url"]) for n in found["news"]] == [("is silent", OLD)]
    assert "nothing answers" in found["news"][0]["why"]
    assert told.json(*watch)["news"] == []
