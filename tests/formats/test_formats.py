"""Formats: what each reader yields, line by line, and what writers never let through."""

from __future__ import annotations

from pathlib import Path

import pytest

from upright_ledger.errors import InputError, UsageError
from upright_ledger.formats.detection import delimiter_of, recognise
from upright_ledger.formats.files.atomic import csv_bytes, safe_cell, write_whole
from upright_ledger.formats.files.text import digest_of
from upright_ledger.formats.lists.sitemap import read_sitemap
from upright_ledger.formats.lists.text_list import read_text_list
from upright_ledger.formats.logs.access_log import read_access_log
from upright_ledger.formats.records import Aside, Item, ReadOptions, Record, Reject, one_by_one
from upright_ledger.formats.registry import read_urls
from upright_ledger.formats.tables.cells import status_code
from upright_ledger.formats.tables.column_mapping import map_columns
from upright_ledger.formats.tables.column_names import bare
from upright_ledger.formats.tables.meanings.figures import number
from upright_ledger.formats.tables.pairs import read_pairs
from upright_ledger.formats.tables.url_rows import read_table_urls

PLAIN = ReadOptions()


def put(folder: Path, text: str | bytes, name: str = "file") -> Path:
    path = folder / name
    path.write_bytes(text if isinstance(text, bytes) else text.encode())
    return path


def kinds(items: list[Item]) -> list[str]:
    return [type(i).__name__ for i in items]


@pytest.mark.parametrize(
    ("text", "kind"),
    [
        ("/a\n/b\n", "text"),
        ("http://x.example/a,b\nhttp://x.example/c;d\n", "text"),
        ("url\n/a\n", "text"),
        ("url,visits\n/a,1\n", "table"),
        ("url;visits\n/a;1\n/b;2\n", "table"),
        ("url\tvisits\n/a\t1\n", "table"),
        ("<?xml version='1.0'?><urlset></urlset>", "sitemap"),
        ("\ufeff<urlset/>", "sitemap"),
        ("<sm:urlset xmlns:sm='x'/>", "sitemap"),
        ('192.0.2.1 - - [03/May/2026:10:00:00 +0000] "GET / HTTP/1.1" 200 1\n', "access-log"),
        (
            (
                'h.example 192.0.2.1 - ada [03/May/2026:10:00:00 +0000] "GET / HTTP/1.1" 200 '
                "1\nbroken\n"
            ),
            "access-log",
        ),
    ],
)
def test_kinds_are_recognised_by_content(tmp_path: Path, text: str, kind: str) -> None:
    assert recognise(put(tmp_path, text)) == kind


def test_an_unknown_kind_is_refused(tmp_path: Path) -> None:
    with pytest.raises(UsageError, match="no kind of file"):
        read_urls(put(tmp_path, "/a\n"), "parchment", PLAIN)


def test_a_text_list(tmp_path: Path) -> None:
    text = (
        'URL\n/a\n\n# note\n"/b"\n<http://x.example/c>\nx.example/d\nplain words\n'
        "/" + "x" * 2_000_000 + "\n"
    )
    items = list(one_by_one(read_text_list(put(tmp_path, text), PLAIN).items))
    assert kinds(items) == [
        "Aside",
        "Record",
        "Aside",
        "Aside",
        "Record",
        "Record",
        "Record",
        "Reject",
        "Reject",
    ]
    assert [i.url for i in items if isinstance(i, Record)] == [
        "/a",
        "/b",
        "http://x.example/c",
        "x.example/d",
    ]
    assert [i.line for i in items] == list(range(1, 10))


def test_a_table_keeps_the_lines_of_its_rows(tmp_path: Path) -> None:
    text = (
        "Page,Clicks,Title,Status code,Last seen,Linked "
        'from\n/a,5,"two\nlines",404,2026-03-01T10:00,http://b.example/\n\n,7,,,,\n/c,,(not '
        "set),abc,soon,\n"
    )
    items = list(one_by_one(read_table_urls(put(tmp_path, text), PLAIN).items))
    assert kinds(items) == ["Record", "Aside", "Aside", "Record"]
    assert [i.line for i in items] == [2, 4, 5, 6]
    first, last = items[0], items[3]
    assert isinstance(first, Record)
    assert isinstance(last, Record)
    told = {f.unit: f.amount for f in first.figures}
    assert (told["clicks"], first.status, first.day) == (5.0, 404, "2026-03-01")
    assert first.referrers == {"http://b.example/": 1.0}
    assert (last.title, last.status, [f.unit for f in last.figures]) == ("", 0, ["listed"])


@pytest.mark.parametrize(
    ("header", "meaning", "at"),
    [
        ("Page URL,Hits", "url", 0),
        ("Rank,Landing Page,Sessions", "visits", 2),
        ("source_url,target_url", "url", 1),
        ("source_url,target_url", "referrer", 0),
        ("URL,Referring Domains", "linking domains", 1),
        ("URL,HTTP status", "status", 1),
        ("URL,x,Total clicks (28 days)", "clicks", 2),
        ("URL,Page-Title", "title", 1),
    ],
)
def test_headers_are_understood(header: str, meaning: str, at: int) -> None:
    rows = (
        [["/a", "/b", "Tower clock"]]
        if meaning in {"url", "title", "referrer"}
        else [["/a", "404", "7"]]
    )
    assert map_columns(header.split(","), rows, {}, frozenset())[meaning] == at


def test_a_given_column_comes_first_and_must_exist() -> None:
    assert (
        map_columns(["url", "Where it was"], [], {"url": "where it was"}, frozenset())["url"] == 1
    )
    with pytest.raises(KeyError, match="nowhere"):
        map_columns(["url"], [], {"url": "nowhere"}, frozenset())
    assert bare('"Page_URL" ') == "pageurl"
    none = frozenset[str]()
    assert (
        map_columns([], [["1", "/a"], ["2", "http://x.example/"], ["3", ""]], {}, none)["url"] == 1
    )
    assert "url" not in map_columns([], [["1", "x"], ["2", "/y z"]], {}, none)
    assert number("1,2,3") != 1.0


@pytest.mark.parametrize(
    ("cell", "figure"),
    [
        ("۳٬۴۰۰", 3400.0),
        ("\u200e٣٬٤٠٠", 3400.0),
        ("٠٫٥", 0.5),
        ("３，４００", 3400.0),
        ("१२३", 123.0),
        ("一二", None),
        ("²", None),
        ("12時", None),
    ],
)
def test_figures_in_digits_of_other_scripts(cell: str, figure: float | None) -> None:
    assert number(cell) == figure


def test_marks_of_the_direction_of_writing_are_no_part_of_a_header() -> None:
    assert bare("\u200fکلیک\u200cها\u200e") == bare("کلیکها")
    assert bare("\u200eＵＲＬ") == "url"


@pytest.mark.parametrize(
    ("lines", "delimiter"),
    [
        (["a,b", "1,2"], ","),
        (["a;b;c", "1;2;3"], ";"),
        (["a|b", "1|2"], "|"),
        (["a", "b"], ""),
        (["http://x/,1", "/b;2"], ""),
        ([], ""),
    ],
)
def test_delimiters(lines: list[str], delimiter: str) -> None:
    assert delimiter_of(lines) == delimiter


LOG = '{host}192.0.2.1 - - [03/May/2026:10:00:00 +0200] "{request}" {status} 12{rest}\n'


@pytest.mark.parametrize(
    ("host", "request_line", "status", "rest", "found"),
    [
        ("", "GET /a HTTP/1.1", "200", "", ("Record", "/a", False)),
        (
            "",
            "HEAD /a?b=c HTTP/2.0",
            "404",
            ' "-" "Mozilla/5.0 (X11)"',
            ("Record", "/a?b=c", False),
        ),
        (
            "",
            "GET /a HTTP/1.1",
            "200",
            ' "http://b.example/" "FernCrawler/1"',
            ("Record", "/a", True),
        ),
        ("www.x.example:443 ", "GET /a HTTP/1.1", "200", "", ("Record", "/a", False)),
        ("", "GET /a\\x22b HTTP/1.1", "200", "", ("Record", '/a"b', False)),
        ("", "GET /caf\\xc3\\xa9 HTTP/1.1", "200", "", ("Record", "/café", False)),
        ("", "GET http://x.example/a HTTP/1.1", "200", "", ("Record", "http://x.example/a", False)),
        ("", "POST /a HTTP/1.1", "200", "", ("Aside", "", False)),
        ("", "CONNECT x.example:443 HTTP/1.1", "405", "", ("Aside", "", False)),
        ("", "-", "408", "", ("Aside", "", False)),
        ("", "GET /a", "400", "", ("Reject", "", False)),
        ("", "\\x16\\x03\\x01", "400", "", ("Reject", "", False)),
        ("", "GET /a b HTTP/1.1", "400", "", ("Reject", "", False)),
    ],
)
def test_log_lines(
    tmp_path: Path,
    host: str,
    request_line: str,
    status: str,
    rest: str,
    found: tuple[str, str, bool],
) -> None:
    (item,) = read_access_log(
        put(tmp_path, LOG.format(host=host, request=request_line, status=status, rest=rest)), PLAIN
    ).items
    assert type(item).__name__ == found[0]
    if isinstance(item, Record):
        (figure,) = item.figures
        assert (item.url, figure.agent == "bots") == found[1:]
        assert (figure.days, figure.amount, item.host) == ("2026-05-03:1", 1.0, host.strip())
        assert figure.status_class == ("404" if status == "404" else "2xx")
    if isinstance(item, Reject):
        assert "192.0.2.1" not in item.text


def test_a_log_with_bytes_that_are_no_text(tmp_path: Path) -> None:
    path = put(
        tmp_path,
        b'192.0.2.1 - - [03/May/2026:10:00:00 +0000] "GET /caf\xe9 HTTP/1.1" 200 1\n\n\xff\xfe\n',
    )
    items = list(read_access_log(path, PLAIN).items)
    assert sorted(kinds(items)) == ["Aside", "Record", "Reject"]


def test_a_sitemap_without_and_with_damage(tmp_path: Path) -> None:
    good = (
        "<urlset xmlns='http://www.sitemaps.org/schemas/sitemap/0.9'><url><loc> http://x.example/a "
        "</loc><lastmod>2026-01-02T03:04</lastmod></url><url/><sitemap><loc>http://x.example/"
        "s.xml</loc></sitemap></urlset>"
    )
    items = list(read_sitemap(put(tmp_path, good), PLAIN).items)
    assert kinds(items) == ["Record", "Reject", "Aside"]
    assert isinstance(items[0], Record)
    assert (items[0].url, items[0].day) == ("http://x.example/a", "2026-01-02")
    for bad in ("<urlset>", "<urlset></urlset>", "<urlset><url>"):
        with pytest.raises(InputError):
            list(read_sitemap(put(tmp_path, bad), PLAIN).items)


@pytest.mark.parametrize(
    ("text", "rows"),
    [
        ("old,new,status\n/a,/b,301\n", [("/a", "/b", "301")]),
        ("Old URL;New URL\n/a;/b\n", [("/a", "/b", "")]),
        ("From\tTo\tCode\n/a\t/b\t302\n", [("/a", "/b", "302")]),
        ("/a,/b\n/c,/d\n", [("/a", "/b", ""), ("/c", "/d", "")]),
        ("note,new,old\nx,/b,/a\n", [("/a", "/b", "")]),
        ("old,new\n'=a,'@b\n", [("=a", "@b")]),
        ('old,new\n"/a,b","/c"\n\n', [("/a,b", "/c", "")]),
    ],
)
def test_sheets_of_pairs(tmp_path: Path, text: str, rows: list[tuple[str, ...]]) -> None:
    found = read_pairs(put(tmp_path, text)).rows
    assert [(p.old, p.new, p.status)[: len(rows[0])] for p in found] == rows


@pytest.mark.parametrize("start", ["=", "+", "-", "@", "\t=", "\r@"])
def test_no_cell_is_a_formula(start: str) -> None:
    cell = safe_cell(f"{start}HYPERLINK()")
    assert isinstance(cell, str)
    assert cell.startswith("'")
    assert (
        csv_bytes(["a"], [[f"{start}x"], ["line\nend"], [5]])
        .decode()
        .splitlines()[1]
        .startswith("'")
    )
    assert safe_cell("/plain") == "/plain"


def test_files_are_written_whole_or_not(tmp_path: Path) -> None:
    target = tmp_path / "deep" / "file.txt"
    write_whole(target, b"one")
    write_whole(target, b"two")
    assert target.read_bytes() == b"two"
    assert [p.name for p in target.parent.iterdir()] == ["file.txt"]
    with pytest.raises(InputError, match="cannot be written"):
        write_whole(target / "below", b"x")
    assert digest_of(target)[1] == 3
    with pytest.raises(InputError, match="cannot be read"):
        digest_of(tmp_path / "missing")


def test_what_is_set_aside_keeps_its_line(tmp_path: Path) -> None:
    (item,) = one_by_one(read_text_list(put(tmp_path, "# only a note\n"), PLAIN).items)
    assert item == Aside(1, "blank", "# only a note")


@pytest.mark.parametrize(
    ("cell", "status"),
    [("404", 404), ("", 0), ("OK", 0), ("40", 0), ("4040", 0), ("²²²", 0), ("404 Not Found", 404)],
)
def test_a_status_begins_with_three_digits(cell: str, status: int) -> None:
    assert status_code(cell) == status
