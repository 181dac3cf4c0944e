"""One path through the whole job, command by command, as a user types it in an empty folder."""

from __future__ import annotations

import csv
import json
from pathlib import Path

import pytest

from conftest import NEW, OLD, Program, needs_nginx
from raw_http import ask, nginx_with
from upright_ledger.cli.main import COMMANDS

LIST = f"""# crawl
{OLD}/visit/opening-hours.html
http://quillhaven.example/Visit/Opening-Hours.html?utm_source=mail
/about
{OLD}/journal/2011/03/tower-clock-restored.html

not a url
https://elsewhere.example/x
/style.css
"""
ANALYTICS = (
    'Page path;Sessions;Page title\n/journal/2011/03/tower-clock-restored.html;1.234;"The tower '
    'clock restored | Quillhaven"\n/shop/poster-old.htm;5;Posters\n'
)
LOG = (
    '192.0.2.7 - - [03/May/2026:10:00:00 +0000] "GET /about?utm_source=x HTTP/1.1" 200 10 "-" '
    '"Mozilla/5.0 (X11)"\n'
    '192.0.2.8 - - [04/May/2026:10:00:00 +0000] "GET /about HTTP/1.1" 200 10 "-" "SlateBot/1.0"\n'
    '192.0.2.9 - - [05/May/2026:10:00:00 +0000] "GET /wp-login.php HTTP/1.1" 404 10 "-" "-"\n'
    "half a li\n"
)
PAGES = (
    "Address,Status,Title\n"
    f"{NEW}/visit/opening-hours/,200,Opening hours\n{NEW}/about/,200,About "
    f"us\n/journal/tower-clock-restored/,200,The tower clock restored\n{NEW}/,200,Home\n"
)


@pytest.fixture
def filled(museum: Program) -> Program:
    """A ledger with sources and stock."""
    museum.write("old-urls.txt", LIST)
    museum.write("analytics.csv", ANALYTICS)
    museum.write("access.log", LOG)
    museum.write("new-pages.csv", PAGES)
    museum("gather", "old-urls.txt", "analytics.csv", "access.log")
    museum("stock", "new-pages.csv")
    return museum


def test_open_says_what_it_made_and_bare_upright_what_comes_next(bare: Program) -> None:
    made = bare.json(
        "open",
        "museum",
        "--old",
        OLD,
        "--old",
        "http://quillhaven.example",
        "--old",
        "http://shop.quillhaven.example",
        "--new",
        NEW,
    )
    assert made["old"] == {
        "quillhaven.example": [OLD, "http://quillhaven.example"],
        "shop.quillhaven.example": ["http://shop.quillhaven.example"],
    }
    inside = Program(bare.folder / "museum")
    assert inside.json()["next"]["command"].startswith("upright gather")
    assert "upright gather" in inside().out
    assert "upright open" in bare().out
    bare("open", "museum", "--old", OLD, "--new", NEW, code=2)


def test_gather_counts_every_line_and_keeps_the_evidence(museum: Program) -> None:
    museum.write("old-urls.txt", LIST)
    museum.write("analytics.csv", ANALYTICS)
    museum.write("access.log", LOG)
    result = museum.json("gather", "old-urls.txt", "analytics.csv", "access.log")
    by_name = {s["name"]: s for s in result["sources"]}
    counts = {
        n: (s["kind"], s["lines"], s["accepted"], s["set_aside"], s["rejected"], s["new_entries"])
        for n, s in by_name.items()
    }
    assert counts == {
        "old-urls.txt": ("text", 9, 4, 4, 1, 3),
        "analytics.csv": ("table", 2, 2, 0, 0, 1),
        "access.log": ("access-log", 4, 2, 1, 1, 0),
    }
    assert result["entries"] == 4
    assert by_name["old-urls.txt"]["set_aside_by_class"] == {
        "blank": 2,
        "off-site": 1,
        "furniture": 1,
    }
    assert by_name["old-urls.txt"]["folded"]["letter case"] == 1
    rejects = (museum.folder / by_name["access.log"]["rejects_file"]).read_text()
    assert "4\tnot a line of the Common or Combined Log Format\thalf a li" in rejects
    top = {e["legacy_url"]: e for e in museum.json("balance")["top_open"]}
    assert top[f"{OLD}/about"]["hits"] == 1
    assert top[f"{OLD}/journal/2011/03/tower-clock-restored.html"]["value"] == 1234


def test_gathering_the_same_file_again_changes_nothing(filled: Program) -> None:
    before = filled.json("balance"), filled.json("history")
    again = filled.json("gather", "old-urls.txt")
    assert again["sources"][0]["known"]
    assert again["sources"][0]["new_entries"] == 0
    assert (filled.json("balance"), filled.json("history")) == before


def test_match_decide_check_build_rehearse(filled: Program) -> None:
    matched = filled.json("match", "--accept-above", "0.85")
    assert matched["same_address"] == 1
    assert matched["accepted"] == 2
    assert filled.json("decide", "/shop/poster-old.htm", "--gone")["posted"] == 1
    balance = filled.json("balance")
    assert (balance["entries"], balance["answered"], balance["open"]) == (4, 4, 0)
    assert {x["answer"]: x["entries"] for x in balance["lines"] if x["entries"]} == {
        "move": 3,
        "gone": 1,
    }
    assert balance["next"]["command"] == "upright check"
    told = "it ends (gone), and people ask for it: 5 visits"
    assert filled.json("check") == {
        "findings": [
            {
                "kind": "gone-with-links",
                "severity": "note",
                "legacy_url": f"{OLD}/shop/poster-old.htm",
                "destination": "",
                "detail": told,
            }
        ],
        "counts": {"gone-with-links": 1},
        "causes": [
            {
                "kind": "gone-with-links",
                "text": "addresses end, and people ask for them",
                "count": 1,
            }
        ],
        "rules": 4,
        "assumed": [],
        "rejected": [],
        "mended": [],
        "proof": {"rules": 4, "held_back": 0, "state": "proved", "undecided": [], "witnesses": []},
    }
    manifest = filled.json("build", "--for", "nginx", "--out", "rules/")
    assert manifest["rules"] == 4
    assert manifest["by_status"] == {"301": 3, "410": 1}
    assert (
        json.loads((filled.folder / "rules/manifest.json").read_text())["digest"]
        == manifest["digest"]
    )
    rows = list(csv.DictReader((filled.folder / "rules/redirects.csv").open()))
    assert {
        "old": f"{OLD}/shop/poster-old.htm",
        "new": "",
        "status": "410",
        "query": "carry-tracking",
        "kind": "exact",
    } in rows
    run = filled.json("rehearse", "old-urls.txt", "access.log", "--out", "run.csv")
    assert run["counts"] == {"ok": 4}
    header = (filled.folder / "run.csv").read_text().splitlines()[0]
    assert header.startswith(
        "url,hits,verdict,status,location,hops,final_url,final_status,expected"
    )


def test_building_twice_gives_the_same_bytes(filled: Program) -> None:
    filled("match")
    filled("build", "--for", "nginx", "--out", "one")
    filled("build", "--for", "nginx", "--out", "two")
    for name in ("redirects.conf", "server.inc", "redirects.csv"):
        assert (filled.folder / "one" / name).read_bytes() == (
            filled.folder / "two" / name
        ).read_bytes()


@needs_nginx
def test_replay_asks_a_real_server_with_production_names(filled: Program) -> None:
    filled("match", "--accept-above", "0.85")
    filled("build", "--for", "nginx", "--out", "rules")
    filled.write("some.txt", "/about\n/shop/poster-old.htm\n")
    with nginx_with(filled.folder / "rules") as (host, port):
        run = filled.json(
            "replay", "some.txt", "--at", f"http://{host}:{port}", "--out", "replay.csv", code=1
        )
        assert run["counts"] == {"dead-end": 1, "unanswered": 1}
    rows = {r["url"]: r for r in csv.DictReader((filled.folder / "replay.csv").open())}
    moved = rows[f"{OLD}/about"]
    assert (moved["status"], moved["location"], moved["hops"], moved["final_status"]) == (
        "301",
        f"{NEW}/about/",
        "1",
        "404",
    )
    assert "1 not ok" not in filled().out
    assert "2 not ok" in filled().out


@needs_nginx
def test_a_move_to_the_slash_form_on_the_same_host_does_not_loop(open_museum: Program) -> None:
    own = open_museum("--old", OLD, "--new", NEW)  # type: ignore[operator]
    own("decide", "/about", "--to", "/about/")
    own("decide", "/News", "--to", "/news/")
    own("build", "--for", "nginx", "--out", "rules")
    with nginx_with(own.folder / "rules") as place:
        assert ask(place, "www.quillhaven.example", "/about") == (301, f"{NEW}/about/")
        assert ask(place, "www.quillhaven.example", "/about/") == (404, "")
        assert ask(place, "www.quillhaven.example", "/about/?page=2") == (404, "")
        assert ask(place, "www.quillhaven.example", "/news") == (301, f"{NEW}/news/")
        assert ask(place, "www.quillhaven.example", "/News/") == (404, "")


@pytest.mark.parametrize("command", sorted(COMMANDS))
def test_every_command_has_help_and_documentation(bare: Program, command: str) -> None:
    assert len(bare(command, "--help").out.splitlines()) > 5
    docs = Path(__file__).parents[2] / "docs"
    assert f"upright {command}" in (docs / "commands.md").read_text()
    if command != "demo":
        assert f"## {command}" in (docs / "json.md").read_text()


def test_help_lists_commands_by_phase(bare: Program) -> None:
    text = bare("--help").out
    assert [
        text.index(f"{phase}:") for phase in ("Begin", "Collect", "Decide", "Prove", "Live")
    ] == sorted(
        text.index(f"{phase}:") for phase in ("Begin", "Collect", "Decide", "Prove", "Live")
    )


def test_without_a_ledger_a_command_says_how_to_make_one(bare: Program) -> None:
    refused = bare("balance", code=2)
    assert "there is no ledger" in refused.err
    assert "upright open" in refused.err
