"""Review by sheet: written, filled in as people do, read back."""

from __future__ import annotations

import csv
import io
import zipfile
from pathlib import Path
from typing import Any

import pytest
import xlsxwriter
from python_calamine import CalamineWorkbook

from conftest import NEW, OLD, Program

PAGES = (
    "brass-dial",
    "oak-bell",
    "slate-gong",
    "gilt-case",
    "elm-hand",
    "ash-pendulum",
    "yew-striking-train",
)


@pytest.fixture
def waiting(museum: Program) -> Program:
    """A ledger with proposals, none of them accepted."""
    rows = "".join(f"/stories/{name}.html,{1000 - n},{n}\n" for n, name in enumerate(PAGES))
    museum.write(
        "old.csv",
        "url,clicks,linking domains\n"
        + rows
        + "/lost/xylophone.html,3,0\n/lost/quartz.html,0,0\n/lost/zither.html,0,2\n",
    )
    museum.write(
        "stock.csv",
        "url,title\n"
        + "".join(f"{NEW}/journal/{name}/,{name.replace('-', ' ')}\n" for name in PAGES),
    )
    museum("gather", "old.csv")
    museum("stock", "stock.csv")
    museum("match", "--accept-above", "1.01")
    return museum


def read(path: Path) -> list[dict[str, Any]]:
    """The rows of a sheet, whatever its format."""
    if path.suffix == ".csv":
        return list(csv.DictReader(path.open(encoding="utf-8")))
    header, *rows = CalamineWorkbook.from_path(str(path)).get_sheet_by_index(0).to_python()
    return [dict(zip(map(str, header), row, strict=True)) for row in rows]


def save(path: Path, rows: list[dict[str, Any]]) -> None:
    """Write rows as a spreadsheet program would."""
    if path.suffix == ".csv":
        out = io.StringIO()
        writer = csv.DictWriter(out, list(rows[0]), delimiter=";", lineterminator="\r\n")
        writer.writeheader()
        writer.writerows(rows)
        path.write_text("\ufeff" + out.getvalue(), encoding="utf-8")
        return
    book = xlsxwriter.Workbook(str(path))
    sheet = book.add_worksheet()
    sheet.write_row(0, 0, list(rows[0]))
    for n, row in enumerate(rows, 1):
        sheet.write_row(n, 0, list(row.values()))
    book.close()


def edited(program: Program, name: str, changes: dict[str, dict[str, Any]]) -> Path:
    """A sheet written by the program, in which somebody changed cells: path of the old page →
    column → value.
    """
    path = program.folder / name
    program("review", "--out", name)
    rows = read(path)
    for row in rows:
        row.update(changes.get(str(row["legacy_url"]).removeprefix(OLD), {}))
    save(path, rows)
    return path


def answers(program: Program) -> dict[str, tuple[str, str]]:
    """Old path → answer and destination."""
    entries = program.json("entries", "--limit", 0)["entries"]
    return {
        e["legacy_url"].removeprefix(OLD): (e["answer"], e["destination"].removeprefix(NEW))
        for e in entries
    }


@pytest.mark.parametrize("name", ["sheet.xlsx", "sheet.csv"])
def test_a_sheet_that_nobody_touched_changes_nothing(waiting: Program, name: str) -> None:
    waiting("decide", "/stories/oak-bell.html", "--to", "/journal/oak-bell/", "--status", "308")
    waiting("decide", "/lost/quartz.html", "--gone")
    steps = len(waiting.json("history")["steps"])
    edited(waiting, name, {})
    result = waiting.json("review", "--in", name)
    assert (result["rows"], result["unchanged"], result["posted"]) == (10, 10, False)
    assert len(waiting.json("history")["steps"]) == steps


@pytest.mark.parametrize("name", ["sheet.xlsx", "sheet.csv"])
def test_decisions_come_back_as_one_step(waiting: Program, name: str) -> None:
    before = answers(waiting)
    changes = {
        "/stories/brass-dial.html": {"answer": "move"},
        "/stories/oak-bell.html": {"answer": "Temporary"},
        "/stories/slate-gong.html": {
            "answer": "move",
            "destination": "/journal/gilt-case/",
            "status": 308,
        },
        "/stories/gilt-case.html": {
            "destination": f"{NEW}/journal/elm-hand/"
        },  # typed, the answer left as it was
        "/stories/elm-hand.html": {"answer": "keep", "note": "asked the client; =1+1"},
        "/stories/ash-pendulum.html": {"answer": "wanted"},
        "/lost/xylophone.html": {"answer": "gone"},
        "/lost/quartz.html": {"answer": "ignore"},
    }
    edited(waiting, name, changes)
    shown = waiting("review", "--in", name, "--dry-run").out
    assert "8 answers would be posted" in shown
    assert answers(waiting) == before
    result = waiting.json("review", "--in", name)
    assert (len(result["added"]), result["typed"], result["unchanged"], result["refused"]) == (
        8,
        1,
        2,
        [],
    )
    assert answers(waiting) == before | {
        "/stories/brass-dial.html": ("move", "/journal/brass-dial/"),
        "/stories/oak-bell.html": ("temporary", "/journal/oak-bell/"),
        "/stories/slate-gong.html": ("move", "/journal/gilt-case/"),
        "/stories/gilt-case.html": ("move", "/journal/elm-hand/"),
        "/stories/elm-hand.html": ("keep", ""),
        "/stories/ash-pendulum.html": ("wanted", ""),
        "/lost/xylophone.html": ("gone", ""),
        "/lost/quartz.html": ("ignore", ""),
    }
    waiting("review", "--out", f"again-{name}")
    again = {
        str(r["legacy_url"]).removeprefix(OLD): r for r in read(waiting.folder / f"again-{name}")
    }
    assert again["/stories/elm-hand.html"]["note"] == "asked the client; =1+1"
    assert int(again["/stories/slate-gong.html"]["status"]) == 308
    assert waiting.json("review", "--in", f"again-{name}")["unchanged"] == 10
    waiting("undo")
    assert answers(waiting) == before


def test_an_answer_can_be_changed_and_taken_back(waiting: Program) -> None:
    waiting("decide", "/stories/oak-bell.html", "--to", "/journal/oak-bell/")
    waiting("decide", "/lost/quartz.html", "--gone")
    edited(
        waiting,
        "sheet.xlsx",
        {"/stories/oak-bell.html": {"answer": "open"}, "/lost/quartz.html": {"answer": "ignore"}},
    )
    result = waiting.json("review", "--in", "sheet.xlsx")
    assert (
        [c["before"] for c in result["reopened"]],
        [c["answer"] for c in result["changed"]],
    ) == (["move"], ["ignore"])
    assert answers(waiting)["/stories/oak-bell.html"] == ("open", "")


def test_two_people_do_not_overrun_each_other(waiting: Program) -> None:
    edited(
        waiting,
        "mine.xlsx",
        {
            "/stories/oak-bell.html": {"answer": "gone"},
            "/stories/brass-dial.html": {"answer": "move"},
        },
    )
    edited(
        waiting,
        "theirs.csv",
        {"/stories/oak-bell.html": {"answer": "move"}, "/lost/quartz.html": {"answer": "gone"}},
    )
    waiting("review", "--in", "theirs.csv")
    result = waiting.json("review", "--in", "mine.xlsx", code=1)
    assert [c["legacy_url"] for c in result["conflicts"]] == [f"{OLD}/stories/oak-bell.html"]
    assert "answered since" in result["conflicts"][0]["reason"]
    now = answers(waiting)
    # Their answers stand, mine that touch nothing of theirs are posted, and rows that I left alone
    # take nothing back.
    assert (
        now["/stories/oak-bell.html"][0],
        now["/stories/brass-dial.html"][0],
        now["/lost/quartz.html"][0],
    ) == ("move", "move", "gone")


def test_what_cannot_be_used_is_named_by_row(waiting: Program) -> None:
    rows = [
        {"legacy_url": "/stories/brass-dial.html", "answer": "perhaps"},
        {"legacy_url": "/never/seen", "answer": "gone"},
        {"legacy_url": "/stories/oak-bell.html", "answer": "move"},
        {
            "legacy_url": "/stories/slate-gong.html",
            "answer": "move",
            "destination": "https://elsewhere.example/",
        },
        {
            "legacy_url": "/stories/gilt-case.html",
            "answer": "move",
            "destination": "/journal/gilt-case/",
            "status": "404",
        },
        {
            "legacy_url": "/stories/elm-hand.html",
            "answer": "temporary",
            "destination": "/journal/elm-hand/",
            "status": "308",
        },
        {"legacy_url": "/lost/quartz.html", "answer": "gone"},
        {"legacy_url": "/lost/quartz.html", "answer": "ignore"},
        {"legacy_url": "https://elsewhere.example/a", "answer": "gone"},
    ]
    save(
        waiting.folder / "own.xlsx",
        [{"legacy_url": "", "answer": "", "destination": "", "status": ""} | row for row in rows],
    )
    result = waiting.json("review", "--in", "own.xlsx", code=1)
    assert [r["row"] for r in result["refused"]] == [2, 3, 4, 5, 6, 7, 9, 10]
    assert [c["row"] for c in result["added"]] == [8]
    assert answers(waiting)["/lost/quartz.html"][0] == "gone"
    text = waiting("review", "--in", "own.xlsx", code=1).out
    assert "row 2: 'perhaps' is no answer" in text


def test_a_workbook_runs_nothing_and_helps_to_fill_in(museum: Program) -> None:
    museum.write("old.csv", 'url,title\n"/a?=cmd","=1+1"\n"/@sum(1)","+2"\n')
    museum.write("stock.csv", f'url,title\n{NEW}/sum/,"=HYPERLINK(""x"")"\n')
    museum("gather", "old.csv")
    museum("stock", "stock.csv")
    museum("match")
    museum("review", "--out", "sheet.xlsx")
    with zipfile.ZipFile(museum.folder / "sheet.xlsx") as book:
        xml = book.read("xl/worksheets/sheet1.xml").decode()
    assert "<f>" not in xml
    for part in (
        'state="frozen"',
        "<autoFilter",
        "<dataValidation",
        "<conditionalFormatting",
        "<hyperlink",
    ):
        assert part in xml
    assert "move,temporary,gone,keep,wanted,ignore,open" in xml


def test_the_most_valuable_come_first_and_filters_hold(waiting: Program) -> None:
    waiting("review", "--out", "sheet.csv")
    rows = read(waiting.folder / "sheet.csv")
    assert [float(r["value"]) for r in rows] == sorted(
        (float(r["value"]) for r in rows), reverse=True
    )
    assert set(rows[0]) >= {
        "site",
        "legacy_url",
        "section",
        "value",
        "hits",
        "links",
        "destination",
        "confidence",
        "reason",
        "choice_2",
        "answer",
        "status",
        "note",
    }
    by_url = {r["legacy_url"].removeprefix(OLD): r for r in rows}
    assert 0 < float(by_url["/stories/oak-bell.html"]["confidence"]) <= 1
    assert "gone (410)" in by_url["/lost/quartz.html"]["reason"]
    assert "links" in by_url["/lost/zither.html"]["reason"]
    waiting("decide", "/lost/quartz.html", "--gone")
    assert waiting.json("review", "--out", "open.csv", "--answer", "open")["entries"] == 9
    assert len(read(waiting.folder / "open.csv")) == 9


@pytest.mark.parametrize(
    ("arguments", "code", "said"),
    [
        (("--out", "a.csv", "--in", "b.csv"), 2, "contradict"),
        (("--out", "sheet.pdf"), 2, "has no ending that is known"),
        (("--in", "missing.xlsx"), 3, "missing.xlsx"),
        (("--in", "old.csv"), 3, "no sheet of upright review"),
    ],
)
def test_wrong_use_is_one_sentence(
    waiting: Program, arguments: tuple[str, ...], code: int, said: str
) -> None:
    assert said in waiting("review", *arguments, code=code).err


def test_a_reviewed_sample_supports_or_corrects_the_estimate(museum: Program) -> None:
    names = [
        f"{a}-{b}-{c}"
        for a in ("brass", "oak", "slate", "gilt")
        for b in ("dial", "bell", "gong", "case")
        for c in ("of-york", "from-bath", "near-kent")
    ]
    museum.write("old.txt", "".join(f"/stories/{n}.html\n" for n in names))
    museum.write("stock.csv", "url\n" + "".join(f"{NEW}/journal/{n}/\n" for n in names))
    museum("gather", "old.txt")
    museum("stock", "stock.csv")
    first = museum.json("match")
    assert first["accepted"] > 40
    assert (first["estimated"], first["sample"]) == (True, {"reviewed": 0, "wrong": 0})
    museum("review", "--out", "sample.xlsx", "--sample", 30)
    museum("review", "--out", "again.xlsx", "--sample", 30)
    rows = read(museum.folder / "sample.xlsx")
    assert rows == read(museum.folder / "again.xlsx")
    assert len(rows) == 30
    for row in rows[:25]:
        row["reviewed"] = "yes"
    rows[25].update(answer="gone", reviewed="yes")
    save(museum.folder / "sample.xlsx", rows)
    result = museum.json("review", "--in", "sample.xlsx")
    assert (len(result["confirmed"]), len(result["changed"]), result["unchanged"]) == (25, 1, 4)
    museum.write("more.txt", "/stories/oak-dial-of-yorck.html\n")
    museum("gather", "more.txt")
    after = museum.json("match")
    assert after["sample"] == {"reviewed": 26, "wrong": 1}
    assert after["estimated"]  # one of 26 allows far more than 1 %
    assert museum.json("review", "--in", "sample.xlsx")["posted"] is False
    assert (
        "no proposal that match accepted"
        in museum("review", "--out", "x.csv", "--sample", 5, "--site", "none.example", code=2).err
    )


def days(program: Program) -> dict[str, str]:
    """Old path → the day on which its answer is to be looked at again."""
    return {d["legacy_url"].removeprefix(OLD): d["day"] for d in program.json("balance")["until"]}


@pytest.mark.parametrize("name", ["sheet.xlsx", "sheet.csv"])
def test_a_sheet_says_when_an_answer_is_looked_at_again(waiting: Program, name: str) -> None:
    oak, elm = "/stories/oak-bell.html", "/stories/elm-hand.html"
    waiting("decide", elm, "--to", "/journal/elm-hand/", "--until", "2099-01-31")
    changes = {oak: {"answer": "move", "until": "31.05.2099"}, "/lost/quartz.html": {"until": "x"}}
    path = edited(waiting, name, changes)
    found = waiting.json("review", "--in", path.name, code=1)
    assert [r["reason"] for r in found["refused"]] == ["'x' is no day: write it as in 2027-05-31"]
    assert days(waiting) == {elm: "2099-01-31", oak: "2099-05-31"}
    cleared = edited(waiting, f"again-{name}", {elm: {"until": ""}})
    assert len(waiting.json("review", "--in", cleared.name)["changed"]) == 1
    assert days(waiting) == {oak: "2099-05-31"}
    # An older sheet does not take back a day that somebody gave since.
    waiting("decide", oak, "--to", "/journal/oak-bell/", "--until", "2099-06-30")
    assert len(waiting.json("review", "--in", path.name, code=1)["conflicts"]) == 1
    assert days(waiting) == {oak: "2099-06-30"}


def test_a_day_needs_an_answer_and_is_one_to_come(waiting: Program) -> None:
    wrong = {
        "/lost/quartz.html": {"until": "2099-01-01"},
        "/lost/zither.html": {"answer": "gone", "until": "2020-01-01"},
    }
    path = edited(waiting, "sheet.csv", wrong)
    found = waiting.json("review", "--in", path.name, code=1)
    assert {r["reason"].partition(":")[0] for r in found["refused"]} == {
        "2099-01-01 is the day of an answer, and the row has none",
        "2020-01-01 is not to come",
    }
    # A sheet of before, without that column, leaves the days as they are.
    waiting("decide", "/lost/quartz.html", "--gone", "--until", "2099-01-31")
    waiting("review", "--out", "older.csv")
    rows = read(waiting.folder / "older.csv")
    for row in rows:
        del row["until"]
        if row["legacy_url"].endswith("quartz.html"):
            row["note"] = "as the owner wants it"
    save(waiting.folder / "older.csv", rows)
    assert len(waiting.json("review", "--in", "older.csv")["changed"]) == 1
    assert days(waiting) == {"/lost/quartz.html": "2099-01-31"}
