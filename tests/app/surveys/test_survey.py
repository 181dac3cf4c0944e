"""Survey: a crawl of a site with planted faults, its bounds, going on after a stop, and what it
feeds.
"""

from __future__ import annotations

import csv
import json
import re
import signal
import subprocess
import time
from pathlib import Path

import pytest
from python_calamine import CalamineWorkbook

from conftest import PROGRAM, Program
from raw_http import serve_site
from upright_ledger.demo.faulty_site import TRAPS, FaultySite, make_faulty_site
from upright_ledger.web.local.real_servers import free_port


@pytest.fixture
def site() -> FaultySite:
    return make_faulty_site(f"http://localhost:{free_port()}", 300)


@pytest.fixture
def surveyor(tmp_path: Path, site: FaultySite) -> Program:
    """A ledger whose new site is the one to be surveyed."""
    program = Program(tmp_path)
    program("open", "museum", "--old", "http://www.quillhaven.example", "--new", site.origin)
    return Program(tmp_path / "museum")


def test_every_planted_fault_is_found_and_none_is_invented(
    surveyor: Program, site: FaultySite
) -> None:
    with serve_site(site) as origin:
        found = surveyor.json(
            "survey",
            f"{origin}/",
            "--as",
            "new",
            "--out",
            "all.xlsx",
            "--mends",
            "mends.csv",
            code=1,
        )
    faults = {f["kind"]: {row[0] for row in f["rows"]} for f in found["faults"]}
    assert faults == dict(site.truth)
    origin = site.origin
    mends = {
        (
            "*" if m["in_template"] else m["source"].removeprefix(origin),
            m["target"].removeprefix(origin),
            m["final"].removeprefix(origin),
        )
        for m in found["links_to_mend"]
    }
    assert mends == site.mends
    assert found["links_to_mend"][0]["in_template"]
    assert found["counts"]["not asked"] == 3
    with (surveyor.folder / "mends.csv").open() as file:
        rows = list(csv.DictReader(file))
    assert {r["final_url"] for r in rows if r["url"] == f"{origin}/old-1.html"} <= {
        origin + final for _, _, final in site.mends
    }
    assert CalamineWorkbook.from_path(str(surveyor.folder / "all.xlsx")).sheet_names == [
        "faults",
        "links to mend",
        "broken inbound",
        "addresses",
    ]


def test_a_survey_feeds_the_stock_and_can_be_looked_at_again(
    surveyor: Program, site: FaultySite
) -> None:
    with serve_site(site) as origin:
        told = surveyor("survey", f"{origin}/", "--as", "new", "--name", "first", code=1).out
    assert "pages stocked" in told
    assert told.index("launch gate") < told.index("sitemap")
    again = surveyor("survey", "--again", "first", "--as", "new", code=1).out
    assert again.split("part ")[1].split("Next:")[0] == told.split("part ")[1].split("Next:")[0]
    assert "survey" in surveyor("runs").out
    assert "there is no survey" in surveyor("survey", "--again", "none", code=2).err
    assert "there is no run 'first'" in surveyor("reconcile", "first", "first", code=2).err


def test_old_pages_become_entries_with_their_titles(tmp_path: Path, site: FaultySite) -> None:
    program = Program(tmp_path)
    program("open", "museum", "--old", site.origin, "--new", "https://www.quillhaven.example")
    museum = Program(tmp_path / "museum")
    with serve_site(site) as origin:
        museum("survey", f"{origin}/", "--as", "old", code=1)
    entries = museum.json("entries", "--limit", "0")["entries"]
    assert len(entries) > 300
    assert "Alone 0 | Quillhaven" in museum("entries", "/alone-0/").out


def test_the_bounds_hold(surveyor: Program, site: FaultySite) -> None:
    asked: list[str] = []
    with serve_site(site, asked) as origin:
        found = surveyor.json(
            "survey",
            *(origin + trap for trap in TRAPS),
            "--depth",
            "30",
            "--without",
            "/collection/*",
            code=None,
        )
        assert found["counts"]["not asked"] > 0
        assert len(asked) < 150
        assert not [path for path in asked if path.startswith(("/collection/", "/private/"))]
        asked.clear()
        surveyor("survey", f"{origin}/private/", "--own-site", "--most", "20", code=None)
        assert "/private/" in asked
        assert len(asked) < 40
        asked.clear()
        surveyor("survey", f"{origin}/", "--within", "/collection/0000*", code=None)
        assert {
            path for path in asked if path.startswith("/collection/0") and path.endswith("/")
        } <= {f"/collection/{n:05}/" for n in range(10)}
    assert "no address was given" in surveyor("survey", code=2).err
    assert "nothing could be asked" in surveyor("survey", f"{origin}/", code=3).err


def test_a_killed_survey_goes_on_and_asks_nothing_twice(
    surveyor: Program, site: FaultySite
) -> None:
    asked: list[str] = []
    command = ["survey", f"{site.origin}/", "--rate", "150", "--as", "new"]
    with serve_site(site, asked):
        run = subprocess.Popen(
            [PROGRAM, *command],
            cwd=surveyor.folder,
            stdout=subprocess.DEVNULL,
            stderr=subprocess.DEVNULL,
        )
        while len(asked) < 250:
            time.sleep(0.05)
        run.send_signal(signal.SIGKILL)
        run.wait()
        time.sleep(0.5)
        first = len(asked)
        surveyor("survey", f"{site.origin}/", "--as", "new", "--resume", code=1)
        counted = {
            path: asked.count(path)
            for path in asked
            if path.startswith("/collection/0") and path.endswith("/")
        }
        twice = [path for path, times in counted.items() if times > 1]
        assert first < len(asked)
        # But for those under way, and of the last quarter of a second.
        assert len(twice) < 100
        assert len(counted) == 300
    whole = surveyor.json("survey", "--again", "last", "--as", "new", code=1)
    assert {f["kind"] for f in whole["faults"]} >= set(site.truth)
    assert "no survey of" in surveyor("survey", f"{site.origin}/", "--resume", code=2).err


def test_a_survey_that_ctrl_c_stopped_has_one_owner_and_asks_nothing_twice(
    surveyor: Program, site: FaultySite
) -> None:
    asked: list[str] = []
    command = ["survey", f"{site.origin}/", "--rate", "150", "--as", "new"]
    with serve_site(site, asked):
        run = subprocess.Popen(
            [PROGRAM, *command, "--json"], cwd=surveyor.folder, stdout=subprocess.PIPE, text=True
        )
        while len(asked) < 250:
            time.sleep(0.05)
        assert "somebody is at run" in surveyor(*command, "--resume", code=2).err
        run.send_signal(signal.SIGINT)
        stopped = json.loads(run.communicate(timeout=60)[0])["stopped"]
        assert run.returncode == 130
        assert stopped["done"] > 100
        surveyor(*command, "--resume", code=1)
    counted = {
        path: asked.count(path)
        for path in asked
        if path.startswith("/collection/0") and path.endswith("/")
    }
    assert len(counted) == 300
    assert len([path for path, times in counted.items() if times > 1]) <= 2


def test_final_addresses_are_put_into_a_content_export(surveyor: Program, site: FaultySite) -> None:
    with serve_site(site) as origin:
        surveyor("survey", f"{origin}/", "--as", "new", code=1)
    goals = {target: final for _, target, final in site.mends if target.startswith("/old-")}
    goal, other = goals["/old-0.html"], goals["/old-1.html"]
    escaped = f"{origin}/old-1.html".replace("/", "\\/")
    export = (
        f'INSERT INTO posts VALUES (1,\'<a href="/old-0.html#top">x</a> see {origin}/old-0.html. '
        "And [md](/old-1.html)');\n"
        f'{{"url":"{escaped}"}} <a href="//{origin[7:]}/old-0.html?x=1">other</a> /old-0.html in '
        "prose, /old-0.htmlx\n"
        f'a:1:{{s:3:"url";s:36:"{origin}/old-0.html";}}\n'
        f'\\"x\\";s:60:\\"<p>Go and see <a href=\\\\"{origin}/old-0.html\\\\">it</a></p>\\"; <a '
        'href="/old-0.html">\n'
        "caf\u00e9 \U0001f570 https://elsewhere.example/old-0.html\n"
    )
    surveyor.write("export.sql", export)
    found = surveyor.json(
        "survey", "--again", "last", "--in", "export.sql", "--into", "mended", code=1
    )["mended"]
    assert (found[0]["changes"], found[0]["left"]) == (5, 2)
    expected = (
        export.replace('"/old-0.html#top"', f'"{goal}#top"')
        .replace(f"see {origin}/old-0.html.", f"see {origin}{goal}.")
        .replace('<a href="/old-0.html">', f'<a href="{goal}">')
        .replace("(/old-1.html)", f"({other})")
        .replace(escaped, f"{origin}{other}".replace("/", "\\/"))
    )
    assert (surveyor.folder / "mended/export.sql").read_text() == expected
    diff = (surveyor.folder / "mended/changes.diff").read_text()
    assert diff.count("@@ line 1 @@") == 3
    assert "@@ line 2 @@" in diff
    assert (
        "is there already"
        in surveyor(
            "survey", "--again", "last", "--in", "export.sql", "--into", "mended", code=2
        ).err
    )
    assert "go together" in surveyor("survey", "--again", "last", "--in", "export.sql", code=2).err


def test_a_renamed_page_is_never_without_a_redirect(surveyor: Program, site: FaultySite) -> None:
    with serve_site(site) as origin:
        surveyor("survey", f"{origin}/", "--as", "new", "--name", "before", code=1)
        plain = [
            path
            for path, answer in site.answers.items()
            if re.fullmatch("/collection/0.*/", path) and "noindex" not in answer.body
        ]
        names = {path: f"/things/{n}/" for n, path in enumerate(plain[:3])}
        for path, new in names.items():
            site.answers[new] = site.answers.pop(path)
            listed = site.answers["/collection/"]
            body = listed.body.replace(f'"{path}"', f'"{new}"')
            site.answers["/collection/"] = listed._replace(body=body)
        kept = plain[0]
        site.answers[kept] = site.answers[plain[5]]._replace(
            status=301, body="", location=origin + names[kept]
        )
        words = f"survey {origin}/ --as new --since before --pairs pairs.csv".split()
        found = surveyor.json(*words, code=1)
    states = {
        r["old"].removeprefix(origin): (r["new"].removeprefix(origin), r["state"])
        for r in found["renamings"]
    }
    assert states == {
        path: (new, "led there" if path == kept else "gone") for path, new in names.items()
    }
    assert (found["vanished"], found["appeared"]) == ([], [])
    with (surveyor.folder / "pairs.csv").open() as file:
        assert {
            r["old"].removeprefix(origin): r["new"].removeprefix(origin)
            for r in csv.DictReader(file)
        } == {p: n for p, n in names.items() if p != kept}
    assert (
        "have another address"
        in surveyor("survey", "--again", "last", "--since", "before", code=1).out
    )
