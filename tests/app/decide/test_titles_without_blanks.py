"""Relaunches of sites whose titles have no blanks between words, matched by the program."""

from __future__ import annotations

import csv
import random
from collections.abc import Callable, Iterator
from itertools import product
from urllib.parse import quote

import pytest

from conftest import NEW, OLD, Program

Page = tuple[str, str]
"""Address and title."""
Make = Callable[[random.Random], Iterator[tuple[Page, Page]]]


def _glass(r: random.Random) -> Iterator[tuple[Page, Page]]:
    kinds = ["一輪挿し", "フラワーベース", "ロックグラス", "ぐい呑み", "豆皿", "江戸風鈴", "照明"]
    for n, (pattern, kind) in enumerate(product(["金魚", "朝顔", "市松", "麻の葉", "千鳥"], kinds)):
        old = r.choice([f"{pattern}の{kind}", f"{kind} {pattern}", f"【{pattern}】{kind}"])
        new = r.choice([f"{pattern}{kind}", f"{kind}「{pattern}」"])
        path = f"/products/{quote(pattern + kind)}/"
        yield (f"/item.php?id={7 * n + 3}", f"{old}｜ガラス屋きり"), (path, f"{new}-硝子工房きり")


def _pumps(r: random.Random) -> Iterator[tuple[Page, Page]]:
    kinds = ["离心泵", "潜水泵", "螺杆泵", "隔膜泵", "计量泵"]
    first = ["不锈钢", "氟塑料", "耐腐蚀", "自吸式", "大流量"]
    for n, (one, other, kind) in enumerate(product(first, ["卧式", "防爆"], kinds)):
        name = r.choice([one + other + kind, other + one + kind])
        path = f"/products/{r.randint(10**4, 10**5)}{n}/"
        old = f"/product/show-{5 * n + 2}.html"
        yield (old, f"{one}{other}{kind}_河源泵业有限公司"), (path, f"{name}-河源泵业")


def _recipes(r: random.Random) -> Iterator[tuple[Page, Page]]:
    ways = ["แกงเขียวหวาน", "ผัดกะเพรา", "ต้มยำ", "ทอดกระเทียม", "แกงมัสมั่น", "น้ำพริก"]
    whats = ["ไก่", "หมู", "กุ้ง", "เต้าหู้", "ปลาหมึก", "เห็ดรวม"]
    for n, (way, what) in enumerate(product(ways, whats)):
        new = r.choice([way + what, f"สูตร{way}{what}"])
        path = f"/{quote(way + what)}/"
        yield (
            (f"/recipe.asp?no={3 * n + 1}", f"วิธีทำ{way}{what} :: ครัวบ้านเรา"),
            (path, f"{new} | ครัวบ้าน"),
        )


@pytest.mark.parametrize("make", [_glass, _pumps, _recipes])
def test_pages_are_found_by_what_their_titles_say(museum: Program, make: Make) -> None:
    moves = [*make(random.Random(1))]
    for name, site, side in (("old.csv", OLD, 0), ("new.csv", NEW, 1)):
        with (museum.folder / name).open("w", encoding="utf-8", newline="") as file:
            csv.writer(file).writerows(
                [("url", "title"), *((site + move[side][0], move[side][1]) for move in moves)]
            )
    museum("gather", "old.csv")
    museum("fold", "--accept")
    museum("stock", "new.csv")
    museum("match", "--accept-above", "0.9", code=None)
    museum("review", "--out", "sheet.csv")
    told = {old[0]: NEW + new[0] for old, new in moves}
    answers = {
        e["legacy_url"].removeprefix(OLD): e["destination"]
        for e in museum.json("entries", "--answer", "move", "--limit", "0")["entries"]
    }
    assert answers
    assert all(told[old] == destination for old, destination in answers.items())
    with (museum.folder / "sheet.csv").open(encoding="utf-8-sig", newline="") as file:
        first = {row["legacy_url"].removeprefix(OLD): row for row in csv.DictReader(file)}
    right = sum(row["destination"] == told[old] for old, row in first.items())
    assert right + len(answers) >= 0.95 * len(moves)
    # What both say is told in the letters of the page.
    shared = [row["reason"] for row in first.values() if "shares the word" in row["reason"]]
    assert not any(word.isascii() for reason in shared for word in reason.split("“")[1:])
