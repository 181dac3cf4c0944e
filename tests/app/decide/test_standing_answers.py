"""Answers that want to be looked at again: on a day, or because what ends is in use."""

from __future__ import annotations

import sqlite3
from contextlib import closing

import pytest

from conftest import NEW, OLD, Program

LATER = "2099-05-01"


@pytest.fixture
def listed(museum: Program) -> Program:
    museum.write(
        "figures.csv", f"url,hits,clicks,backlinks\n{OLD}/used,30,4,0\n{OLD}/linked,0,0,2\n"
    )
    museum.write("old.txt", f"{OLD}/lonely\n{OLD}/shop/a\n{OLD}/shop/b\n")
    museum("gather", "figures.csv", "old.txt")
    return museum


def let_days_come(program: Program, day: str = "2026-01-02") -> None:
    """As if the days of all answers were past."""
    with closing(sqlite3.connect(program.folder / "ledger.db")) as database:
        database.execute("UPDATE answers SET until = ? WHERE until <> ''", (day,))
        database.commit()


def kinds(program: Program) -> dict[str, dict[str, object]]:
    found = program.json("check", code=None)["findings"]
    return {
        f["kind"]: f for f in found if f["kind"] in {"gone-with-links", "review-due", "temporary"}
    }


def test_what_ends_though_others_link_to_it_is_a_warning(listed: Program) -> None:
    listed("decide", "/used", "--keep")
    listed("decide", "--section", "", "--gone")
    told = kinds(listed)["gone-with-links"]
    assert (told["severity"], told["legacy_url"]) == ("warning", f"{OLD}/linked")
    assert "others link to it: 2 links" in str(told["detail"])
    assert listed("check", code=1)
    # Somebody who says it of just that address has seen it.
    listed("decide", "/linked", "--gone")
    assert kinds(listed)["gone-with-links"]["severity"] == "note"
    listed("check")
    listed("decide", "/linked", "--to", "/shop/")
    assert kinds(listed) == {}


def test_what_ends_though_people_ask_for_it_is_a_note(listed: Program) -> None:
    listed("decide", "/{+rest}", "--gone")
    found = listed.json("check", code=1)["findings"]
    told = {f["legacy_url"]: f for f in found if f["kind"] == "gone-with-links"}
    assert told[f"{OLD}/used"]["severity"] == "note"
    assert "30 hits, 4 clicks" in told[f"{OLD}/used"]["detail"]
    assert told[f"{OLD}/linked"]["severity"] == "warning"
    assert f"{OLD}/lonely" not in told


def test_a_move_for_a_time_can_be_meant_until_a_day(listed: Program) -> None:
    listed.pairs("/used,/shop/,302")
    listed("decide", "--from", "pairs.csv")
    assert kinds(listed)["temporary"]["severity"] == "warning"
    listed("decide", "--from", "pairs.csv", "--until", LATER)
    assert kinds(listed) == {}
    listed("check")
    # The same sheet again leaves the day as it is; another answer has none.
    listed("decide", "--from", "pairs.csv")
    (dated,) = listed.json("balance")["until"]
    assert dated == {"legacy_url": f"{OLD}/used", "answer": "temporary",
        "destination": f"{NEW}/shop/", "day": LATER, "due": False}  # fmt: skip
    assert f"1 answer to look at again later, the next on {LATER}." in listed("balance").out
    assert listed.json("entries", "/used")["until"] == LATER
    assert f"to be looked at again on {LATER}" in listed("entries", "/used").out
    listed("undo")
    listed("undo")
    assert listed.json("balance")["until"] == []
    listed("undo")
    listed("decide", "/used", "--to", "/shop/")
    assert listed.json("balance")["until"] == []


def test_an_answer_is_named_when_its_day_has_come(listed: Program) -> None:
    file = listed.folder / "upright.toml"
    file.write_text(file.read_text().replace("\n[value]", 'shop = "/shop/*"\n\n[value]'))
    listed("decide", "/used", "--gone", "--until", LATER)
    listed("decide", "--section", "shop", "--gone", "--until", LATER)
    listed("decide", "/lonely", "--keep", "--until", "2099-04-01")
    listed("decide", "/linked", "--to", "/shop/")
    assert "review-due" not in kinds(listed)
    listed.write("access.log", "")
    listed("triage", "--new", "access.log")
    let_days_come(listed)
    told = kinds(listed)["review-due"]
    assert (told["severity"], told["destination"]) == ("warning", "")
    assert "on 2026-01-02" in str(told["detail"])
    listed("check", code=1)
    assert listed.json("balance")["next"]["command"] == "upright check"
    assert [d["due"] for d in listed.json("balance")["until"]] == [True] * 4
    out = listed("balance").out
    assert "answers to look at again" in out
    assert "/lonely" in out
    # From cron it is said once.
    out = listed("triage", "--new", "access.log", code=1).out
    assert "4 addresses have an answer to look at again: its day has come:" in out
    assert listed("triage", "--new", "access.log").out == ""
    # To decide the same again is to have looked at it.
    for chosen in (("/used",), ("--section", "shop"), ("/lonely",)):
        listed("decide", *chosen, "--keep" if "/lonely" in chosen else "--gone")
    assert "review-due" not in kinds(listed)
    assert listed.json("balance")["until"] == []


def test_a_day_is_one_to_come_and_belongs_to_entries(listed: Program) -> None:
    assert (
        "is not to come" in listed("decide", "/used", "--gone", "--until", "2020-01-01", code=2).err
    )
    listed("decide", "/used", "--gone", "--until", "soon", code=2)
    assert (
        "a template has no day"
        in listed("decide", "/shop/{+rest}", "--gone", "--until", LATER, code=2).err
    )


def test_a_day_moves_with_its_answer_when_entries_are_folded_anew(listed: Program) -> None:
    listed("decide", "/used", "--gone", "--until", LATER)
    listed("fold", "--case", "exact")
    assert [d["day"] for d in listed.json("balance")["until"]] == [LATER]


def test_a_sheet_may_give_each_answer_its_day(museum: Program) -> None:
    museum.write(
        "pairs.csv",
        "old,new,status,review on\n"
        "/sale.html,/shop/,302,2099-05-31\n"
        "/hours.html,/visit/,301,\n"
        "/late.html,/visit/,301,2001-01-01\n"
        "/odd.html,/visit/,301,someday\n"
        "/two.html,/visit/,301,3/4/2099\n",
    )
    found = museum.json("decide", "--from", "pairs.csv", "--as-given", code=1)
    assert found["columns"]["until"] == "review on"
    assert [(r["row"], r["reason"].partition(":")[0]) for r in found["refused"]] == [
        (4, "2001-01-01 is not to come"),
        (5, "'someday' is no day"),
        (6, "'3/4/2099' may be 2099-04-03 or 2099-03-04"),
    ]
    assert "2099-05-31" in museum("entries", "/sale.html").out
    assert "2099" not in museum("entries", "/hours.html").out
    assert "temporary" not in {f["kind"] for f in museum.json("check", code=None)["findings"]}


@pytest.mark.parametrize("written", ["4/3/2099", "3/4/2099", "03.04.2099", "2099-04-03 00:00:00"])
def test_a_day_that_a_spreadsheet_wrote_anew_changes_nothing(listed: Program, written: str) -> None:
    listed("decide", "/used", "--gone", "--until", "2099-04-03")
    listed("review", "--out", "sheet.csv")
    sheet = (listed.folder / "sheet.csv").read_text("utf-8-sig")
    assert sheet.count("2099-04-03") == 1
    listed.write("sheet.csv", sheet.replace("2099-04-03", written))
    found = listed.json("review", "--in", "sheet.csv")
    assert found["refused"] == []
    assert [d["day"] for d in listed.json("balance")["until"]] == ["2099-04-03"]
