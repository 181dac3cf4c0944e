"""Sheets as people leave them: notes, formulas and torn rows where addresses are asked for."""

from __future__ import annotations

import pytest

from conftest import NEW, OLD, Program

NOTES = ("TBD", "n/a", "siehe Kommentar", "??", "#REF!", "=A2", f"{NEW}/a oder {NEW}/b", "-")
MEANT = {
    f"<{NEW}/visit/>": f"{NEW}/visit/",
    f'"=HYPERLINK(""{NEW}/visit/"";""Besuch"")"': f"{NEW}/visit/",
    NEW.partition("://")[2]: f"{NEW}/",
    "visit/hours.html": f"{NEW}/visit/hours.html",
}


def test_notes_beside_old_addresses_are_no_answers(museum: Program) -> None:
    rows = [f"/n{n};{note}" for n, note in enumerate(NOTES)]
    museum.write("pairs.csv", "\n".join(["old;new", *rows, "/sound;/sound"]))
    found = museum.json("decide", "--from", "pairs.csv", code=1)
    assert found["posted"] == 1
    assert [r["row"] for r in found["refused"]] == list(range(2, 2 + len(NOTES)))
    assert {e["legacy_url"] for e in museum.json("entries")["entries"]} == {f"{OLD}/sound"}
    for note in (n for n in NOTES if n not in {"n/a", "-"}):
        assert "cannot be used" in museum("decide", "/a", "--to", note, code=2).err


def test_a_note_beside_an_answer_that_leads_nowhere_is_no_matter(museum: Program) -> None:
    museum.write("pairs.csv", "old,new,status\n/a,no successor,410\n/b,later?,keep\n/c,??,gone\n")
    museum("decide", "--from", "pairs.csv")
    answers = {e["legacy_url"]: e["answer"] for e in museum.json("entries")["entries"]}
    assert answers == {f"{OLD}/a": "gone", f"{OLD}/b": "keep", f"{OLD}/c": "gone"}


def test_addresses_in_wrappings_are_read_as_meant(museum: Program) -> None:
    rows = [f"/m{n};{cell}" for n, cell in enumerate(MEANT)]
    museum.write("pairs.csv", "\n".join(["old;new", *rows]))
    museum("decide", "--from", "pairs.csv")
    answers = {e["legacy_url"]: e["destination"] for e in museum.json("entries")["entries"]}
    assert answers == {f"{OLD}/m{n}": meant for n, meant in enumerate(MEANT.values())}


@pytest.mark.parametrize("mark", [",", ";", "\t"])
def test_a_torn_row_is_said_and_nothing_of_it_is_used(museum: Program, mark: str) -> None:
    def sheet(name: str, *rows: tuple[str, ...]) -> str:
        museum.write(name, "\n".join(mark.join(row) for row in rows))
        return name

    torn = ("/torn", f'=LINK("{NEW}/s"', '"s")', "3")
    sound = ("/sound", "/sound", "3", "")
    pairs = sheet("pairs.csv", ("old", "new", "hits"), torn, sound)
    found = museum.json("decide", "--from", pairs, code=1)
    assert [(r["row"], "4 cells" in r["reason"]) for r in found["refused"]] == [(2, True)]
    assert "Row 2 cannot be checked" in museum("check", pairs, code=1).out
    gathered = sheet("export.csv", ("url", "title", "hits"), torn, sound)
    assert "4 cells in a table of 3 columns" in museum("gather", gathered, code=None).out
    stocked = sheet(
        "pages.csv", ("url", "title", "status"), ("/p", "a", "b", "200"), ("/q", "", "200")
    )
    assert "4 cells in a table of 3 columns" in museum("stock", stocked, code=None).out
    assert {e["legacy_url"] for e in museum.json("entries")["entries"]} == {f"{OLD}/sound"}
    reviewed = sheet(
        "review.csv", ("legacy_url", "answer", "destination"), (f"{OLD}/sound", "gone", "", "x")
    )
    assert "4 cells in a table of 3 columns" in museum("review", "--in", reviewed, code=1).out


@pytest.mark.parametrize("word", ["Summe", "Total:", "Razem", "合計"])
def test_a_row_of_totals_in_a_sheet_is_no_address(museum: Program, word: str) -> None:
    museum.write("pairs.csv", f"alt;neu;Prüfen am\n/a;/b/;31.05.2099\n{word};1;\n")
    found = museum.json("decide", "--from", "pairs.csv", code=1)
    assert found["refused"] == [{"row": 3, "old": "", "reason": "it holds totals, and no address"}]
    (entry,) = museum.json("entries")["entries"]
    assert entry["legacy_url"].endswith("/a")
    assert museum.json("balance")["until"][0]["day"] == "2099-05-31"


def test_a_page_that_is_named_like_a_row_of_totals_is_one(museum: Program) -> None:
    names = ("/total/", "/sum", "/total/prices.html", "/summe-und-teile.html", "/suma.htm")
    museum.write("new.csv", "url,title\n" + "".join(f"{n},Page {n}\n" for n in names) + "Total,5\n")
    museum.write("old.csv", "url,hits\n" + "".join(f"{n},3\n" for n in names) + "Total,15\n")
    assert museum.json("stock", "new.csv")["sources"][0]["accepted"] == len(names)
    museum("gather", "old.csv")
    found = {e["legacy_url"].partition("example")[2] for e in museum.json("entries")["entries"]}
    assert found == set(names)


def test_a_page_that_says_it_is_none_is_not_stocked(museum: Program) -> None:
    rows = ("/a/,Clock,200", "/b/,Seite nicht gefunden | Museum,200", "/c/,Peugeot 404,200")
    museum.write("new.csv", "url,title,status\n" + "".join(f"{r}\n" for r in rows))
    (found,) = museum.json("stock", "new.csv")["sources"]
    assert (found["accepted"], found["missing"]) == (2, ["/b/"])
    assert "1 row left out whose title says that there is no page: /d/" in " ".join(
        museum("stock", museum.write("again.csv", "url,title\n/d/,Error 404\n/e/,E\n")).out.split()
    )
