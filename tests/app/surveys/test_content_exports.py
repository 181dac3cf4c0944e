"""Content exports put right by what the ledger knows, with and without a survey."""

from __future__ import annotations

import csv
import gzip
from collections.abc import Callable

import pytest

from conftest import NEW, OLD, Program

CONTENT = (
    f"""(1,'<a href="{OLD}/shop/old.html#top">x</a> <a href=\\"/shop/old.html\\">y</a>');\n"""
    f"(2,'{NEW}/Visit/hours and {NEW.replace('https', 'http')}/visit/hours/, again');\n"
    f"""(3,'<a href="{OLD}/lost.html"><a href="/soon.html"><a href="{OLD}/dead.html">');\n"""
    f"""(4,'<img src="{NEW}/files/a.jpg"><a href="https://other.example/shop/old.html">o</a>');\n"""
    f"""(5,'<a href="{NEW}/nowhere/">n</a> {OLD}/shop/old.htmlx {OLD}/talks/7.html');\n"""
    f"""(6,'a:1:{{s:4:"link";s:43:"{OLD}/shop/old.html";}}');\n"""
)


@pytest.fixture
def museum_with_content(museum: Program) -> Program:
    """A ledger with answers of every kind, a stock, and an export of the content."""
    names = ("shop/old.html", "lost.html", "soon.html", "dead.html", "talks/7.html")
    museum.write("urls.txt", "".join(f"{OLD}/{name}\n" for name in names))
    museum("gather", "urls.txt")
    pages = ("/", "/visit/hours/", "/shop/clock/", "/lost-and-found/", "/events/7/")
    museum.write("new.csv", "url,title\n" + "".join(f"{NEW}{p},Page {p}\n" for p in pages))
    museum("stock", "new.csv")
    museum("match", "--accept-above", "1.01")
    museum("decide", "/shop/old.html", "--to", "/shop/clock/")
    museum("decide", "/soon.html", "--to", "/visit/hours/", "--status", "302")
    museum("decide", "/dead.html", "--gone")
    museum("decide", "/talks/{n}.html", "--to", "/events/{n}/")
    museum.write("content.sql", CONTENT)
    return museum


def test_addresses_are_put_right_by_what_the_ledger_answers(museum_with_content: Program) -> None:
    museum = museum_with_content
    found = museum.json("survey", "--in", "content.sql", "--into", "mended", code=1)
    (file,) = found["mended"]
    assert (file["changes"], file["left"]) == (5, 1)
    assert file["why"] == {"answered by the ledger": 3, "closing slash": 1, "scheme": 1}
    assert found["named"] == {
        "no page, and no answer": 2, "gone": 1, "temporary redirect": 1,
    }  # fmt: skip
    goal = f"{NEW}/shop/clock/"
    wanted = (
        CONTENT.replace(f'"{OLD}/shop/old.html#top', f'"{goal}#top')
        .replace('\\"/shop/old.html\\"', '\\"/shop/clock/\\"')
        .replace(f"{NEW}/Visit/hours", f"{NEW}/visit/hours/")
        .replace(NEW.replace("https", "http") + "/visit/hours/", f"{NEW}/visit/hours/")
        .replace(f"{OLD}/talks/7.html", f"{NEW}/events/7/")
    )
    assert (museum.folder / "mended" / "content.sql").read_text() == wanted
    with (museum.folder / "mended" / "left.csv").open(newline="") as rows:
        left = {r["url"]: r for r in csv.DictReader(rows)}
    assert left[f"{OLD}/lost.html"]["proposal"] == f"{NEW}/lost-and-found/"
    assert left["/soon.html"]["leads_to"] == f"{NEW}/visit/hours/"
    assert {left[f"{OLD}/dead.html"]["why"], left[f"{NEW}/nowhere/"]["why"]} == {
        "gone", "no page, and no answer",
    }  # fmt: skip


def test_done_twice_nothing_is_changed_any_more(museum_with_content: Program) -> None:
    museum = museum_with_content
    museum("survey", "--in", "content.sql", "--into", "once", code=1)
    again = museum.json("survey", "--in", "once/content.sql", "--into", "twice", code=1)
    assert again["mended"][0]["changes"] == 0
    once, twice = (museum.folder / d / "content.sql" for d in ("once", "twice"))
    assert once.read_bytes() == twice.read_bytes()


@pytest.mark.parametrize(
    ("wrap", "why"),
    [
        (lambda text: text.encode("utf-16"), "is in UTF-16"),
        (lambda text: text.encode("utf-16-le"), "is in UTF-16-LE"),
        (lambda text: gzip.compress(text.encode()), "is packed"),
    ],
)
def test_what_cannot_be_searched_is_refused_before_anything_is_written(
    museum_with_content: Program, wrap: Callable[[str], bytes], why: str
) -> None:
    museum = museum_with_content
    (museum.folder / "-wrapped é.sql").write_bytes(wrap(CONTENT))
    said = museum(
        "survey", "--in", "content.sql", "--in", "-wrapped é.sql", "--into", "mended", code=3
    ).err
    assert f"-wrapped é.sql {why}" in said
    assert not (museum.folder / "mended").exists()


def test_what_is_all_right_is_left_and_said(museum_with_content: Program) -> None:
    museum = museum_with_content
    museum.write("fine.md", f"[hours]({NEW}/visit/hours/) and [elsewhere](https://x.example/)\n")
    said = museum("survey", "--in", "fine.md", "--into", "mended").out
    assert "0 addresses changed" in said
    assert "--in and --into go together" in museum("survey", "--in", "fine.md", code=2).err
