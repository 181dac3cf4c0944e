"""Item numbers, split pages, families that moved, and answers for many entries at once."""

from __future__ import annotations

import csv

import pytest

from conftest import NEW, OLD, Program
from upright_ledger.core.matching import MatchPage, propose
from upright_ledger.core.matching.pattern_moves import Correspondence, correspondences
from upright_ledger.core.matching.proposals import SPLIT

KINDS = ("pendulum", "escapement", "dial", "spring", "verge", "turret", "lantern", "bracket")
OTHERS = [f"{kind}-{word}" for kind in KINDS for word in ("history", "makers", "repair")]
MOVED = [MatchPage(f"/museum/{n}.html", f"/museum/{n}.html") for n in OTHERS]
ARRIVED = [MatchPage(f"/collection/{n}/", f"/collection/{n}/") for n in OTHERS]


def test_items_told_on_both_sides_lead_home_whatever_the_addresses_say(museum: Program) -> None:
    museum.write(
        "old.csv",
        "url,hits,sku\n"
        f"{OLD}/shop/view.php?p=9,5,QH-88-C\n{OLD}/shop/view.php?p=10,4,QH-89-C\n{OLD}/shop/"
        "view.php?p=11,3,QH-90-C\n",
    )
    museum.write(
        "new.csv",
        "address,title,item number\n"
        f"{NEW}/store/blue-lamp/,Blue lamp,qh89c\n{NEW}/store/red-lamp/,Red lamp,QH 88 "
        f"C\n{NEW}/store/lamp/,Lamp,QH-91-C\n",
    )
    museum("gather", "old.csv")
    museum("fold", "--significant", "/shop/view.php=p")
    museum("stock", "new.csv")
    found = {
        p["legacy_url"].rpartition("=")[2]: p
        for p in museum.json("match", "--accept-above", "1.01")["proposals"]
    }
    assert found["9"]["destination"] == f"{NEW}/store/red-lamp/"
    assert found["10"]["destination"] == f"{NEW}/store/blue-lamp/"
    assert "is the same item QH 88 C" in found["9"]["reason"]
    assert "11" not in found


def test_a_told_item_meets_the_number_in_an_address_and_parts_what_is_alike() -> None:
    old = MatchPage("o", "/shop/lamp.php", "Lamp", ("4711",))
    new = [
        MatchPage(f"n{n}", f"/store/lamp-{k}/", "Lamp", items=(n,))
        for k, n in enumerate(("4710", "4711", "4712"), 1)
    ]
    best = propose([*MOVED, old], [*ARRIVED, *new]).found["o"]
    assert best[0].name == "n4711"
    assert best[0].confidence > 0.9


def test_a_page_that_two_new_ones_share_out_is_called_split(museum: Program) -> None:
    old = MatchPage(
        "o", "/visit/opening-hours-and-ticket-prices.html", "Opening hours and ticket prices"
    )
    halves = [
        MatchPage("hours", "/plan/opening-hours/", "Opening hours"),
        MatchPage("p", "/plan/ticket-prices/"),
    ]
    result = propose([*MOVED, old], [*ARRIVED, *halves])
    assert result.split == {"o"}
    assert [SPLIT in p.reasons for p in result.found["o"]] == [True, True]
    twins = [
        MatchPage("a", "/a/opening-hours/", "Opening hours"),
        MatchPage("b", "/b/opening-hours/", "Opening hours"),
    ]
    assert propose([*MOVED, old], [*ARRIVED, *twins]).split == set()


def test_families_that_moved_are_read_off_with_what_they_carried() -> None:
    months = ("03", "07", "11")
    pairs = [
        (f"/journal/{2010 + n % 5}/{months[n % 3]}/{name}.html", f"/stories/{name}/")
        for n, name in enumerate(OTHERS)
    ]
    pairs += [
        (f"/catalogue?item={n}", f"/collection/{name}-{n}/") for n, name in enumerate(OTHERS, 4000)
    ]
    pairs += [("/journal/2011/03/odd-one-out.html", "/press/odd/"), ("/lonely", "/alone/")]
    assert correspondences(pairs) == [
        Correspondence("/catalogue?item={item}", "/collection/{…}/", 24, 24),
        Correspondence("/journal/{year}/{month}/{slug}.html", "/stories/{slug}/", 24, 25),
    ]


def test_match_says_how_families_moved(museum: Program) -> None:
    museum.write("old.txt", "".join(f"/museum/{n}.html\n" for n in OTHERS))
    museum.write("new.csv", "url,title\n" + "".join(f"{NEW}/collection/{n}/,{n}\n" for n in OTHERS))
    museum("gather", "old.txt")
    museum("stock", "new.csv")
    result = museum.json("match")
    (moved,) = result["moved"]
    assert moved == {
        "old": "/museum/{slug}.html",
        "new": "/collection/{slug}/",
        "pairs": 24,
        "of": 24,
    }
    museum("undo")
    assert (
        "24 of 24   /museum/{slug}.html\n           to  /collection/{slug}/" in museum("match").out
    )


@pytest.fixture
def listed(museum: Program) -> Program:
    museum.write("old.txt", "".join(f"/museum/{n}.html\n" for n in OTHERS) + "/visit/hours\n")
    museum("gather", "old.txt")
    return museum


def test_a_list_of_old_pages_gets_one_answer_in_one_call(listed: Program) -> None:
    listed.write(
        "pruned.txt",
        f"# articles that go\n/museum/{OTHERS[0]}.html\n{OLD}/museum/{OTHERS[1]}.html\nno "
        "address\n",
    )
    result = listed.json("decide", "--from", "pruned.txt", "--to", "/stories/", code=1)
    assert (result["posted"], len(result["refused"])) == (2, 1)
    rows = listed.json("entries", "--answer", "move")["entries"]
    assert {r["destination"] for r in rows} == {f"{NEW}/stories/"}
    listed("undo")
    assert listed.json("entries", "--answer", "move")["entries"] == []
    result = listed.json("decide", "--from", "pruned.txt", "--gone", code=1)
    assert {r["status"] for r in listed.json("entries", "--answer", "gone")["entries"]} == {410}


def test_a_whole_family_or_section_gets_one_answer(listed: Program) -> None:
    assert (
        listed.json("decide", "--family", "/museum/{slug}.html", "--to", "/stories/")["posted"]
        == 24
    )
    assert (
        listed.json("decide", "--family", "/museum/{slug}.html", "--to", "/stories/")["unchanged"]
        == 24
    )
    assert listed.json("decide", "--section", "", "--wanted")["replaced"] == 24
    for arguments, said in (
        (("--family", "/nowhere/{slug}", "--gone"), "no entry fits"),
        (("--section", "x", "/about", "--gone"), "not said what is to be answered"),
        (("--section", "x"), "one answer is needed"),
        (("/about", "--gone", "--keep"), "one answer is needed"),
        (
            ("--family", "/museum/{slug}.html", "--to", "https://elsewhere.example/"),
            "no declared new origin",
        ),
    ):
        assert said in listed("decide", *arguments, code=2).err


def test_what_was_decided_one_by_one_stands_beside_what_many_get(listed: Program) -> None:
    family = ("decide", "--family", "/museum/{slug}.html")
    one = listed.json("entries", "--family", "/museum/{slug}.html")["entries"][3]["legacy_url"]
    listed("decide", one, "--to", "/own/")
    told = listed.json(*family, "--gone")
    assert (told["posted"], told["left"]) == (23, [one])
    assert "1  answers given one by one stay; --over" in listed(*family, "--wanted").out
    # What many got at once is no decision about one of them.
    assert listed.json(*family, "--gone")["replaced"] == 23
    listed.write("list.txt", f"{one}\n{OLD}/museum/never-seen.html\n")
    told = listed.json("decide", "--from", "list.txt", "--gone")
    assert (told["posted"], told["left"]) == (1, [one])
    told = listed.json(*family, "--gone", "--over")
    assert (told["posted"], told["replaced"], told["left"]) == (1, 1, [])
    listed("undo")
    (entry,) = listed.json("entries", "--answer", "move")["entries"]
    assert entry["destination"] == f"{NEW}/own/"
    # A sheet of pairs says of each row what becomes of it.
    listed.pairs(f"{one},/other/,301")
    told = listed.json("decide", "--from", "pairs.csv")
    assert (told["posted"], told["left"]) == (1, [])


def test_a_destination_that_is_no_page_in_stock_is_kept_only_as_given(listed: Program) -> None:
    assert listed.json("decide", "/a", "--to", "/parts/tool/")["not_in_stock"] == []
    listed.write("stock.txt", f"{NEW}/parts/tools/\n{NEW}/shop/\n{NEW}/search/\n")
    listed("stock", "stock.txt")
    steps = len(listed.json("history")["steps"])
    for chosen in (
        ("/x",),
        ("/old/{+rest}",),
        ("--section", ""),
        ("--family", "/museum/{slug}.html"),
    ):
        refused = listed("decide", *chosen, "--to", "/parts/tool/", code=2).err
        assert f"{NEW}/parts/tool/ is no page in stock" in refused
        assert f"the one most like it is {NEW}/parts/tools/" in refused
        assert "--as-given" in refused
    assert len(listed.json("history")["steps"]) == steps
    for known in ("/shop/", "/shop/#part", "/search/?q=clock"):
        assert listed.json("decide", "/x", "--to", known)["not_in_stock"] == []
    (told,) = listed.json("decide", "/x", "--to", "/parts/tool/", "--as-given")["not_in_stock"]
    assert told == {"destination": f"{NEW}/parts/tool/", "nearest": f"{NEW}/parts/tools/"}
    listed("decide", "/old/{slug}.htm", "--to", "/new/{slug}/")  # which may be any page


def test_rows_whose_destination_is_no_page_in_stock_are_left_out(listed: Program) -> None:
    listed.write("stock.txt", f"{NEW}/parts/tools/\n{NEW}/shop/\n")
    listed("stock", "stock.txt")
    listed.pairs(
        "/b,/shop/,301", "/c,/shoop/,301", "/d,/qqqqqqqqqqqqqq,301", "/e,,410", "/f,/b,301",
        "/g/*,/shoop/,301", "/h,/shoop/,301", "/i,/shop,301",
    )  # fmt: skip
    before = len(listed.json("history")["steps"])
    tried = listed.json("decide", "--from", "pairs.csv", "--dry-run", code=1)
    assert len(listed.json("history")["steps"]) == before
    out = listed("decide", "--from", "pairs.csv", "--dry-run", code=1).out
    assert "4 answers would be posted." in out
    told = listed.json("decide", "--from", "pairs.csv", code=1)
    assert told == tried
    # /f leads to another row's address, and /i lacks a slash: check names and mends these.
    assert (told["posted"], told["astray"]) == (4, 4)
    assert told["not_in_stock"] == [
        {"destination": f"{NEW}/shoop/", "nearest": f"{NEW}/shop/"},
        {"destination": f"{NEW}/qqqqqqqqqqqqqq", "nearest": ""},
    ]
    out = listed("decide", "--from", "pairs.csv", code=1).out
    assert "4  rows left out: their destination is no page in stock; --as-given keeps it" in out
    assert f"{NEW}/shoop/\n    did you mean {NEW}/shop/?" in out
    told = listed.json("decide", "--from", "pairs.csv", "--as-given")
    assert (told["posted"], told["unchanged"], told["astray"]) == (4, 4, 0)
    # What stands in the ledger is not taken back by the same sheet.
    told = listed.json("decide", "--from", "pairs.csv")
    assert (told["posted"], told["unchanged"], told["astray"]) == (0, 8, 0)
    listed.write("list.txt", f"{OLD}/k\n")
    listed("decide", "--from", "list.txt", "--to", "/shoop/", code=2)
    listed("decide", "/k", "--gone", "--dry-run", code=2)


def test_a_reviewed_sheet_leaves_out_destinations_that_are_not_in_stock(listed: Program) -> None:
    listed.write("stock.txt", f"{NEW}/shop/\n")
    listed("stock", "stock.txt")
    listed("review", "--out", "sheet.csv")
    with (listed.folder / "sheet.csv").open(encoding="utf-8", newline="") as file:
        rows = list(csv.DictReader(file))
    for row, page in zip(rows, ("/shop/", "/shoop/"), strict=False):
        row.update(answer="move", destination=page)
    with (listed.folder / "sheet.csv").open("w", encoding="utf-8", newline="") as file:
        writer = csv.DictWriter(file, rows[0])
        writer.writeheader()
        writer.writerows(rows)
    told = listed.json("review", "--in", "sheet.csv", "--dry-run", code=1)
    assert (len(told["added"]), told["astray"]) == (1, 1)
    told = listed.json("review", "--in", "sheet.csv", code=1)
    assert told["not_in_stock"] == [{"destination": f"{NEW}/shoop/", "nearest": f"{NEW}/shop/"}]
    told = listed.json("review", "--in", "sheet.csv", "--as-given")
    assert (len(told["added"]), told["unchanged"], told["astray"]) == (1, len(rows) - 1, 0)


def test_what_ends_though_it_is_linked_or_asked_for_is_said_at_once(listed: Program) -> None:
    listed.write(
        "figures.csv", f"url,hits,clicks,backlinks\n{OLD}/used,30,4,0\n{OLD}/linked,0,0,2\n"
    )
    listed.write("list.txt", f"{OLD}/lonely\n{OLD}/linked\n{OLD}/used\n")
    listed("gather", "figures.csv")
    (told,) = listed.json("decide", "/used", "--gone")["gone_in_use"]
    assert told == {"legacy_url": f"{OLD}/used", "hits": 30, "clicks": 4}
    assert listed.json("decide", "/lonely", "--gone")["gone_in_use"] == []
    assert listed.json("decide", "/linked", "--to", "/a/")["gone_in_use"] == []
    out = listed("decide", "--from", "list.txt", "--gone", "--over").out
    assert "2 addresses end though they are linked or asked for:" in out
    assert f"{OLD}/used\n    30 hits, 4 clicks\n  {OLD}/linked\n    2 links" in out
    listed("undo", 4)
    listed("review", "--out", "sheet.csv")
    with (listed.folder / "sheet.csv").open(encoding="utf-8", newline="") as file:
        rows = list(csv.DictReader(file))
    for row in rows:
        if row["legacy_url"] == f"{OLD}/used":
            row["answer"] = "gone"
    with (listed.folder / "sheet.csv").open("w", encoding="utf-8", newline="") as file:
        sheet = csv.DictWriter(file, list(rows[0]))
        sheet.writeheader()
        sheet.writerows(rows)
    (told,) = listed.json("review", "--in", "sheet.csv", "--dry-run")["gone_in_use"]
    assert told["legacy_url"] == f"{OLD}/used"


def test_a_template_names_what_it_leaves_open(museum: Program) -> None:
    paths = ("/blog/", "/blog/2011/first.html", "/blog/2012/caf%C3%A9.html", "/blogroll", "/about")
    museum.write(
        "figures.csv", "url,hits\n" + "".join(f"{p},{9 - n}\n" for n, p in enumerate(paths))
    )
    museum("gather", "figures.csv")
    told = museum.json("decide", "/blog/{year}/{+rest}", "--to", "/stories/{rest}")
    assert told["fitting"] == 1
    # Its own page, and one that holds an escape, which no capture copies.
    assert told["left_open"] == [f"{OLD}/blog/", f"{OLD}/blog/2012/caf%C3%A9.html"]
    out = museum("decide", "/blog/{year|digits}/{+rest}", "--to", "/stories/{rest}").out
    assert "2  entries of its part of the site stay open:" in out
    assert f"  {OLD}/blog/\n" in out
    assert museum.json("decide", "/{slug}.html", "--gone")["left_open"] == []
    # One that copies nothing answers them, and what it does not is offered.
    museum("decide", "/blog/{+rest}", "--to", "/stories/", "--as-given")
    assert museum.json("entries", "--answer", "open")["entries"][0]["legacy_url"] == f"{OLD}/blog/"
    out = museum("decide", "/blog/{+rest}", "--gone").out
    assert f"upright decide {OLD}/blog/ --gone" in out
    out = museum("decide", "/blog/{+rest}", "--to", "/stories/{rest}").out
    assert f"upright decide {OLD}/blog/ --to {NEW}/stories/" in out
    assert museum.json("decide", "/{+rest}", "--gone")["left_open"] == []
