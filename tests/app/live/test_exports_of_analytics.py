"""Triage of exports of analytics: visits by source, and the campaigns that lead to nothing."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import openpyxl

from conftest import NEW, OLD, Program

HEAD = "Page path and query string,Session source / medium,Page title,Sessions,Views\n"
LOST = "Page not found | Quillhaven"
ROWS = (
    "/poster.html?utm_source=letter&utm_medium=email&utm_campaign=spring-days,letter / email,"
    f"{LOST},120,130\n"
    f"/poster.html?gclid=abc123,seek / cpc,{LOST},80,85\n"
    f"/clock.html,seek / organic,{LOST},55,60\n"
    f"/clock.html,(not set),{LOST},12,12\n"
    f"/clock.html,(direct) / (none),{LOST},9,9\n"
    f"/clock.html,club.example / referral,{LOST},4,4\n"
    "/visit/hours.html,seek / organic,Opening hours | Quillhaven,40,44\n"
    "(not set),(not set),(not set),3,3\n"
)


def came_of(found: Any, path: str) -> dict[tuple[str, str], float]:
    (entry,) = (e for e in found["entries"] if e["legacy_url"] == f"{OLD}{path}")
    return {(c["origin"], c["whence"]): round(c["requests"], 6) for c in entry["came"]}


def test_sessions_are_told_by_source_and_campaign(museum: Program) -> None:
    museum.write("visits.csv", HEAD + ROWS)
    found = museum.json("triage", "visits.csv", code=1)
    assert {e["legacy_url"].removeprefix(OLD): e["lost"] for e in found["entries"]} == {
        "/poster.html": 200,
        "/clock.html": 80,
    }
    assert came_of(found, "/poster.html") == {
        ("campaign", "spring-days (letter / email)"): 120,
        ("campaign", "seek / cpc (gclid)"): 80,
    }
    assert came_of(found, "/clock.html") == {
        ("search engine", "seek / organic"): 55,
        ("not told", ""): 12,
        ("direct", ""): 9,
        ("another site", "club.example / referral"): 4,
    }
    assert not any("hours" in e["legacy_url"] for e in museum.json("entries")["entries"])


def test_owners_get_the_list_of_their_lost_campaigns(museum: Program) -> None:
    museum.write("visits.csv", HEAD + ROWS)
    museum.pairs(f"{OLD}/poster.html,{NEW}/prints/poster/,301,")
    museum("decide", "--from", "pairs.csv", "--as-given")
    said = museum("triage", "visits.csv", "--out", "lost.xlsx", code=1).out
    assert "120         1   spring-days (letter / email)" in said
    assert f"to  {NEW}/prints/poster/" in said
    sheet = openpyxl.load_workbook(museum.folder / "lost.xlsx")["campaigns"]
    head, *rows = sheet.iter_rows(values_only=True)
    assert head == ("campaign", "lost", "legacy_url", "lost_there", "page")
    page = f"{NEW}/prints/poster/"
    assert rows == [
        ("spring-days (letter / email)", 120, f"{OLD}/poster.html", 120, page),
        ("seek / cpc (gclid)", 80, f"{OLD}/poster.html", 80, page),
    ]


def test_visits_of_before_the_fix_are_left_out(museum: Program) -> None:
    museum.pairs(f"{OLD}/poster.html,{NEW}/prints/poster/,301,")
    museum("decide", "--from", "pairs.csv", "--as-given")
    museum("build", "--for", "nginx", "--out", "rules")
    museum("handover", "rules", "--given")
    museum("handover", "rules", "--live", "--at", "2026-05-10T03:00")
    head = "Date,Page path,Session source / medium,Page title,Sessions\n"
    museum.write(
        "visits.csv",
        head
        + f"2026-05-04,/poster.html,letter / email,{LOST},90\n"
        + f"2026-05-14,/poster.html,seek / organic,{LOST},7\n",
    )
    found = museum.json("triage", "visits.csv", code=1)
    (entry,) = found["entries"]
    assert (entry["failed"], entry["lost"]) == (97, 7)
    assert sum(came_of(found, "/poster.html").values()) == 7


def test_a_list_without_a_word_of_errors_lists_errors(museum: Program) -> None:
    museum.write("errors.csv", "url,title,hits\n/a.html,Prices,3\n/b.html,Hours,4\n")
    found = museum.json("triage", "errors.csv", code=1)
    assert {e["legacy_url"] for e in found["entries"]} == {f"{OLD}/a.html", f"{OLD}/b.html"}


def test_what_answered_with_success_does_not_fail(museum: Program) -> None:
    museum.write("crawl.csv", "url,status\n/a.html,200\n/b.html,404\n/c.html,503\n")
    found = museum.json("triage", "crawl.csv", code=1)
    assert {e["legacy_url"] for e in found["entries"]} == {f"{OLD}/b.html", f"{OLD}/c.html"}


def log(tmp: Program, *rows: tuple[str, str]) -> Path:
    agent = "Mozilla/5.0 (X11; Linux x86_64; rv:128.0) Gecko/20100101 Firefox/128.0"
    return tmp.write(
        "access.log",
        "".join(
            f'198.51.100.{n} - - [12/May/2026:10:00:{n:02} +0000] "GET {path} HTTP/1.1" 404 5 '
            f'"{referrer}" "{agent}"\n'
            for n, (path, referrer) in enumerate(rows)
        ),
    )


def test_logs_tell_which_campaign_is_lost(museum: Program) -> None:
    file = museum.folder / "upright.toml"
    file.write_text(file.read_text().replace("tracking = [", 'tracking = ["code", '))
    log(
        museum,
        ("/poster.html?utm_campaign=open%20day&utm_medium=print&utm_source=flyer", "-"),
        ("/poster.html?code=K17", "-"),
        ("/poster.html?code=K17", "https://club.example/"),
        ("/poster.html?fbclid=xyz", "https://social.example/"),
        ("/poster.html", "-"),
    )
    found = museum.json("triage", "access.log", code=1)
    assert [(c["name"], c["requests"]) for c in found["campaigns"]] == [
        ("code=K17", 2),
        ("fbclid", 1),
        ("open day (flyer / print)", 1),
    ]
    assert came_of(found, "/poster.html")[("direct", "")] == 1
