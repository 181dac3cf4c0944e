"""What search engines are told after a move, read back by other hands."""

from __future__ import annotations

import csv
from pathlib import Path
from xml.etree import ElementTree as ET

import pytest

from conftest import NEW, OLD, Program
from upright_ledger.app.live import reindexing
from upright_ledger.app.live.reindexing import write_sitemap
from upright_ledger.app.move_state import MoveState
from upright_ledger.ledger.store import open_ledger

SPACE = "{http://www.sitemaps.org/schemas/sitemap/0.9}"


def urls(path: Path) -> dict[str, str]:
    """Address → its day, of a sitemap."""
    root = ET.parse(path).getroot()
    assert root.tag == f"{SPACE}urlset"
    return {u.findtext(f"{SPACE}loc", ""): u.findtext(f"{SPACE}lastmod", "") for u in root}


@pytest.fixture
def moved(museum: Program) -> Program:
    museum.write(
        "pages.csv",
        "url,status,indexable,canonical\n"
        f"{NEW}/a/,200,,\n{NEW}/b/?x=1&y=2,200,yes,\n{NEW}/hidden/,200,no,\n{NEW}/gone/,404,,\n"
        f"{NEW}/copy/,200,,{NEW}/a/\n{NEW}/caf%C3%A9/,,,{NEW}/caf%C3%A9/\n",
    )
    museum("stock", "pages.csv")
    museum.write("old.csv", "url,hits\n/old-a,1\n/old-b,90\n/old-c,5\n")
    museum("gather", "old.csv")
    museum("decide", "--from", museum.pairs("/old-a,/a/,301", "/old-b,/b/?x=1&y=2,308", "/x,,410"))
    museum("build", "--for", "nginx", "--out", "rules")
    museum("handover", "--live", "--at", "2026-05-14T14:30+00:00")
    museum("decide", "/old-c", "--to", "/a/#part")
    return museum


def test_moved_addresses_are_told_with_the_day_they_went_live(moved: Program) -> None:
    told = moved.json("handover", "--moved", "moved.csv")
    assert told == {"moved": {"file": "moved.csv", "addresses": 3, "not_live": 1}}
    with (moved.folder / "moved.csv").open(encoding="utf-8", newline="") as file:
        rows = [tuple(row.values()) for row in csv.DictReader(file)]
    assert rows == [
        (f"{OLD}/old-b", f"{NEW}/b/?x=1&y=2", "308", "2026-05-14"),
        (f"{OLD}/old-c", f"{NEW}/a/#part", "301", ""),
        (f"{OLD}/old-a", f"{NEW}/a/", "301", "2026-05-14"),
    ]
    assert "1 are not live yet" in moved("handover", "--moved", "moved.csv").out
    moved("handover", "--moved", "moved.xlsx")
    assert (moved.folder / "moved.xlsx").read_bytes()[:2] == b"PK"


def test_the_sitemap_holds_what_may_be_found_and_nothing_else(moved: Program) -> None:
    told = moved.json("handover", "--sitemap", "sitemap.xml")
    assert told == {"sitemap": {"files": ["sitemap.xml"], "pages": 3}}
    assert urls(moved.folder / "sitemap.xml") == {
        f"{NEW}/a/": "2026-05-14",
        f"{NEW}/b/?x=1&y=2": "2026-05-14",
        f"{NEW}/caf%C3%A9/": "",
    }
    # The program reads its own sitemap like any.
    again = moved.json("stock", "sitemap.xml")
    assert again["sources"][0]["accepted"] == 3
    out = moved("handover", "--sitemap", "sitemap.xml", "--moved", "moved.csv").out
    assert "sitemap.xml: 3 pages." in out


def test_without_stock_it_holds_where_answers_lead(museum: Program) -> None:
    museum("handover", "--sitemap", "s.xml", code=2)
    museum(
        "decide", "--from", museum.pairs("/a,/x/,301", "/b,/x/,301", "/c,/y/#z,301", "/d,/t/,302")
    )
    museum("handover", "--sitemap", "s.xml")
    assert list(urls(museum.folder / "s.xml")) == [f"{NEW}/x/", f"{NEW}/y/"]


def test_many_pages_become_several_files_and_an_index(
    moved: Program, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(reindexing, "MOST", 2)
    done = write_sitemap(MoveState(open_ledger(moved.folder)), moved.folder / "map.xml")
    assert [f.name for f in done.files] == ["map.xml", "map-1.xml", "map-2.xml"]
    root = ET.parse(moved.folder / "map.xml").getroot()
    assert [s.findtext(f"{SPACE}loc") for s in root] == [f"{NEW}/map-1.xml", f"{NEW}/map-2.xml"]
    assert sum(len(urls(f)) for f in done.files[1:]) == done.addresses == 3


def test_what_is_told_to_search_engines_is_told_of_the_whole_ledger(moved: Program) -> None:
    moved("handover", "rules", "--moved", "moved.csv", code=2)
    moved("handover", "--live", "--sitemap", "s.xml", code=2)
    moved.write("foreign.xml", "<mine/>")
    moved("handover", "--sitemap", "foreign.xml", code=2)
    assert (moved.folder / "foreign.xml").read_text() == "<mine/>"


def test_those_who_link_get_a_list_of_what_to_put_there(museum: Program) -> None:
    head = "Source URL,Target URL,Anchor text\n"
    museum.write(
        "links.csv",
        head
        + f"https://club.example/a,{OLD}/poster.html,Posters\n"
        + f"https://www.club.example/b,{OLD}/poster.html,Our posters\n"
        + f"https://town.example/,{OLD}/poster.html,Posters\n"
        + f"https://town.example/,{OLD}/gone.html,Gone\n"
        + f"https://town.example/,{OLD}/open.html,Open\n"
        + f"https://town.example/,{OLD}/stays.html,Stays\n"
        + f"{OLD}/home.html,{OLD}/poster.html,Own\n",
    )
    museum("gather", "links.csv")
    museum("decide", "/poster.html", "--to", "/prints/")
    museum("decide", "/gone.html", "--gone")
    museum("decide", "/stays.html", "--keep")

    def told() -> list[tuple[str, ...]]:
        museum("handover", "--inbound", "inbound.csv", "--force")
        with (museum.folder / "inbound.csv").open(newline="") as file:
            return [
                (
                    r["domains"],
                    r["linking_page"],
                    r["dead"].removeprefix(OLD),
                    r["right"],
                    r["seen"],
                )
                for r in csv.DictReader(file)
            ]

    goal = f"{NEW}/prints/"
    assert told() == [
        ("2", "https://club.example/a", "/poster.html", goal, ""),
        ("2", "https://www.club.example/b", "/poster.html", goal, ""),
        ("2", "https://town.example/", "/poster.html", goal, ""),
        ("1", "https://town.example/", "/gone.html", "", ""),
        ("1", "https://town.example/", "/open.html", "", ""),
    ]
    museum.write("later.csv", head + f"https://club.example/a,{OLD}/poster.html,Posters\n")
    museum("gather", "later.csv")
    seen = {page: still for _, page, dead, _, still in told() if dead == "/poster.html"}
    assert seen == {
        "https://club.example/a": "still",
        "https://www.club.example/b": "no longer",
        "https://town.example/": "no longer",
    }
    found = museum.json("handover", "--inbound", "inbound.csv", "--force")["inbound"]
    assert (found["links"], found["addresses"], found["no_longer"]) == (5, 3, 4)
