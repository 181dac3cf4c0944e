"""Kinds: every place where old URLs hide, recognised by its content, with its evidence."""

from __future__ import annotations

import bz2
import gzip
import json
import lzma
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path

import pyarrow as pa
import pytest
import xlsxwriter
from pyarrow import parquet

from conftest import NEW, OLD, PROGRAM, Program

W3C = """#Software: a server
#Version: 1.0
#Date: 2026-05-03 00:00:00
#Fields: date time cs-method cs-uri-stem cs-uri-query cs(User-Agent) cs(Referer) sc-status cs-host
2026-05-03 10:00:00 GET /visit/a.html - Mozilla/5.0 http://b.example/post 200 www.quillhaven.example
2026-05-03 10:00:01 GET /catalogue.php item=7 Mozilla/5.0+(X11) - 404 www.quillhaven.example
2026-05-03 10:00:02 GET /short
#Fields: time cs-method cs-uri sc-status
10:00:03 HEAD /later 200
"""

JSON_LOG = "".join(
    json.dumps(line) + "\n"
    for line in (
        {"time": "2026-05-03T10:00:00+00:00", "request": "GET /a HTTP/1.1", "status": 200,
            "http_user_agent": "Mozilla/5.0"},
        {"ts": 1777802400.5, "request": {"method": "GET", "uri": "/b?x=1",
            "host": "www.quillhaven.example"}, "status": 404, "user_agent": "FernCrawler/1"},
    )
)  # fmt: skip

CDX = """ CDX N b a m s k r M S V g
example,quillhaven)/a 20160312084512 http://www.quillhaven.example/a text/html 200 ABC - - 1 5 x.gz
example,quillhaven)/b 20170101000000 http://www.quillhaven.example/b text/html 404 ABD - - 1 6 x.gz
nonsense
"""

FEED = """<?xml version="1.0"?><rss version="2.0"><channel>
<title>News</title><link>http://www.quillhaven.example/</link>
<item><title>The tower</title><link>http://www.quillhaven.example/journal/tower.html</link>
<pubDate>Tue, 05 May 2026 10:00:00 GMT</pubDate>
<guid isPermaLink="false">x1</guid>
<enclosure url="http://www.quillhaven.example/files/tower.mp3"/></item>
<item><title>No link</title></item></channel></rss>"""

ATOM = """<feed xmlns="http://www.w3.org/2005/Atom"><entry><title>Winding</title>
<link href="http://www.quillhaven.example/journal/winding.html"/>
<updated>2026-05-05T10:00:00Z</updated></entry></feed>"""

HAR = json.dumps(
    {
        "log": {
            "entries": [
                {
                    "startedDateTime": "2026-05-03T10:00:00Z",
                    "request": {"url": f"{OLD}/a"},
                    "response": {"status": 200},
                },
                {"request": {}},
            ]
        }
    }
)

PAGE = """<!doctype html><html><head><base href="http://www.quillhaven.example/visit/">
<link rel="stylesheet" href="/x.css"></head>
<body><a href="hours.html">Opening hours</a> <a href="mailto:a@b.example">mail</a>
<img src="/images/tower.jpg"></body></html>"""

PREAMBLE = """# ----------------------------------------
# All web site data
# 20260401-20260430
# ----------------------------------------

Landing page,Sessions,Avg. position,Last seen
http://www.quillhaven.example/a,"1,234",3.2,04/28/2026
http://www.quillhaven.example/b,7,1.1,04/02/2026

Grand total,"1,241",,
"""

UNNAMED = """w,x,y,z,v
http://blog.example/1,http://www.quillhaven.example/a,404,03.05.2026,The tower clock
http://blog.example/2,http://www.quillhaven.example/b,200,04.05.2026,Winding the bell
http://forum.example/3,http://www.quillhaven.example/c,404,05.05.2026,A carriage clock
http://forum.example/4,http://www.quillhaven.example/d,404,06.05.2026,Opening hours
"""

AMID = """Dear Ada,
please keep (http://www.quillhaven.example/visit/hours.html). Also www.quillhaven.example/press, and
quillhaven.example/shop/list too. See http://elsewhere.example/x.
Yours, Ivo
"""

# name, text, kind, (lines, accepted, set aside, rejected), entries
KINDS: list[tuple[str, str, str, tuple[int, int, int, int], set[str]]] = [
    ("w3c.log", W3C, "access-log", (9, 3, 5, 1),
        {"/visit/a.html", "/catalogue.php?item=7", "/later"}),
    ("json.log", JSON_LOG, "access-log", (2, 1, 1, 0), {"/a"}),
    ("index.cdx", CDX, "archive-index", (4, 2, 1, 1), {"/a", "/b"}),
    ("index.cdxj", (
        'example,quillhaven)/a 20160312084512 {"url": "http://www.quillhaven.example/a", "status": '
        '"200"}\n'
    ), "archive-index", (1, 1, 0, 0), {"/a"}),
    ("index.json", (
        '[["urlkey","timestamp","original","statuscode"],\n["x","2016","http://'
        'www.quillhaven.example/a","200"]]\n'
    ), "archive-index", (2, 1, 1, 0), {"/a"}),
    ("feed.xml", FEED, "feed", (2, 1, 0, 1), {"/journal/tower.html", "/files/tower.mp3"}),
    ("atom.xml", ATOM, "feed", (1, 1, 0, 0), {"/journal/winding.html"}),
    ("page.html", PAGE, "page", (4, 2, 2, 0), {"/visit/hours.html", "/images/tower.jpg"}),
    ("run.har", HAR, "har", (2, 1, 0, 1), {"/a"}),
    ("rows.jsonl", (
        '{"page": {"url": "/a"}, "clicks": 5}\n{"page": {"url": "/b"}}\n'
    ), "json", (2, 2, 0, 0), {"/a", "/b"}),
    ("rows.json", (
        '[{"url": "/a", "clicks": 5}, {"url": "/b"}]'
    ), "json", (2, 2, 0, 0), {"/a", "/b"}),
    ("preamble.csv", PREAMBLE, "table", (9, 2, 7, 0), {"/a", "/b"}),
    ("unnamed.csv", UNNAMED, "table", (4, 4, 0, 0), {"/a", "/b", "/c", "/d"}),
    ("letter.txt", AMID, "text", (4, 2, 2, 0), {"/visit/hours.html", "/press", "/shop/list"}),
]  # fmt: skip


def paths(program: Program) -> set[str]:
    return {
        e["legacy_url"].removeprefix(OLD) for e in program.json("entries", "--limit", 0)["entries"]
    }


@pytest.mark.parametrize(
    ("name", "text", "kind", "counts", "found"), KINDS, ids=[k[0] for k in KINDS]
)
def test_every_kind_gives_its_urls_and_accounts_for_each_line(
    museum: Program, name: str, text: str, kind: str, counts: tuple[int, ...], found: set[str]
) -> None:
    museum.write(name, text)
    source = museum.json("gather", name)["sources"][0]
    assert source["kind"] == kind
    assert tuple(source[k] for k in ("lines", "accepted", "set_aside", "rejected")) == counts
    assert paths(museum) == found


def test_columns_without_names_are_found_by_what_they_hold(museum: Program) -> None:
    museum.write("unnamed.csv", UNNAMED)
    source = museum.json("gather", "unnamed.csv")["sources"][0]
    assert source["columns"] == {
        "referrer": "w",
        "url": "x",
        "status": "y",
        "last seen": "z",
        "title": "v",
    }
    entry = museum.json("entries", "/a")
    assert (entry["title"], entry["last_seen"]) == ("The tower clock", "2026-05-03")
    assert entry["referrers"] == [{"address": "http://blog.example/1", "amount": 1.0}]
    assert (
        "columns referrer = w, url = x"
        in museum("gather", museum.write("two.csv", UNNAMED + "\n")).out
    )


def test_a_preamble_and_totals_are_no_rows_and_dates_are_read_by_the_months_order(
    museum: Program,
) -> None:
    museum.write("preamble.csv", PREAMBLE)
    museum("gather", "preamble.csv")
    assert museum.json("entries", "/a")["visits"] == 1234.0
    assert museum.json("entries", "/b")["last_seen"] == "2026-04-02"


def test_a_workbook(museum: Program) -> None:
    workbook = xlsxwriter.Workbook(museum.folder / "export.xlsx")
    workbook.add_worksheet("About").write(0, 0, "An export")
    sheet = workbook.add_worksheet("Pages")
    for n, row in enumerate(
        [("Page address", "Clicks", "Position"), (f"{OLD}/a", 1234, 3.5), (f"{OLD}/b", 7, 1)]
    ):
        sheet.write_row(n, 0, row)
    workbook.close()
    source = museum.json("gather", "export.xlsx")["sources"][0]
    assert (source["kind"], source["accepted"], source["columns"]["clicks"]) == (
        "sheet",
        2,
        "Clicks",
    )
    assert museum.json("entries", "/a")["clicks"] == 1234.0


@pytest.mark.parametrize("packing", ["gz", "bz2", "xz", "zst"])
def test_packed_files_are_the_same_source_as_plain_ones(museum: Program, packing: str) -> None:
    data = b"/a\n/b\n"
    pack = {
        "gz": gzip.compress,
        "bz2": bz2.compress,
        "xz": lzma.compress,
        "zst": lambda d: pa.compress(d, codec="zstd", asbytes=True),
    }[packing]
    museum.write(f"urls.txt.{packing}", pack(data))
    assert museum.json("gather", f"urls.txt.{packing}")["sources"][0]["accepted"] == 2
    museum.write("urls.txt", data)
    assert museum.json("gather", "urls.txt")["sources"][0]["known"]


def test_folders_patterns_and_standard_input(museum: Program) -> None:
    (museum.folder / "in/deep").mkdir(parents=True)
    museum.write("in/one.txt", "/one\n")
    museum.write("in/deep/two.csv", "url\n/two\n")
    museum.write("in/.hidden", "/hidden\n")
    names = [s["name"] for s in museum.json("gather", "in")["sources"]]
    assert names == ["deep/two.csv", "one.txt"]
    museum.write("x1.list", "/x1\n")
    museum.write("x2.list", "/x2\n")
    museum("gather", "x*.list")
    done = subprocess.run(
        [PROGRAM, "gather", "-"],
        cwd=museum.folder,
        input=b"/piped\n",
        capture_output=True,
        check=True,
    )
    assert b"standard input" in done.stdout
    assert paths(museum) == {"/one", "/two", "/x1", "/x2", "/piped"}
    assert "no file matches" in museum("gather", "y*.list", code=3).err
    (museum.folder / "empty").mkdir()
    assert "holds no files" in museum("gather", "empty", code=3).err


@pytest.fixture
def site(tmp_path: Path) -> Iterator[str]:
    """A small site on this machine with robots.txt and sitemaps, one of them packed."""
    folder = tmp_path / "site"
    folder.mkdir()
    server = subprocess.Popen(
        [sys.executable, "-u", "-m", "http.server", "0", "--bind", "127.0.0.1"],
        cwd=folder, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, text=True,
    )  # fmt: skip
    assert server.stdout is not None
    port = server.stdout.readline().split("port ")[1].split()[0]
    base = f"http://127.0.0.1:{port}"
    (folder / "robots.txt").write_text(
        f"User-agent: *\nDisallow: /admin\nSitemap: {base}/index.xml\n"
    )
    index = (
        f"<sitemapindex><sitemap><loc>{base}/one.xml.gz</loc></sitemap><sitemap><loc>{base}/"
        "gone.xml</loc></sitemap></sitemapindex>"
    )
    (folder / "index.xml").write_text(index)
    (folder / "one.xml.gz").write_bytes(
        gzip.compress(f"<urlset><url><loc>{OLD}/from-sitemap</loc></url></urlset>".encode())
    )
    yield base
    server.terminate()
    server.wait()


def test_robots_and_sitemap_indexes_are_followed_by_address(museum: Program, site: str) -> None:
    result = museum.json("gather", f"{site}/robots.txt")
    assert [s["kind"] for s in result["sources"]] == ["robots", "sitemap", "sitemap"]
    assert "answered 404" in result["sources"][1]["notes"][0]
    assert paths(museum) == {"/from-sitemap"}
    assert "answered 404" in museum("gather", f"{site}/nowhere.xml", code=3).err


def test_a_sitemap_index_on_disk_reads_what_lies_beside_it(museum: Program) -> None:
    museum.write("index.xml", (
        f"<sitemapindex><sitemap><loc>{OLD}/part.xml</loc></sitemap><sitemap><loc>{OLD}/far.xml</"
        "loc></sitemap></sitemapindex>"
    ))  # fmt: skip
    museum.write("part.xml", f"<urlset><url><loc>{OLD}/a</loc></url></urlset>")
    result = museum.json("gather", "index.xml")
    assert [s["name"] for s in result["sources"]] == ["index.xml", "part.xml"]
    assert "far.xml" in result["sources"][0]["notes"][0]


def test_secrets_are_masked_wherever_they_stand(museum: Program) -> None:
    text = (
        f"url,referrer\n{OLD}/a?token=s3cret,http://blog.example/"
        "?api_key=hush&x=ada@mail.example\nnot a url?password=open sesame,\n"
    )
    museum.write("export.csv", text)
    museum("gather", "export.csv")
    (museum.folder / "export.csv").unlink()
    stored = b"".join(p.read_bytes() for p in museum.folder.rglob("*") if p.is_file())
    for secret in (b"s3cret", b"hush", b"ada@mail", b"password=open"):
        assert secret not in stored


def test_balance_says_where_entries_came_from(museum: Program) -> None:
    museum.write("one.txt", "/a\n/b\n")
    museum.write("two.csv", "url,clicks\n/b,5\n")
    museum("gather", "one.txt", "two.csv", "--period", "2026-01-01..2026-03-31")
    sources = {
        s["name"]: (s["entries"], s["alone"], s["period"])
        for s in museum.json("balance")["sources"]
    }
    assert sources["one.txt"][:2] == (2, 1)
    assert sources["two.csv"] == (1, 0, ["2026-01-01", "2026-03-31"])
    assert "alone" in museum("balance").out


@pytest.mark.parametrize("indent", [None, 1])
def test_a_recording_of_a_browser_is_no_log(indent: int | None, museum: Program) -> None:
    """Whoever recorded it asked for all of it; without a list of pages beside its requests, too."""
    entries = [
        {
            "startedDateTime": f"2026-05-12T10:00:0{n}.000Z",
            "request": {"method": "GET", "url": f"{OLD}/{n}.html", "headers": []},
            "response": {"status": 200, "content": {"mimeType": "text/html"}},
        }
        for n in range(3)
    ]
    told = {"log": {"version": "1.2", "creator": {"name": "x", "version": "1"}, "entries": entries}}
    museum.write("a.har", json.dumps(told, indent=indent))
    (source,) = museum.json("gather", "a.har")["sources"]
    assert (source["kind"], source["accepted"]) == ("har", 3)
    assert {e["hits"] for e in museum.json("entries")["entries"]} == {0}


def test_files_of_columns_are_lists_stock_and_answers(museum: Program) -> None:
    for name, columns in {
        "old": {"url": [f"{OLD}/a", f"{OLD}/b"], "hits": [3, 4]},
        "pages": {"url": [f"{NEW}/a/"], "title": ["A"]},
        "pairs": {"old": [f"{OLD}/a"], "new": [f"{NEW}/a/"]},
    }.items():
        parquet.write_table(pa.table(columns), museum.folder / f"{name}.parquet")
    whole = (museum.folder / "old.parquet").read_bytes()
    (museum.folder / "torn.parquet").write_bytes(whole[: len(whole) // 2])
    assert museum.json("gather", "old.parquet")["sources"][0]["accepted"] == 2
    assert "holds 1 page" in museum("stock", "pages.parquet").out
    assert "1 answer posted" in museum("decide", "--from", "pairs.parquet").out
    assert "2 distinct URLs with 7 hits" in museum("rehearse", "old.parquet", code=None).out
    museum.write("new.yml", f"- url: {NEW}/b/\n  hits: 3\n- url: {NEW}/c/\n  hits: 4\n")
    assert "holds 3 pages" in museum("stock", "new.yml").out
    assert "torn.parquet is damaged" in museum("gather", "torn.parquet", code=3).err
