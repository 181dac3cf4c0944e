"""Pages that nobody needs: found by the evidence, merged into their strongest sibling, and taken
down as was meant.
"""

from __future__ import annotations

import csv
from pathlib import Path

import pytest

from conftest import OLD, Program

SITE = "https://www.quillhaven.example"
PAGES = {
    "/guide/winding-a-tower-clock/": ("Winding a tower clock", 90),
    "/tips/tower-clock-winding/": ("Tower clock winding tips", 0),
    "/guide/cleaning-brass-dials/": ("Cleaning brass dials", 40),
    "/news/2011-autumn-market/": ("Autumn market of 2011", 0),
    "/guide/linked/": ("A page with a link", 0),
}


@pytest.fixture
def running(tmp_path: Path) -> Program:
    """A ledger of a site that stays, with clicks and links for some of its pages."""
    Program(tmp_path)("open", "running", "--old", SITE, "--new", SITE)
    running = Program(tmp_path / "running")
    rows = [f"{SITE}{path},{title},{clicks}" for path, (title, clicks) in PAGES.items()]
    running.write("clicks.csv", "url,title,clicks\n" + "\n".join(rows) + "\n")
    running.write(
        "links.csv", f"Source URL,Target URL\nhttps://club.example/,{SITE}/guide/linked/\n"
    )
    return running


def test_what_nobody_needs_is_merged_ended_and_expected_to_go(running: Program) -> None:
    assert "nothing tells which pages are used" in running("entries", "--weak", code=2).err
    running("gather", "clicks.csv", "--period", "2026-01-01..2026-06-30")
    assert "No link data was gathered" in running("entries", "--weak").out
    running("gather", "links.csv")
    running.write("pages.csv", "url,status\n" + "".join(f"{SITE}{p},200\n" for p in PAGES))
    running("stock", "pages.csv")
    said = running("entries", "--weak", "--csv", "weak.csv").out
    assert "2 of 5 entries" in said
    assert "by clicks.csv from 2026-01-01 to 2026-06-30" in " ".join(said.split())
    with (running.folder / "weak.csv").open(newline="") as file:
        rows = {r["old"].removeprefix(SITE): r for r in csv.DictReader(file)}
    merged, ended = rows["/tips/tower-clock-winding/"], rows["/news/2011-autumn-market/"]
    assert (merged["new"], merged["status"]) == (f"{SITE}/guide/winding-a-tower-clock/", "301")
    assert (ended["new"], ended["status"]) == ("", "410")
    found = running.json("entries", "--weak")
    assert (found["of"], found["links_known"], len(found["weak"])) == (5, True, 2)
    running("decide", "--from", "weak.csv")
    kinds = {f["kind"] for f in running.json("check", code=1)["findings"]}
    assert "source-live" in kinds  # the pages are there, and nobody said that they will go
    running("stock", "weak.csv", "--column", "url=old", "--going")
    kinds = {f["kind"] for f in running.json("check", code=None)["findings"]}
    assert "source-live" not in kinds
    told = running("decide", "/guide/linked/", "--to", "/news/2011-autumn-market/", code=None)
    assert told.code == 0
    kinds = {f["kind"] for f in running.json("check", code=1)["findings"]}
    assert kinds & {"unknown-destination", "dead-destination", "chain"}
    contradicting = ("stock", "weak.csv", "--going", "--planned")
    assert "contradict each other" in running(*contradicting, code=2).err


def test_that_nobody_links_is_told_from_that_nobody_knows(museum: Program) -> None:
    museum.write("old.csv", "url,hits\n/lonely.html,0\n/asked.html,4\n")
    museum("gather", "old.csv")

    def reasons(name: str) -> dict[str, str]:
        museum("review", "--out", name)
        with (museum.folder / name).open(newline="", encoding="utf-8") as file:
            rows = list(csv.DictReader(file))
        return {r["legacy_url"].removeprefix(OLD): r["reason"] for r in rows}

    unknown = "no link data was gathered, so nobody knows whether others link to it"
    before = reasons("before.csv")
    assert before["/lonely.html"] == (
        f"no page fits, and nobody asks for it: gone (410); {unknown}"
    )
    assert before["/asked.html"].endswith(f"or wanted; {unknown}")
    museum.write("links.csv", f"Source URL,Target URL\nhttps://club.example/,{OLD}/other.html\n")
    museum("gather", "links.csv")
    after = reasons("after.csv")
    assert (
        after["/lonely.html"] == "no page fits, and nobody links to it or asks for it: gone (410)"
    )
    assert "link data" not in after["/asked.html"]
