"""Waves: a section at a time, with its own build, balance, launch and way back."""

from __future__ import annotations

import csv
import json

import pytest

from conftest import NEW, OLD, Program

AGENT = "Mozilla/5.0 (X11; Linux x86_64; rv:128.0) Gecko/20100101 Firefox/128.0"
PAGES = {
    "/journal/one.html": "/stories/one/",
    "/journal/two.html": "/stories/two/",
    "/shop/clock.html": "/store/clock/",
    "/shop/bell.html": "/store/bell/",
    "/about.html": "/museum/",
}


@pytest.fixture
def moving(museum: Program) -> Program:
    """A ledger of two sections and a page beside them, all answered but one of the shop."""
    settings = museum.folder / "upright.toml"
    text = settings.read_text()
    text = text.replace("[sections]", '[sections]\njournal = "/journal/*"\nshop = "/shop/*"')
    text = text.replace("[waves]", '[waves]\npilot = "journal"\nsecond = "shop"\nrest = "*"')
    settings.write_text(text)
    museum.write("old.csv", "url,hits\n" + "".join(f"{p},9\n" for p in PAGES))
    museum.write("new.csv", "url\n" + "".join(f"{NEW}{p}\n" for p in PAGES.values()))
    museum("gather", "old.csv")
    museum("stock", "new.csv")
    for old, new in PAGES.items():
        if old != "/shop/bell.html":
            museum("decide", old, "--to", new)
    return museum


def built(program: Program, folder: str) -> set[str]:
    """The old paths of a build."""
    with (program.folder / folder / "redirects.csv").open(newline="") as file:
        return {row["old"].removeprefix(OLD) for row in csv.DictReader(file)}


def waves(program: Program) -> dict[str, dict[str, object]]:
    return {w["name"]: w for w in program.json("balance")["waves"]}


def test_a_section_at_a_time_is_built_and_goes_live(moving: Program) -> None:
    said = moving("build", "--for", "nginx", "--out", "rules", "--wave", "pilot").out
    assert "wave pilot: journal; 2 rules wait" in said
    assert "proved of it: no URL at all is sent on a second time" in said
    assert built(moving, "rules") == {"/journal/one.html", "/journal/two.html"}
    manifest = json.loads((moving.folder / "rules/manifest.json").read_text())
    assert (manifest["wave"], manifest["sections"]) == ("pilot", ["journal"])
    moving("handover", "rules", "--live", "--at", "2026-05-10T10:00+00:00")
    moving("build", "--for", "nginx", "--out", "rules", "--wave", "second")
    assert built(moving, "rules") == {
        p for p in PAGES if p not in {"/shop/bell.html", "/about.html"}
    }
    found = waves(moving)
    assert {n: (w["entries"], w["open"]) for n, w in found.items()} == {
        "pilot": (2, 0),
        "second": (2, 1),
        "rest": (1, 0),
    }
    assert found["pilot"]["live_from"] == "2026-05-10T10:00:00Z"
    assert found["second"]["live_from"] == ""
    told = " ".join(moving("balance").out.split())
    assert "pilot journal 2 0 0 0 2026-05-10 10:00" in told
    moving("build", "--for", "nginx", "--out", "all", "--wave", "rest")
    assert built(moving, "all") == set(PAGES) - {"/shop/bell.html"}


def test_what_waits_for_its_wave_does_not_fail_again(moving: Program) -> None:
    moving("build", "--for", "nginx", "--out", "rules", "--wave", "pilot")
    moving("handover", "rules", "--live", "--at", "2026-05-10T10:00+00:00")
    lines = "".join(
        f'198.51.100.{n} - - [12/May/2026:10:00:{n:02} +0000] "GET {path} HTTP/1.1" 404 5 "-" '
        f'"{AGENT}"\n'
        for n, path in enumerate(["/journal/one.html", "/shop/clock.html"] * 3)
    )
    moving.write("access.log", lines)
    rows = {
        r["legacy_url"].removeprefix(OLD): r["state"]
        for r in moving.json("triage", "access.log", code=1)["entries"]
    }
    assert rows["/journal/one.html"] == "recurring"
    assert rows["/shop/clock.html"] == "answered"


def test_a_wave_has_a_way_back(moving: Program) -> None:
    moving("build", "--for", "nginx", "--out", "rules", "--wave", "pilot")
    moving("handover", "--live", "--at", "2026-05-10T10:00+00:00")
    moving("build", "--for", "nginx", "--out", "rules", "--wave", "second")
    moving("handover", "--live", "--at", "2026-05-20T10:00+00:00")
    assert waves(moving)["second"]["live_from"] == "2026-05-20T10:00:00Z"
    moving("build", "--roll-back", "--out", "rules")
    assert built(moving, "rules") == {"/journal/one.html", "/journal/two.html"}
    said = moving("handover", "2", "--off").out
    assert "Build 2 is not live any more; build 1 (nginx, wave pilot) is live since" in said
    assert waves(moving)["second"]["live_from"] == ""
    assert "is not live" in moving("handover", "2", "--off", code=2).err
    # What the server runs is compared with the wave that is live.
    assert (
        "answers as the ledger says" in moving("handover", "--running", "rules/redirects.csv").out
    )


def test_a_template_beyond_a_wave_waits_and_is_named(moving: Program) -> None:
    moving.write("more.csv", "url\n/journal/special.html\n/other/x.html\n")
    moving("gather", "more.csv")
    moving("decide", "/{+rest}", "--gone")
    outcome = moving("build", "--for", "nginx", "--out", "rules", "--wave", "pilot", code=1)
    assert "templates that reach beyond it wait, too: /{+rest}" in outcome.out
    assert "which reaches beyond the wave" in " ".join(outcome.out.split())
    manifest = json.loads((moving.folder / "rules/manifest.json").read_text())
    assert [h["legacy_url"] for h in manifest["held_back"]] == [f"{OLD}/journal/special.html"]
    moving("decide", "/journal/{+rest}", "--gone")
    moving("build", "--for", "nginx", "--out", "rules", "--wave", "pilot")
    assert "/journal/{+rest}" in built(moving, "rules")


def test_a_launch_looks_at_its_wave_alone(moving: Program) -> None:
    def lines(*options: str) -> dict[str, dict[str, str]]:
        told = moving.json("launch", "--at", "http://127.0.0.1:9", *options, code=1)["lines"]
        return {line["about"]: line for line in told}

    whole = lines()
    assert whole["answers"]["light"] == "no-go"
    assert lines("--wave", "pilot")["build"]["remedy"].endswith("--wave pilot")
    moving("build", "--for", "nginx", "--out", "rules", "--wave", "pilot")
    found = lines("--wave", "pilot", "--running", "rules/redirects.conf")
    assert (found["answers"]["light"], found["build"]["light"]) == ("go", "go")
    assert "2 of 2 entries are answered" in found["answers"]["told"]
    assert found["build"]["told"].endswith("holds all answers of the wave pilot")


@pytest.mark.parametrize(
    ("waves", "wrong"),
    [
        ('a = "nowhere"', "is no name of [sections]"),
        ('a = "journal"\nb = "journal"', "which is in the wave a already"),
        ('a = "*"\nb = "journal"', "which takes all that is left"),
        ("a = []", "names no section"),
    ],
)
def test_waves_that_cannot_be_meant_are_refused(moving: Program, waves: str, wrong: str) -> None:
    settings = moving.folder / "upright.toml"
    text = settings.read_text()
    settings.write_text(text.replace('pilot = "journal"\nsecond = "shop"\nrest = "*"', waves))
    assert wrong in " ".join(moving("balance", code=3).err.split())


def test_a_wave_that_nobody_named_is_said(moving: Program) -> None:
    failed = moving("build", "--for", "nginx", "--out", "rules", "--wave", "third", code=2)
    assert "these are: pilot, second, rest" in failed.err
