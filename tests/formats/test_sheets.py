"""Sheets of other trades and languages: which column is which, which sheet counts, and what is said
of it.
"""

from __future__ import annotations

import openpyxl
import pytest
import xlsxwriter
import xlwt

from conftest import NEW, OLD, Program


def pairs_of(program: Program, text: str, *options: str) -> list[tuple[str, str, str]]:
    """What check --json reads of a sheet, by the rules it finds faults in."""
    sheet = program.write("sheet.csv", text)
    program("decide", "--from", sheet, *options, code=None)
    found = program.json("entries", "--limit", 0)["entries"]
    return sorted(
        (e["legacy_url"].removeprefix(OLD), e["destination"].removeprefix(NEW), str(e["status"]))
        for e in found
    )


HEADINGS = [
    ("Alt", "Neu", "Typ"), ("von", "nach", "Art"), ("Alte URL", "Neue URL", "Status"),
    ("Adresse alt", "Adresse neu", "Statuscode"),
    ("Ancienne URL", "Nouvelle URL", "Code"), ("URL antigua", "URL nueva", "Tipo"),
    ("Vecchio URL", "Nuovo URL", "Tipo"),
    ("Oude URL", "Nieuwe URL", "Soort"), ("Old page", "New page", "Redirect type"),
    ("Bisherige Seite", "Ziel", "Code"),
    ("oldUrl", "newUrl", "status"), ("A", "B", "C"),
]  # fmt: skip


@pytest.mark.parametrize("heading", HEADINGS, ids=[h[0] for h in HEADINGS])
@pytest.mark.parametrize("turned", [False, True], ids=["", "turned"])
def test_pairs_are_read_by_name_or_by_what_they_hold(
    museum: Program, heading: tuple[str, str, str], turned: bool
) -> None:
    rows = [
        (f"{OLD}/a", f"{NEW}/x/", "permanent"),
        (f"{OLD}/b", f"{NEW}/y/", "302"),
        (f"{OLD}/c", "", "gone"),
    ]
    lines = [heading, *rows]
    if turned:
        lines = [(b, a, c) for a, b, c in lines]
    text = "\n".join(";".join(line) for line in lines) + "\n"
    assert pairs_of(museum, text) == [("/a", "/x/", "301"), ("/b", "/y/", "302"), ("/c", "", "410")]


def test_columns_that_stand_the_other_way_round_are_not_guessed(museum: Program) -> None:
    museum.write("urls.txt", "".join(f"/old/{n}\n" for n in range(5)))
    museum("gather", "urls.txt")
    text = "Links,Rechts\n" + "".join(f"/new/{n}/,/old/{n}\n" for n in range(5))
    told = museum("decide", "--from", museum.write("p.csv", text), "--as-given", code=3).err
    assert "5 of the first 5 there are entries, and 0 of those on the left" in told
    named = ("--column", "old=Rechts", "--column", "new=Links")
    museum("decide", "--from", "p.csv", "--as-given", *named)
    assert museum.json("entries", "--answer", "move")["matching"] == 5
    museum.write("q.csv", "Links,Rechts\n/old/0,/old/1\n/new/7/,/x/\n")
    museum("decide", "--from", "q.csv", "--as-given")


@pytest.mark.parametrize(
    ("word", "status"),
    [("permanent", "301"), ("dauerhaft", "301"), ("vorübergehend", "302"), ("temporaire", "302"),
        ("supprimé", "410"), ("gelöscht", "410"), ("永久重定向", "301"), ("一時的", "302"), ("已删除", "410"),
        ("временный", "302"), ("삭제됨", "410"), ("usunięte", "410"),
     ("eliminado", "410"), ("301 (permanent)", "301"), ("Moved permanently", "301")],
)  # fmt: skip
def test_words_are_statuses(museum: Program, word: str, status: str) -> None:
    new = "" if status == "410" else "/x/"
    assert pairs_of(museum, f"old,new,status\n/a,{new},{word}\n")[0][2] == status


def test_columns_are_settled_shown_and_switched_off_alike(museum: Program) -> None:
    museum.write("odd.csv", "Nr,Was war,Was wird,Notiz\n1,/a,/x/,n\n2,/b,/y/,n\n")
    said = museum(
        "decide", "--from", "odd.csv", "--column", "old=Was war", "--column", "new=Was wird"
    ).out
    assert "odd.csv: columns old = Was war, new = Was wird" in said
    assert "odd.csv: not used: Nr, Notiz" in said
    checked = museum(
        "check", "odd.csv", "--column", "old=Was war", "--column", "new=Was wird", code=None
    ).out
    assert "columns old = Was war, new = Was wird" in checked
    assert (
        "no column 'Nowhere'"
        in museum("decide", "--from", "odd.csv", "--column", "old=Nowhere", code=3).err
    )
    museum.write(
        "pages.csv",
        f"Adresse,Bezeichnung,Zustand\n{NEW}/x/,The x,200\nSumme,,\n{NEW}/y/,The y,200\n",
    )
    said = museum("stock", "pages.csv", "--column", "title=Bezeichnung").out
    assert "columns url = Adresse, title = Bezeichnung" in said
    assert "one row of totals" in said or "1 row of totals" in said
    museum(
        "gather",
        museum.write("export.csv", "url,backlinks,visits\n/a,7,3\n"),
        "--column",
        "linking pages=",
    )
    assert museum.json("entries", "/a")["links"] == 0


def workbook(program: Program, name: str, sheets: dict[str, list[list[str]]]) -> str:
    with xlsxwriter.Workbook(str(program.folder / name)) as book:
        for title, rows in sheets.items():
            sheet = book.add_worksheet(title)
            for n, row in enumerate(rows):
                sheet.write_row(n, 0, row)
    return name


def test_every_sheet_that_holds_addresses_is_a_source_and_the_others_are_named(
    museum: Program,
) -> None:
    name = workbook(museum, "audit.xlsx", {
        "Legend": [["What this is"], ["by Ada"]],
        "Blog": [["Report of the blog"], ["Art.-Nr.", "Bezeichnung", "Adresse alt"],
            ["1", "One", f"{OLD}/blog/one"], ["2", "Two", f"{OLD}/blog/two"]],
        "Shop": [["url", "visits"], [f"{OLD}/shop/a", "5"], [f"{OLD}/shop/b", "6"],
            [f"{OLD}/shop/c", "7"]],
    })  # fmt: skip
    found = museum.json("gather", name)
    assert [(s["name"], s["accepted"]) for s in found["sources"]] == [
        ("audit.xlsx (Blog)", 2),
        ("audit.xlsx (Shop)", 3),
    ]
    assert any("the sheets Legend" in note for note in found["sources"][0]["notes"])
    assert found["entries"] == 5
    again = museum.json("gather", name)
    assert all(s["known"] for s in again["sources"])
    assert museum.json("gather", name, "--sheet", "Shop")["sources"][0]["known"]
    assert "has no sheet 'Nope'" in museum("gather", name, "--sheet", "Nope", code=3).err
    rules = workbook(
        museum,
        "rules.xlsx",
        {
            "Notes": [["x"]],
            "A": [["Alt", "Neu"], ["/blog/one", "/x/"]],
            "B": [["Alt", "Neu"], ["/blog/two", "/y/"]],
        },
    )
    assert museum.json("decide", "--from", rules)["posted"] == 2


def test_gathering_again_with_other_options_reads_anew(museum: Program) -> None:
    museum.write("export.csv", "page,landing,visits\n/a,/b,5\n")
    museum("gather", "export.csv", "--period", "2026-01-01..2026-01-10")
    assert museum.json("entries", "/a")["value"] == 15
    assert museum.json("gather", "export.csv")["sources"][0]["known"]
    again = museum.json(
        "gather", "export.csv", "--column", "url=landing", "--period", "2026-01-01..2026-01-30"
    )["sources"][0]
    assert (again["known"], again["read_anew"]) == (False, True)
    assert {
        e["legacy_url"].removeprefix(OLD): e["value"] for e in museum.json("entries")["entries"]
    } == {"/b": 5}
    assert (
        "no column 'nowhere'"
        in museum("gather", "export.csv", "--column", "url=nowhere", code=3).err
    )
    museum("undo")
    assert {
        e["legacy_url"].removeprefix(OLD): e["value"] for e in museum.json("entries")["entries"]
    } == {"/a": 15}


@pytest.mark.parametrize(
    ("above", "period"),
    [
        ("Zeitraum: 01.01.2026 - 31.03.2026", ["2026-01-01", "2026-03-31"]),
        ("# 20260101-20260331", ["2026-01-01", "2026-03-31"]),
        ("Date range: Jan 1, 2026 to Mar 31, 2026", ["2026-01-01", "2026-03-31"]),
        ("Période du 01/01/2026 au 31/03/2026", ["2026-01-01", "2026-03-31"]),
        ("Made by Ada", []),
    ],
)
def test_a_period_above_the_header_counts_or_its_absence_is_said(
    museum: Program, above: str, period: list[str]
) -> None:
    quoted = f'"{above}"' if "," in above else above
    source = museum.json(
        "gather",
        museum.write("e.csv", f"{quoted},,\nPage,Sessions,Titel\n/a,90,A page\n/b,9,B page\n"),
    )["sources"][0]
    assert source["period"] == period
    assert any("is not said" in n for n in source["notes"]) == (not period)


def test_lists_of_links_count_links_to_us_and_nothing_else(museum: Program) -> None:
    museum.write(
        "links.csv",
        "Source URL,Title,External links,First seen,Target URL,Anchor\n"
        + "".join(
            f"https://site{n % 3}.example/p{n},Their "
            f"page,{100 + n},2020-01-0{1 + n},{OLD}/linked,see\n"
            for n in range(6)
        )
        + f"{OLD}/own,Ours,3,2020-01-01,{OLD}/linked,nav\n",
    )
    museum("gather", "links.csv")
    entry = museum.json("entries", "/linked")
    units = {e["unit"]: e["amount"] for e in entry["evidence"]}
    assert (units["linking pages"], units["linking domains"]) == (6, 3)
    assert entry["titles"] == []
    assert entry["last_seen"] == ""


def test_rows_that_name_captures_are_templates_or_asked_for(bare: Program) -> None:
    sheet = bare.pairs(
        "/a/{slug}/p{n|digits},/b/{n}/{slug},301",
        "/q{?id|digits},/q/{id},301",
        "/x/{y},/z,301",
        "/k/{{m}},/z,301",
    )
    said = bare("check", sheet, code=1).out
    assert "it holds {y}" in said
    assert "a column kind must say" in said
    museum = bare.folder / "museum"
    Program(bare.folder)("open", museum, "--old", OLD, "--new", NEW)
    Program(museum)("decide", "--from", sheet, code=1)
    built = Program(museum).json("build", "--for", "nginx", "--out", "rules")
    assert (built["templates"], built["rules"]) == (2, 3)


def test_a_column_that_may_speak_of_another_page_is_asked_for(museum: Program) -> None:
    rows = "".join(f"http://b{n}.example/x,{OLD}/p,A page of theirs {n},{n}0\n" for n in range(3))
    museum.write("links.csv", f"Source URL,Target URL,Title,Links\n{rows}")
    said = museum("gather", "links.csv").out
    assert "does 'Links' speak of the page that links" in said
    assert "--column 'linking pages=Links'" in said
    settled = museum(
        "gather", "links.csv", "--column", "linking pages=Links", "--column", "title="
    ).out
    assert "speak of the page" not in settled
    assert {e["unit"]: e["amount"] for e in museum.json("entries", "/p")["evidence"]}[
        "linking pages"
    ] == 30


@pytest.mark.parametrize("word", ["(not set)", "(other)", "n/a", "#N/A", "(none)"])
def test_what_exports_say_for_nothing_is_no_address(museum: Program, word: str) -> None:
    museum("gather", museum.write("e.csv", f"page,visits\n/a,5\n{word},9\n"))
    assert [e["legacy_url"] for e in museum.json("entries")["entries"]] == [f"{OLD}/a"]


def test_a_very_long_title_refuses_no_file(museum: Program) -> None:
    museum("gather", museum.write("e.csv", f"url,title\n/a,{'long ' * 60_000}\n/b,short\n"))
    assert len(museum.json("entries")["entries"]) == 2


def test_patterns_in_sheets_are_templates_or_refused(bare: Program) -> None:
    sheet = bare.pairs(
        "/blog/*,/news/*,301", "^/shop/(.*)$,/store/$1,301", "^/x/(?=y),/z,301", "/plain,/goal/,301"
    )
    found = bare.json("check", sheet, "--old", OLD, "--new", NEW, code=1)
    assert found["rules"] == 3
    assert {r["old"] for r in found["rejected"]} == {"^/x/(?=y)"}
    assert all("pattern" in r["reason"] for r in found["rejected"])


def test_bare_destinations_lie_on_the_first_new_origin(bare: Program) -> None:
    sheet = bare.pairs("/a,/x/,301", "/b,/y/,301", "/c,/nowhere/,301")
    stock = bare.write("new.csv", f"url,status\n{NEW}/x/,200\n{NEW}/y/,200\n")
    found = bare.json(
        "check",
        sheet,
        "--old",
        NEW.replace("https", "http"),
        "--new",
        NEW,
        "--stock",
        stock,
        code=1,
    )
    assert found["counts"] == {"unknown-destination": 1}


def test_an_address_that_two_products_claim_is_named(museum: Program) -> None:
    museum.write(
        "shop.csv",
        f"url,title,sku\n{NEW}/p/oak,Oak clock,Q-1\n{NEW}/p/oak,Ash clock,Q-2\n{NEW}/p/Elm/,Elm "
        f"clock,Q-3\n{NEW}/p/elm,Elm tray,Q-4\n{NEW}/p/fir,Fir,Q-5\n",
    )
    found = museum.json("stock", "shop.csv", code=1)["sources"][0]
    assert [(c["url"].removeprefix(NEW), c["first"], c["second"]) for c in found["clashes"]] == [
        ("/p/oak", "Q-1 Oak clock in row 2", "Q-2 Ash clock in row 3"),
        ("/p/elm", "Q-3 Elm clock in row 4", "Q-4 Elm tray in row 5"),
    ]
    later = museum.json(
        "stock", museum.write("later.csv", f"url,title,sku\n{NEW}/p/fir,Pine,Q-9\n"), code=1
    )["sources"][0]
    assert later["clashes"][0]["why"] == "has become another page's address"
    assert (
        "claimed twice"
        in museum(
            "stock",
            museum.write("again.csv", (museum.folder / "shop.csv").read_text() + "\n"),
            code=1,
        ).out
    )


def test_the_wrong_list_is_said_first_with_the_right_command(museum: Program) -> None:
    new = museum.write("new.txt", "".join(f"{NEW.replace('www', 'neu')}/p{n}\n" for n in range(9)))
    assert museum("gather", new).out.startswith(
        "new.txt: 9 of 9 lines are off-site: neu.quillhaven.example (9)."
    )
    old = museum.write("old.txt", "".join(f"{OLD.replace('www.', 'm.')}/p{n}\n" for n in range(9)))
    assert "upright gather takes them" in museum("stock", old, code=3).err


def test_a_hidden_sheet_is_not_the_one_to_read(museum: Program) -> None:
    """Be it ever so full: it is named, and read where somebody asks for it."""
    book = openpyxl.Workbook()
    shown = book.active
    assert shown is not None
    shown.title = "Pages"
    rows = [("URL", "Clicks"), (f"{OLD}/a", 3)]
    hidden = book.create_sheet("Raw")
    hidden.sheet_state = "hidden"
    for row in rows:
        shown.append(row)
    for n in range(30):
        hidden.append((f"{OLD}/raw-{n}", n) if n else rows[0])
    book.save(museum.folder / "book.xlsx")
    told = museum("gather", "book.xlsx").out
    assert "the sheets Raw" in told
    assert [e["legacy_url"] for e in museum.json("entries")["entries"]] == [f"{OLD}/a"]
    museum("gather", "book.xlsx", "--sheet", "Raw")
    assert len(museum.json("entries", "--limit", "0")["entries"]) == 30


def test_a_hidden_sheet_of_pairs_is_named_and_never_posted(museum: Program) -> None:
    book = openpyxl.Workbook()
    shown, hidden = book.active, book.create_sheet("Last year")
    assert shown is not None
    hidden.sheet_state = "hidden"
    for sheet, new in ((shown, f"{NEW}/a/"), (hidden, f"{NEW}/b/")):
        sheet.append(("old", "new"))
        sheet.append((f"{OLD}/a", new))
    hidden.append((f"{OLD}/b", f"{NEW}/b/"))
    book.save(museum.folder / "pairs.xlsx")
    dry = museum("decide", "--from", "pairs.xlsx", "--as-given", "--dry-run").out
    assert "they would be added" in dry
    told = museum("decide", "--from", "pairs.xlsx", "--as-given").out
    assert "the sheets Last year" in told
    assert "they are in the ledger now" in told
    posted = museum.json("entries")["entries"]
    assert [(e["legacy_url"], e["destination"]) for e in posted] == [(f"{OLD}/a", f"{NEW}/a/")]
    museum("decide", "--from", "pairs.xlsx", "--as-given", "--sheet", "Last year")
    assert {e["destination"] for e in museum.json("entries")["entries"]} == {f"{NEW}/b/"}


def test_an_old_workbook_is_read_as_a_new_one(museum: Program) -> None:
    book = xlwt.Workbook()
    sheet = book.add_sheet("Pages")
    rows = [("URL", "Clicks", "Title"), (f"{OLD}/a", 3.0, "Été"), (f"{OLD}/b", 4, "B")]
    for at, row in enumerate(rows):
        for column, value in enumerate(row):
            sheet.write(at, column, value)
    book.save(str(museum.folder / "old.xls"))
    told = museum.json("gather", "old.xls")["sources"][0]
    assert (told["kind"], told["accepted"]) == ("sheet", 2)
    assert {e["legacy_url"]: e["clicks"] for e in museum.json("entries")["entries"]} == {
        f"{OLD}/a": 3, f"{OLD}/b": 4,
    }  # fmt: skip


def test_what_only_begins_like_an_old_workbook_is_refused(museum: Program) -> None:
    museum.write("bad.xls", b"\xd0\xcf\x11\xe0\xa1\xb1\x1a\xe1" + bytes(range(256)) * 40)
    assert "is a damaged workbook" in museum("gather", "bad.xls", code=3).err
