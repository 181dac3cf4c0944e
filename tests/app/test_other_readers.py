"""What the program writes, read by libraries of other hands; and what these write, read by it."""

from __future__ import annotations

import csv
import json
import sqlite3
import xml.etree.ElementTree as ET
from collections import Counter
from pathlib import Path
from typing import Any

import lxml.html
import openpyxl
import pytest
from hypothesis import given
from hypothesis import strategies as st

import ugly
from conftest import NEW, OLD, Program
from properties import in_brief
from upright_ledger.formats.html.page_head import read_page
from upright_ledger.formats.lists.sitemap import read_sitemap
from upright_ledger.formats.records import ReadOptions, Record

HOSTILE = [
    "=1+1",
    "@SUM(1)",
    "+cmd|' /C x'!A0",
    "-2+3",
    'a"b',
    "a,b;c",
    "é\u2028x",
    "<b>&amp;",
    "\t=x",
]


@pytest.fixture
def filled(museum: Program) -> Program:
    """A ledger with titles that try to be more than texts."""
    rows = [[f"{OLD}/p{n}?q={n}", title, str(n)] for n, title in enumerate(HOSTILE)]
    with (museum.folder / "list.csv").open("w", newline="", encoding="utf-8") as file:
        csv.writer(file).writerows([["url", "title", "clicks"], *rows])
    museum("gather", "list.csv")
    museum.write("pages.csv", f"url,status,title\n{NEW}/n/,200,New\n")
    museum("stock", "pages.csv")
    museum("decide", "/p0?q=0", "--to", "/n/", "--reason", "=1+1")
    return museum


def test_a_workbook_is_what_another_library_reads_and_runs_nothing(filled: Program) -> None:
    filled("review", "--out", "sheet.xlsx")
    book = openpyxl.load_workbook(filled.folder / "sheet.xlsx")
    sheet = book.worksheets[0]
    head = [str(c.value) for c in sheet[1]]
    urls = [row[head.index("legacy_url")].value for row in sheet.iter_rows(min_row=2)]
    cells = [c for each in book.worksheets for row in each.iter_rows() for c in row]
    assert not [c.coordinate for c in cells if c.data_type == "f"], "no cell is a formula"
    shown = filled.json("entries", "--limit", "0")["entries"]
    assert sorted(urls) == sorted(e["legacy_url"] for e in shown)


def test_a_list_in_csv_holds_what_is_shown_and_nothing_that_runs(filled: Program) -> None:
    filled("entries", "--limit", "0", "--csv", "all.csv")
    with (filled.folder / "all.csv").open(newline="", encoding="utf-8-sig") as file:
        rows = list(csv.DictReader(file))
    shown = filled.json("entries", "--limit", "0")["entries"]
    assert {r["legacy_url"] for r in rows} == {e["legacy_url"] for e in shown}
    assert all(not v or v[0] not in "=+-@\t" for r in rows for v in r.values())
    clicks = {r["legacy_url"]: float(r["clicks"]) for r in rows}
    assert clicks == {e["legacy_url"]: e["clicks"] for e in shown}


def test_a_workbook_of_another_library_is_gathered_cell_by_cell(museum: Program) -> None:
    book = openpyxl.Workbook()
    sheet = book.active
    assert sheet is not None
    sheet.append(["Old address", "Clicks"])
    urls = [f"{OLD}/{n}" for n in range(5)]
    for n, url in enumerate(urls):
        sheet.append([url, n + 0.0])
    other = book.create_sheet("More")
    other.append(["url"])
    other.append([f"{OLD}/more"])
    book.save(museum.folder / "book.xlsx")
    sources = museum.json("gather", "book.xlsx")["sources"]
    assert [(s["accepted"], s["rejected"]) for s in sources] == [(5, 0), (1, 0)]
    shown = {
        e["legacy_url"]: e["clicks"] for e in museum.json("entries", "--limit", "0")["entries"]
    }
    assert shown == {**{u: float(n) for n, u in enumerate(urls)}, f"{OLD}/more": 0.0}


def test_the_database_adds_up_by_plain_sql(filled: Program) -> None:
    with sqlite3.connect(f"file:{filled.folder / 'ledger.db'}?mode=ro", uri=True) as connection:
        told = dict(connection.execute(
            "SELECT e.legacy_url, SUM(v.amount) FROM evidence v"
            " JOIN spellings p ON p.id = v.spelling JOIN entries e ON e.id = p.entry"
            " WHERE v.unit = 'clicks' GROUP BY e.legacy_url"))  # fmt: skip
        kinds = dict(connection.execute("SELECT kind, COUNT(*) FROM answers GROUP BY kind"))
        assert connection.execute("PRAGMA integrity_check").fetchone() == ("ok",)
        assert connection.execute("PRAGMA foreign_key_check").fetchall() == []
    shown = filled.json("entries", "--limit", "0")["entries"]
    assert told == {
        e["legacy_url"]: e["clicks"] for e in shown if e["clicks"] or e["legacy_url"] in told
    }
    answered = Counter(e["answer"] for e in shown if e["answer"] != "open")
    assert {k: n for k, n in kinds.items() if k != "open"} == answered


@in_brief
@given(st.lists(st.tuples(ugly.paths, ugly.queries), min_size=1, max_size=8))
def test_a_sitemap_of_another_library_is_read_to_the_address(
    tmp_path_factory: pytest.TempPathFactory, addresses: list[tuple[str, str]]
) -> None:
    space = "http://www.sitemaps.org/schemas/sitemap/0.9"
    urls = [f"{OLD}{p}?{q}" for p, q in addresses]
    urls = ["".join(c for c in u if c.isprintable()).strip() for u in urls]
    root = ET.Element(f"{{{space}}}urlset")
    for url in urls:
        ET.SubElement(ET.SubElement(root, f"{{{space}}}url"), f"{{{space}}}loc").text = url
    path: Path = tmp_path_factory.mktemp("map") / "sitemap.xml"
    path.write_bytes(ET.tostring(root, encoding="utf-8", xml_declaration=True))
    items = list(read_sitemap(path, ReadOptions()).items)
    found = [i for i in items if isinstance(i, Record)]
    assert len(found) == len(urls)
    assert all(i.url.strip() == u or i.mends for i, u in zip(found, urls, strict=True))


_WORDS = st.text(st.sampled_from("ab &<>\"'é\n日"), min_size=1, max_size=12)


@in_brief
@given(_WORDS, st.sampled_from(["", "/x", f"{NEW}/y?a=1&b=2"]), st.booleans(),
    st.sampled_from(["", "de", "en-GB"]))  # fmt: skip
def test_a_page_says_what_another_parser_finds(
    title: str, canonical: str, noindex: bool, language: str
) -> None:
    head: Any = lxml.html.Element("head")
    lxml.html.etree.SubElement(head, "title").text = title
    if canonical:
        lxml.html.etree.SubElement(head, "link", rel="canonical", href=canonical)
    if noindex:
        lxml.html.etree.SubElement(head, "meta", name="robots", content="noindex")
    page: Any = lxml.html.Element("html", **({"lang": language} if language else {}))
    page.append(head)
    data = lxml.html.tostring(page, encoding="utf-8")
    found = read_page(data, "text/html; charset=utf-8", "")
    assert found.title == " ".join(title.split())
    assert (found.canonical, found.noindex, found.language) == (canonical, noindex, language)


def test_all_that_is_json_is_json_to_another_reader(filled: Program) -> None:
    for words in (("entries", "--limit", "0"), ("balance",), ("check",), ("history",), ("fold",)):
        text = filled(*words, "--json", code=None).out
        assert json.loads(text, parse_constant=pytest.fail) is not None
        assert "\x1b" not in text
