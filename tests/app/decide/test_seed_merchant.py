"""The second sample, a seed merchant in two languages with numbered addresses: what a specialist
gets from the program, measured against its truth.
"""

from __future__ import annotations

import csv
from pathlib import Path

import openpyxl
import pytest

from conftest import Program
from samples.seed_merchant import FILES, NEW, OLD, SeedMerchant, make_seed_merchant


@pytest.fixture(scope="module")
def made() -> SeedMerchant:
    return make_seed_merchant()


@pytest.fixture(scope="module")
def merchant(tmp_path_factory: pytest.TempPathFactory, made: SeedMerchant) -> Program:
    """A ledger with all that the merchant handed over, matched at one wrong in a hundred."""
    folder: Path = tmp_path_factory.mktemp("merchant")
    Program(folder)("open", "mohnfeld", "--old", OLD, "--new", NEW)
    program = Program(folder / "mohnfeld")
    made.write(program.folder)
    program("gather", *FILES)
    program("stock", "new-pages.csv")
    said = program("match", "--max-error", "1%").out
    assert "Item numbers changed: “SW” put before the number in" in said
    return program


def test_nearly_all_are_answered_and_hardly_any_wrongly(
    merchant: Program, made: SeedMerchant
) -> None:
    entries = merchant.json("entries", "--limit", "0")["entries"]
    answers = {e["legacy_url"]: e["destination"] for e in entries if e["answer"] == "move"}
    answered = {url: goal for url, goal in answers.items() if url in made.truth}
    wrong = {url: goal for url, goal in answered.items() if made.truth[url] != goal}
    moved = [url for url, goal in made.truth.items() if goal]
    right = [url for url in moved if answered.get(url) == made.truth[url]]
    assert len(right) >= 0.95 * len(moved)
    assert len(wrong) <= 0.01 * len(answered), wrong


def test_what_is_left_open_is_soon_done_by_sheet(merchant: Program, made: SeedMerchant) -> None:
    """A person looks at a row for ten seconds: sixty rows are ten minutes."""
    merchant("review", "--out", "open.xlsx", "--answer", "open")
    head, *rows = openpyxl.load_workbook(merchant.folder / "open.xlsx").worksheets[0].values
    olds = [dict(zip(head, row, strict=True)) for row in rows]
    own = [row for row in olds if row["legacy_url"] in made.truth]
    assert len(own) <= 0.15 * len(made.truth)
    with_successor = [row for row in own if made.truth[row["legacy_url"]]]
    assert len(with_successor) <= 20
    offered = [r for r in with_successor if r["destination"] == made.truth[r["legacy_url"]]]
    assert len(offered) >= 0.8 * len(with_successor)


def test_links_and_visits_reach_their_entries(merchant: Program, made: SeedMerchant) -> None:
    entries = {e["legacy_url"]: e for e in merchant.json("entries", "--limit", "0")["entries"]}
    for url, sources in made.links.items():
        domains = {source.split("/")[2] for source in sources}
        assert entries[url]["links"] == len(domains), url
    assert {url for url in made.visits if not entries[url]["value"]} == set()


def test_a_table_of_numbers_and_a_form_of_them_say_it_outright(tmp_path: Path) -> None:
    """Two articles are too few to learn from."""
    Program(tmp_path)("open", "shop", "--old", OLD, "--new", NEW)
    shop = Program(tmp_path / "shop")
    shop.write(
        "old.csv",
        f"url,item number,title\n{OLD}/a.php?nr=41177,41177,Spade\n"
        f"{OLD}/a.php?nr=52288,52288,Rake\n{OLD}/a.php?nr=7,7,Gloves\n",
    )
    shop.write(
        "new.csv",
        f"url,sku,title\n{NEW}/p/one/,QX-9,Digging tool\n{NEW}/p/two/,QX-8,Soil comb\n"
        f"{NEW}/p/three/,SW-7,Hand wear\n",
    )
    shop("gather", "old.csv")
    shop("stock", "new.csv")

    def proposed(*options: str) -> dict[str, str]:
        found = shop.json("match", "--accept-above", "1.01", *options)["proposals"]
        return {
            p["legacy_url"].rpartition("=")[2]: p["destination"].removeprefix(NEW)
            for p in found
            if "same item" in p["reason"]
        }

    assert proposed() == {}
    shop.write("numbers.csv", "Artikelnummer neu,Artikelnummer alt\nQX-9,41177\nQX-8,52288\n")
    assert proposed("--items", "numbers.csv") == {"41177": "/p/one/", "52288": "/p/two/"}
    settings = shop.folder / "upright.toml"
    settings.write_text(settings.read_text().replace('# new = "SW-', 'new = "SW-'))
    assert proposed() == {"7": "/p/three/"}
    settings.write_text(settings.read_text().replace("SW-{number}", "SW-"))
    assert "SW-{number}" in shop("match", code=3).err
    settings.write_text(settings.read_text().replace('"SW-"', '"{number}"'))
    for text, said in (
        ("41177\n", "no two columns"),
        ("old,new\n1,2\n1,3\n", "line 3: 1 has two new numbers, 2 and 3"),
        ("old,new\n,\n", "names no item number"),
    ):
        shop.write("numbers.csv", text)
        assert said in shop("match", "--items", "numbers.csv", code=3).err


def test_rows_that_send_a_product_to_another_are_named_with_the_better_page(
    tmp_path: Path, made: SeedMerchant
) -> None:
    Program(tmp_path)("open", "shop", "--old", OLD, "--new", NEW)
    shop = Program(tmp_path / "shop")
    made.write(shop.folder)
    shop("gather", *FILES[:2])
    shop("stock", "new-pages.csv")
    articles = [url for url, goal in made.truth.items() if goal and "nr=" in url][:120]
    astray = articles[5::13][:9]
    goals = {url: made.truth[url] for url in articles}
    goals |= {
        url: made.truth[other]
        for url, other in zip(astray, [*astray[2:], *astray[:2]], strict=True)
    }
    shop.pairs(*(f"{url},{goal},301," for url, goal in goals.items()))
    for options in (("--dry-run",), ()):
        found = shop.json("decide", "--from", "pairs.csv", *options, code=1 if options else 0)
        assert {d["legacy_url"]: d["better"] for d in found["doubts"]} == {
            url: made.truth[url] for url in astray
        }
    said = shop("decide", "--from", "pairs.csv", "--dry-run").out
    assert "another page" not in said  # they stand already


def test_successors_may_be_told_by_item_numbers(tmp_path: Path, made: SeedMerchant) -> None:
    Program(tmp_path)("open", "shop", "--old", OLD, "--new", NEW)
    shop = Program(tmp_path / "shop")
    made.write(shop.folder)
    shop("gather", *FILES[:2])
    shop("stock", "new-pages.csv")
    items = {url: item for url, (_, item) in made.old.items() if item}
    gone = sorted({item for url, item in items.items() if not made.truth[url]})[:3]
    living = sorted({item for url, item in items.items() if made.truth[url]})[:3]
    rows = [f"{old};SW-{new}\n" for old, new in zip(gone[:2], living[:2], strict=True)]
    shop.write("successors.csv", "".join(rows) + f"{gone[2]};{living[2]}\n777;{living[0]}\n")
    found = shop.json("decide", "--from", "successors.csv", code=1)
    assert found["posted"] == 6
    assert [(r["row"], r["reason"]) for r in found["refused"]] == [
        (4, "no entry has the item number 777")
    ]
    entries = {e["legacy_url"]: e for e in shop.json("entries", "--limit", "0")["entries"]}
    for old, new in zip(gone, living, strict=True):
        for place in ("artikel", "item"):
            goal = made.truth[f"{OLD}/{place}.php?nr={new}"]
            assert entries[f"{OLD}/{place}.php?nr={old}"]["destination"] == goal


def test_the_files_of_the_merchant_hold_what_is_said_of_them(merchant: Program) -> None:
    with (merchant.folder / "old-pages.csv").open(encoding="utf-8") as file:
        assert len(list(csv.reader(file))) > 400
