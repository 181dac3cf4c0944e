"""Requests in are requests counted: whatever the spellings, the kind of log, the order of lines,
and the files they stand in.
"""

from __future__ import annotations

import sqlite3
from collections import Counter
from collections.abc import Sequence
from pathlib import Path
from tempfile import TemporaryDirectory

import pytest
from hypothesis import given
from hypothesis import strategies as st

from conftest import NEW, OLD, Program
from counting import (
    BOT,
    KINDS,
    LISTS,
    OLDS,
    PERSON,
    WHO,
    WRITERS,
    Asked,
    combined,
    counted,
    facts,
    gathered,
    requests,
    w3c,
    write_log,
)
from ledgers import fresh_ledger
from properties import thorough
from upright_ledger.core.inventory.evidence import status_class
from upright_ledger.core.monitoring.deploy_days import span_of
from upright_ledger.formats.logs.counting import request_counts


def expected(asked: Sequence[Asked], kind: str) -> Counter[tuple[str, str, str]]:
    """(day, class of status, who asked) → requests, by nothing but counting."""
    who = lambda a: "people" if kind == "common" else WHO[a.agent]  # noqa: E731
    return Counter((f"2026-05-{a.day:02}", status_class(a.status), who(a)) for a in asked)


@thorough
@given(
    asked=LISTS,
    kind=KINDS,
    most=st.sampled_from([request_counts.MOST_IN_MEMORY, 3]),
    end=st.sampled_from(["\n", "\r\n", "\r"]),
)
def test_requests_in_are_requests_counted(
    asked: list[Asked], kind: str, most: int, end: str
) -> None:
    before, request_counts.MOST_IN_MEMORY = request_counts.MOST_IN_MEMORY, most
    try:
        with TemporaryDirectory() as held:
            ledger = fresh_ledger(OLDS, [NEW])
            damaged = ["x" if kind == "json" else "no line at all"] * (len(asked) % 3)
            file = write_log(
                Path(held) / "access.log", kind, [*WRITERS[kind](asked), *damaged], end
            )
            (source,) = gathered(ledger, [file])
            found = counted(ledger)
    finally:
        request_counts.MOST_IN_MEMORY = before
    assert found.total == expected(asked, kind)
    assert source.rejected == len(damaged)
    assert source.accepted == requests(*found.entries.values()).total()
    assert source.set_aside == requests(*found.aside.values()).total() + (kind == "w3c")
    by_class: Counter[str] = Counter()
    for (name, _), counts in found.aside.items():
        by_class[name] += requests(counts).total()
    assert {k: n for k, n in source.aside.items() if k != "blank"} == by_class


@pytest.mark.parametrize("kind", sorted(WRITERS))
def test_a_hundred_click_identifiers_are_a_hundred_hits(museum: Program, kind: str) -> None:
    asked = [Asked(f"/page?fbclid={n}") for n in range(100)]
    asked += [Asked(f"/reset?token={n}", agent=PERSON if n % 2 else BOT) for n in range(100)]
    asked += [Asked(f"/s.css?v={n}") for n in range(100)]
    source = museum.json("gather", write_log(museum.folder / "a.log", kind, WRITERS[kind](asked)))[
        "sources"
    ][0]
    assert facts(museum, "/page") == (100, 0)
    assert sum(facts(museum, "/reset?token=masked")) == 100
    assert source["set_aside_by_class"].get("furniture") == 100
    aside = museum.json("entries", "--aside", "furniture", "--limit", 0)["set_aside"]
    assert sum(u["hits"] for u in aside) == 100


@pytest.mark.parametrize("attack_first", [True, False])
def test_an_attack_on_a_page_is_no_hit_of_the_page(museum: Program, attack_first: bool) -> None:
    page = [Asked("/list.php")] * 3
    attack = [Asked("/list.php?cat=../../etc/passwd")] * 2
    asked = [*attack, *page] if attack_first else [*page, *attack]
    museum("gather", write_log(museum.folder / "a.log", "combined", combined(asked)))
    assert facts(museum, "/list.php") == (3, 0)
    (aside,) = museum.json("entries", "--aside", "probe")["set_aside"]
    assert (aside["hits"], aside["class"]) == (2, "probe")


def test_what_is_taken_back_keeps_its_query_and_its_hits(museum: Program) -> None:
    asked = [Asked(f"/default.asp?id={n % 50}", status=404) for n in range(150)]
    museum("gather", write_log(museum.folder / "a.log", "combined", combined([*asked, Asked("/")])))
    museum("fold", "--take-back", "probe")
    found = museum.json("entries", "--limit", 0)["entries"]
    assert len(found) == 51
    assert sum(e["hits"] for e in found) == 151


def test_a_page_that_a_list_names_has_the_hits_of_the_log_in_which_it_fails(
    museum: Program,
) -> None:
    museum("gather", museum.write("list.txt", "/default.asp\n"))
    asked = [Asked("/default.asp", status=404, host="quillhaven.example") for _ in range(30)] + [
        Asked("/backup.sql", status=404)
    ]
    source = museum.json(
        "gather", write_log(museum.folder / "a.log", "json", WRITERS["json"](asked))
    )["sources"][0]
    assert (source["accepted"], source["set_aside"]) == (30, 1)
    assert facts(museum, "/default.asp") == (30, 0)


BAD_DAYS = [
    "29/Feb/2026",
    "31/Feb/2026",
    "00/Nov/2026",
    "12/May/0000",
    "31/Apr/2026",
    "01/Jan/1970",
]


def test_a_day_that_does_not_exist_is_a_rejected_line(museum: Program) -> None:
    lines = combined([Asked("/a")] * len(BAD_DAYS) + [Asked("/good")])
    lines = [
        one.replace("03/May/2026", day)
        for one, day in zip(lines, [*BAD_DAYS, "03/May/2026"], strict=True)
    ]
    source = museum.json("gather", write_log(museum.folder / "a.log", "combined", lines))[
        "sources"
    ][0]
    assert (source["accepted"], source["rejected"], source["period"]) == (
        1,
        len(BAD_DAYS),
        ["2026-05-03", "2026-05-03"],
    )
    assert {r["reason"] for r in source["rejects"]} == {
        f"there is no such day: {day}" for day in BAD_DAYS[:5]
    }
    iso = ["2026-02-29", "2026-02-31", "2026-11-00", "0000-05-12", "2026-04-31", "1970-01-01"]
    for kind in ("w3c", "json"):
        lines = WRITERS[kind]([Asked("/a")] * len(iso) + [Asked("/good")])
        lines = [
            one.replace("2026-05-03", day)
            for one, day in zip(lines, [*iso, "2026-05-03"], strict=True)
        ]
        source = museum.json("gather", write_log(museum.folder / f"{kind}.log", kind, lines))[
            "sources"
        ][0]
        assert (source["accepted"], source["rejected"]) == (1, len(iso)), kind
    for command in ("balance", "entries", "check", "match", "triage", "retire"):
        museum(command, code=None)
    museum()
    assert (
        "the calendar has no 2026-02-30"
        in museum("gather", "a.log", "--period", "2026-02-01..2026-02-30", code=2).err
    )


def test_a_clock_that_runs_ahead_moves_no_week(museum: Program) -> None:
    asked = [Asked("/gone", status=404, day=day) for day in range(1, 10) for _ in range(20)]
    lines = combined(asked)
    lines[7] = lines[7].replace("01/May/2026", "09/May/9999")
    lines[8] = lines[8].replace("01/May/2026", "09/Aug/2026")
    source = museum.json("gather", write_log(museum.folder / "a.log", "combined", lines))[
        "sources"
    ][0]
    assert source["period"] == ["2026-05-01", "2026-05-09"]
    assert "2 lines are dated 2026-08-09, 9999-05-09" in source["notes"][0]
    entry = museum.json("entries", "/gone")
    assert entry["hits"] == 180
    assert entry["value"] == pytest.approx(180 * 30 / 9)
    found = museum.json("triage", code=1)["entries"][0]
    assert found["trend"] == 7 * 20 - (2 * 20 - 2)


@pytest.mark.parametrize(
    ("days", "span"),
    [
        ({}, ("", "")),
        ({"2026-05-03": 1}, ("2026-05-03", "2026-05-03")),
        ({"2026-05-03": 1, "9999-01-01": 1}, ("2026-05-03", "9999-01-01")),
        ({"2026-05-03": 50, "2026-05-04": 50, "9999-01-01": 1}, ("2026-05-03", "2026-05-04")),
        ({"2024-01-01": 2, "2026-05-03": 50, "2026-05-04": 50}, ("2026-05-03", "2026-05-04")),
        ({"2026-01-01": 50, "2026-05-03": 50}, ("2026-01-01", "2026-05-03")),
        ({"2026-03-01": 100_000, "2026-06-01": 500}, ("2026-03-01", "2026-06-01")),
        ({"2026-05-03": 100, "2026-05-04": 1}, ("2026-05-03", "2026-05-04")),
    ],
)
def test_the_span_of_days_is_what_most_requests_tell(
    days: dict[str, float], span: tuple[str, str]
) -> None:
    found = span_of(days, "2026-07-01")
    assert found[:2] == span
    assert sorted([*found.strays, *(d for d in days if span[0] <= d <= span[1])]) == sorted(days)


def test_retention_never_changes_what_counts(museum: Program) -> None:
    lines = [
        one.replace("/May/2026", "/May/2024")
        for one in combined([Asked("/older-page", status=404) for _ in range(100)])
    ]
    log = write_log(museum.folder / "a.log", "combined", lines)
    settings_file = museum.folder / "upright.toml"
    settings_file.write_text(settings_file.read_text().replace("lines = 400", "lines = 30"))
    museum("gather", log)
    for _ in range(2):
        museum("triage", "a.log", code=1)
        again = museum.json("gather", log)["sources"][0]
        assert again["known"]
        assert facts(museum, "/older-page") == (100, 0)
    grown = write_log(
        museum.folder / "b.log", "combined", [*lines, lines[0].replace("/older-page", "/more")]
    )
    said = museum("gather", grown).out
    assert "whose lines are not kept any more" in said
    assert facts(museum, "/older-page") == (100, 0)


def test_more_requests_than_fit_into_memory_are_counted_in_parts(museum: Program) -> None:
    asked = [
        Asked(f"/p{n % 700}", status=404 if n % 5 else 200, day=1 + n % 9) for n in range(3000)
    ]
    log = write_log(museum.folder / "a.log", "w3c", w3c(asked))
    source = museum.json("gather", log)["sources"][0]
    assert source["accepted"] == 3000


def as_before(program: Program, bad_day: str) -> None:
    """Make a ledger look as an earlier version left it: another digest of lines, and a day that
    does not exist.
    """
    with sqlite3.connect(program.folder / "ledger.db") as database:
        database.execute("DROP INDEX spellings_in_doubt")
        database.execute("ALTER TABLE spellings DROP COLUMN key")
        database.execute("UPDATE log_lines SET method = 'duckdb-0123456789abcdef'")
        database.execute(
            "UPDATE evidence SET days = days || ' ' || ? || ':1', last_day = ?, amount = amount + "
            "1",
            (bad_day, bad_day),
        )
        database.execute(
            "INSERT INTO log_lines SELECT source, ?, method, digests FROM log_lines LIMIT 1",
            (bad_day,),
        )
        database.execute("UPDATE sources SET period_end = ?", (bad_day,))
        database.execute("DROP INDEX answers_with_a_day")
        for table, column in _SINCE:
            database.execute(f"ALTER TABLE {table} DROP COLUMN {column}")
        for name in ("evidence_by_source", "destinations_by_key"):
            database.execute(f"DROP INDEX {name}")
        for name in ("entry_lines", "kept", "silent", "shared", "lent"):
            database.execute(f"DROP TABLE {name}")
        database.execute("DELETE FROM migrations WHERE number >= 9")


_SINCE = (
    ("builds", "wave"),
    ("builds", "sections"),
    ("sources", "asked"),
    *(("answers", name) for name in ("confidence", "author", "reasons", "runner_up", "until")),
    *(("runs", name) for name in ("owner", "held_until", "asked")),
)
"""What later versions added."""


def test_a_ledger_of_an_earlier_version_doubles_nothing_and_is_mended(museum: Program) -> None:
    asked = [Asked("/a", day=day) for day in (3, 4, 5)] + [Asked("/backup.sql", status=404)]
    log = write_log(museum.folder / "a.log", "combined", combined(asked))
    museum("gather", log)
    as_before(museum, "2026-05-32")
    said = museum("balance", code=None).err
    assert "(2026-05-32) were taken out of the evidence" in said
    assert "none counts again" in said
    assert facts(museum, "/a") == (4, 0)
    assert museum.json("gather", log)["sources"][0]["known"]
    assert facts(museum, "/a") == (4, 0)
    museum("gather", museum.write("list.txt", "/backup.sql\n"))
    assert facts(museum, "/backup.sql") == (2, 0)
    museum("undo", "2")
    for command in ("entries", "check", "match", "triage", "retire"):
        museum(command, code=None)
    assert {s["command"] for s in museum.json("history")["steps"]} == {
        "open",
        "gather",
        "migrate",
        "undo",
    }


def test_values_that_were_left_out_of_logs_are_said_to_be_gone(museum: Program) -> None:
    asked = [Asked(f"/story.php?oscsid={n % 3}") for n in range(9)]
    museum("gather", write_log(museum.folder / "a.log", "combined", combined(asked)))
    museum(
        "gather",
        write_log(museum.folder / "plain.log", "combined", combined([Asked("/plain", day=4)])),
    )
    said = museum("fold", "--significant", "/story.php=oscsid").out
    assert "The values of oscsid are not known from a.log (step 2)" in said
    assert "plain.log" not in said
    museum("undo", "--step", "2")
    museum("gather", "a.log")
    assert {e["hits"] for e in museum.json("entries", "/story*")["entries"]} == {3}


def test_page_assets_are_set_aside_unless_others_lead_to_them(museum: Program) -> None:
    own = "http://www.quillhaven.example/page"
    asked = [
        Asked(p, referrer=own)
        for p in (
            "/img/tower.png",
            "/img/logo.png",
            "/robots.txt",
            "/apple-touch-icon.png",
            "/favicon.ico",
            "/page",
        )
    ]
    asked += [
        Asked("/img/famous.png", referrer="http://partner.example/p"),
        Asked("/img/linked.jpg", status=404, referrer=own),
    ]
    museum("gather", write_log(museum.folder / "a.log", "combined", combined(asked)))
    assert {e["legacy_url"].removeprefix(OLD) for e in museum.json("entries")["entries"]} == {
        "/page",
        "/img/famous.png",
    }
    aside = {
        u["url"].removeprefix(OLD): u["class"]
        for u in museum.json("entries", "--aside", "all")["set_aside"]
    }
    assert aside["/robots.txt"] == aside["/img/logo.png"] == aside["/img/tower.png"] == "page asset"
    museum(
        "gather",
        museum.write("links.csv", "url,linking domains\n/img/linked.jpg,3\n"),
        museum.write("list.txt", "/img/tower.png\n/robots.txt\n"),
    )
    named = {"/page", "/img/famous.png", "/img/linked.jpg", "/img/tower.png"}
    assert {e["legacy_url"].removeprefix(OLD) for e in museum.json("entries")["entries"]} == named
    run = museum.json("rehearse", "a.log", code=None)
    assert run["left_out"]["page asset"] == 3
    museum("undo")
    museum("undo")
    assert {e["legacy_url"].removeprefix(OLD) for e in museum.json("entries")["entries"]} == {
        "/page",
        "/img/famous.png",
    }
    museum("fold", "--take-back", "page asset")
    assert facts(museum, "/robots.txt") == (1, 0)
