"""Gathering: kinds, folding, hostile and broken input, and nothing lost."""

from __future__ import annotations

import gzip
from collections.abc import Callable
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from conftest import NEW, OLD, Program, opened
from upright_ledger.formats.records import ReadOptions

SAME = [
    "/visit/hours.html",
    "/visit/hours.html/",
    "/Visit/HOURS.html",
    "//visit//hours.html",
    "/./visit/x/../hours.html",
    "/visit/hours%2Ehtml",
    "/v%69sit/hours.html",
    "/visit/hours.html?utm_source=a&gclid=b",
    "/visit/hours.html?PHPSESSID=123",
    "/visit/hours.html;jsessionid=9A",
    "/visit/hours.html#top",
    "http://quillhaven.example/visit/hours.html",
    "https://www.quillhaven.example:443/visit/hours.html",
    "www.quillhaven.example/visit/hours.html",
    "HTTP://WWW.QUILLHAVEN.EXAMPLE/visit/hours.html",
]


def entries(program: Program) -> set[str]:
    return {e["legacy_url"] for e in program.json("balance")["top_open"]}


def test_spellings_of_one_page_are_one_entry(museum: Program) -> None:
    museum.write("urls.txt", "\n".join(SAME))
    result = museum.json("gather", "urls.txt")
    assert result["entries"] == 1
    folded = result["sources"][0]["folded"]
    assert {
        "letter case",
        "trailing slash",
        "repeated slashes",
        "dot segments",
        "percent encoding",
        "tracking parameter",
        "session parameter",
    } <= set(folded)


@pytest.mark.parametrize(
    ("lines", "count"),
    [
        (["/a", "/a/", "/a/index.html", "/A/Index.HTML"], 1),
        (["/a?item=1", "/a?item=2", "/a"], 3),
        (["/a?x=1&y=2", "/a?y=2&x=1"], 1),
        (["/a?Item=1", "/a?item=1"], 2),
        (["/caf%c3%a9", "/caf%C3%A9", "/café"], 1),
        (["/caf%E9", "/café"], 1),
        (["/a;b", "/a%3Bb"], 1),
        (["/x.pdf", "/x.pdf?utm_campaign=y"], 1),
        (
            [
                "/catalogue.php?item=1",
                "/catalogue.php?item=1&view=large",
                "/Catalogue.php?view=small&item=1",
            ],
            1,
        ),
    ],
)
def test_what_is_one_entry(
    open_museum: Callable[..., Program], lines: list[str], count: int
) -> None:
    own = open_museum(
        "--old", OLD, "--new", "https://new.example", "--significant", "/catalogue.php=item"
    )
    own.write("urls.txt", "\n".join(lines))
    assert own.json("gather", "urls.txt")["entries"] == count


def test_case_can_be_exact(open_museum: Callable[..., Program]) -> None:
    own = open_museum("--old", OLD, "--new", "https://new.example", "--case", "exact")
    own.write("urls.txt", "/QH17\n/qh17\n")
    assert own.json("gather", "urls.txt")["entries"] == 2


def test_separate_old_sites_keep_equal_paths_apart(open_museum: Callable[..., Program]) -> None:
    own = open_museum(
        "--old", OLD, "--old", "http://de.quillhaven.example", "--new", "https://new.example"
    )
    own.write(
        "urls.txt",
        f"{OLD}/kontakt\nhttp://de.quillhaven.example/kontakt\nhttp://www.de.quillhaven.example/"
        "kontakt\n",
    )
    assert own.json("gather", "urls.txt")["entries"] == 2
    own.write("paths.txt", "/nur-hier\n")
    own("gather", "paths.txt", "--host", "de.quillhaven.example")
    assert "http://de.quillhaven.example/nur-hier" in entries(own)
    assert "belongs to no old site" in own("gather", "paths.txt", "--host", "x.example", code=2).err


@pytest.mark.parametrize(
    ("text", "hits", "title"),
    [
        ("Address;Pageviews;Title\n/a;1.234;Tower\n", 1234.0, "Tower"),
        (
            "clicks\tURL\tPage title\n1,234\thttp://www.quillhaven.example/a\tTower\n",
            1234.0,
            "Tower",
        ),
        ('"Landing Page","Sessions"\n"/a","12"\n', 12.0, ""),
        ("Rank,Somewhere,Visits\n1,/a,7\n2,/b,9\n", 7.0, ""),
    ],
)
def test_columns_are_found_by_name_and_by_content(
    museum: Program, text: str, hits: float, title: str
) -> None:
    museum.write("export.csv", text)
    source = museum.json("gather", "export.csv")["sources"][0]
    assert source["kind"] == "table"
    assert source["rejected"] == 0
    del title
    assert {e["legacy_url"]: e["value"] for e in museum.json("balance")["top_open"]}[
        f"{OLD}/a"
    ] == hits


def test_a_column_can_be_named(museum: Program) -> None:
    museum.write("export.csv", "name of it,where it was,how often\nx,hours.html,5\ny,/b,6\n")
    refused = museum("gather", "export.csv", code=3)
    assert "name of it, where it was, how often" in refused.err
    museum("gather", "export.csv", "--column", "url=where it was", "--column", "visits=how often")
    assert entries(museum) == {f"{OLD}/hours.html", f"{OLD}/b"}
    assert "write it as" in museum("gather", "export.csv", "--column", "url", code=2).err


def test_a_period_makes_figures_comparable(museum: Program) -> None:
    museum.write("quarter.csv", "url,visits\n/a,90\n")
    museum("gather", "quarter.csv", "--period", "2026-01-01..2026-03-31")
    assert museum.json("balance")["top_open"][0]["value"] == 30.0
    assert "is no period" in museum("gather", "quarter.csv", "--period", "spring", code=2).err


BROKEN: list[tuple[str, bytes, str]] = [
    ("empty.txt", b"", "is empty"),
    ("blank.txt", b"\n \n", "is empty"),
    ("binary.dat", bytes(range(256)) * 20, "is binary"),
    (
        "cut.csv.gz",
        gzip.compress(b"url\n" + b"".join(b"/%d\n" % n for n in range(99999)))[:90000],
        "cut-off archive",
    ),
    ("no.csv.gz", b"\x1f\x8b\x08\x00rest", "cut-off archive"),
    ("bomb.gz", gzip.compress(b"/a\n" * (23 << 20)), "grows more than"),
    ("files.zip", b"PK\x03\x04rest", "damaged archive"),
    ("sheet.xlsx", b"PK\x03\x04[Content_Types].xml rest", "damaged workbook"),
    ("prose.txt", b"Dear all\nhere is the list\n", "holds no URL"),
    ("table.csv", b"a,b\n1,2\n3,4\n", "has no column of URLs"),
    # figures, each of which stands for many requests
    ("figures.txt", b'asked{path="/a",method="GET",code="404"} 17\n' * 3, "has no column of URLs"),
    (
        "sitemap.xml",
        b"<urlset><url><loc>http://www.quillhaven.example/</loc>",
        "names no addresses: Premature end",
    ),
    (
        "bomb.xml",
        (
            b'<!DOCTYPE x [<!ENTITY a "aaaa"><!ENTITY b '
            b'"&a;&a;">]><urlset><url><loc>&b;</loc></url></urlset>'
        ),
        "has no loc",
    ),
    ("page.html", b"<html><body>hello</body></html>", "holds no URL"),
    ("other.xml", b"<catalogue><item/></catalogue>", "names no addresses"),
    ("long.txt", b"x" * (50 << 20), "holds no URL"),
    ("cut.jsonl", b'{"url": "/a"}\n{"url": "/b\n', "line 2 is damaged JSON"),
    ("missing.txt", b"", "cannot be read"),
]


@pytest.mark.parametrize(("name", "data", "words"), BROKEN, ids=[b[0] for b in BROKEN])
def test_what_cannot_be_read_is_one_sentence_and_changes_nothing(
    museum: Program, name: str, data: bytes, words: str
) -> None:
    if name != "missing.txt":
        museum.write(name, data)
    before = museum.json("history")
    refused = museum("gather", name, code=3)
    assert words in refused.err
    assert name in refused.err
    assert len(refused.err.strip().splitlines()) == 2
    assert museum.json("history") == before
    assert museum.json("balance")["entries"] == 0


def test_a_file_that_turns_out_damaged_is_left_out_and_the_others_are_gathered(
    museum: Program,
) -> None:
    museum.write("good.txt", "/good\n")
    museum.write("pages.jsonl", '{"url": "/a"}\n' * 900 + '{"url": "/b\n')
    museum.write("more.txt", "/more\n")
    result = museum("gather", "good.txt", "pages.jsonl", "more.txt", code=3)
    assert "pages.jsonl line 901 is damaged JSON" in result.err
    assert entries(museum) == {f"{OLD}/good", f"{OLD}/more"}
    again = museum("gather", "good.txt", "nowhere.txt", code=3)
    assert "nowhere.txt cannot be read" in again.err


def test_secrets_are_masked_before_they_are_stored(museum: Program) -> None:
    museum.write(
        "urls.txt",
        f"{OLD}/reset?token=abc123&user=ada.l@mail.example\nhttp://"
        "ada:pass@www.quillhaven.example/in\n",
    )
    museum("gather", "urls.txt")
    stored = b"".join(p.read_bytes() for p in museum.folder.glob("ledger.db*"))
    for secret in (b"abc123", b"ada.l", b"mail.example", b"ada:pass"):
        assert secret not in stored


def test_no_visitor_address_is_stored(museum: Program) -> None:
    whole = (
        '198.51.100.77 - ada [03/May/2026:10:00:00 +0000] "GET /a HTTP/1.1" 200 1 "-" '
        '"Mozilla/5.0"\n'
    )
    log = museum.write(
        "access.log",
        whole * 9 + "198.51.100.77 - - cut o\nada.home.example - - [03\n2001:db8::77 - x\n",
    )
    museum("gather", "access.log")
    log.unlink()
    stored = b"".join(p.read_bytes() for p in museum.folder.rglob("*") if p.is_file())
    for visitor in (b"198.51.100.77", b"ada.home", b"2001:db8"):
        assert visitor not in stored
    assert b"cut o" in stored


def test_a_log_with_hosts_and_odd_requests(museum: Program) -> None:
    line = '{h} 192.0.2.1 - - [03/May/2026:10:00:00 +0000] "{r}" 404 1 "-" "Mozilla/5.0"\n'
    requests = [
        ("www.quillhaven.example:80", "GET /a HTTP/1.1"),
        ("other.example", "GET /b HTTP/1.1"),
        ("quillhaven.example", "POST /form HTTP/1.1"),
        ("quillhaven.example", "GET http://www.quillhaven.example/abs HTTP/1.1"),
        ("quillhaven.example", "GET /caf\\xc3\\xa9 HTTP/1.1"),
        ("quillhaven.example", "GET /x%2fy HTTP/1.1"),
        ("quillhaven.example", "OPTIONS * HTTP/1.0"),
        ("quillhaven.example", "GET /no-version"),
    ]
    museum.write("vhost.log", "".join(line.format(h=h, r=r) for h, r in requests))
    source = museum.json("gather", "vhost.log")["sources"][0]
    assert (
        source["kind"],
        source["lines"],
        source["accepted"],
        source["set_aside"],
        source["rejected"],
    ) == ("access-log", 8, 2, 5, 1)
    assert source["set_aside_by_class"] == {
        "off-site": 1,
        "not a page request": 2,
        "unanswerable": 2,
    }
    assert entries(museum) == {f"{OLD}/a", f"{OLD}/abs"}


def test_changed_folding_settings_are_not_applied_to_folded_entries(museum: Program) -> None:
    settings_file = museum.folder / "upright.toml"
    text = settings_file.read_text()
    settings_file.write_text(text.replace('case = "fold"', 'case = "exact"'))
    museum.write("urls.txt", "/A\n/a\n")
    assert museum.json("gather", "urls.txt")["entries"] == 2
    settings_file.write_text(text)
    museum.write("more.txt", "/b\n")
    assert "folding settings" in museum("gather", "more.txt", code=2).err
    settings_file.write_text(text.replace('case = "fold"', 'case = "sideways"'))
    assert "must be exact or fold" in museum("balance", code=3).err


LINE = st.one_of(
    st.sampled_from(
        [
            "",
            "# note",
            "/a",
            "/b?x=1",
            "http://www.quillhaven.example/c",
            "https://other.example/",
            "/x.css",
            "words only",
            "/.env",
            "http://",
            "/%zz",
        ]
    ),
    st.text(st.characters(exclude_categories=("Cs", "Cc")), max_size=30),
)


@settings(max_examples=25)
@given(lines=st.lists(LINE, min_size=1, max_size=20))
def test_no_line_is_lost(lines: list[str], tmp_path_factory: pytest.TempPathFactory) -> None:
    """Accepted + set aside + rejected = lines read, whatever is in the file."""
    from upright_ledger.app.begin.open_ledger import open_new
    from upright_ledger.app.collect.gather import gather
    from upright_ledger.errors import InputError

    folder: Path = tmp_path_factory.mktemp("lines")
    path = folder / "urls.txt"
    path.write_text("\n".join(["/sure", *lines]), encoding="utf-8")
    ledger = open_new(folder / "ledger", [OLD], ["https://new.example"])
    try:
        (result,) = gather(ledger, [str(path)], ReadOptions(kind="text")).sources
    except InputError:
        return
    assert result.lines == result.accepted + result.set_aside + result.rejected
    assert result.lines == len(path.read_text(encoding="utf-8").split("\n")) - (
        1 if lines[-1] == "" else 0
    )


def test_a_servers_file_is_of_one_old_site(tmp_path: Path) -> None:
    """Where there are several old sites, neither is taken for the other."""
    one, two = "http://one.quillhaven.example", "http://two.quillhaven.example"
    program = opened(tmp_path / "museum", "--old", one, "--old", two, "--new", NEW)
    rules = (
        f"RewriteEngine On\nRewriteRule ^p/(.*)$ {NEW}/q/$1 [R=301,L]\nRedirect 301 /a {NEW}/b\n"
    )
    program.write(".htaccess", rules)
    refused = program("gather", ".htaccess", code=3).err
    assert ".htaccess does not say for which of the old hosts its rules are" in refused
    assert "one.quillhaven.example, two.quillhaven.example" in refused
    assert program.json("balance")["entries"] == 0
    program("gather", ".htaccess", "--host", "two.quillhaven.example")
    program("gather", program.write("old.txt", f"{one}/p/1\n{two}/p/2\n{one}/a\n"))
    told = {e["legacy_url"]: e["answer"] for e in program.json("entries")["entries"]}
    assert (told[f"{one}/p/1"], told[f"{one}/a"]) == ("open", "open")
    assert (told[f"{two}/p/2"], told[f"{two}/a"]) == ("move", "move")
    # A virtual host says it itself.
    program.write(
        "site.conf",
        f"<VirtualHost *:80>\nServerName one.quillhaven.example\n"
        f"Redirect 301 /a {NEW}/c\n</VirtualHost>\n",
    )
    program("gather", "site.conf")
    told = {e["legacy_url"]: e["destination"] for e in program.json("entries")["entries"]}
    assert (told[f"{one}/a"], told[f"{two}/a"]) == (f"{NEW}/c", f"{NEW}/b")


def test_a_servers_file_is_for_all_hosts_of_its_site(tmp_path: Path) -> None:
    old = ("http://www.quillhaven.example", "http://quillhaven.example")
    sites = [o for origin in (*old, "http://shop.example") for o in ("--old", origin)]
    program = opened(tmp_path / "museum", *sites, "--new", NEW)
    program.write(".htaccess", f"RewriteEngine On\nRewriteRule ^p/(.*)$ {NEW}/q/$1 [R=301,L]\n")
    program("gather", ".htaccess", "--host", "quillhaven.example")
    program.write("old.txt", f"{old[0]}/p/1\n{old[1]}/p/2\nhttp://shop.example/p/3\n")
    program("gather", "old.txt")
    told = {
        e["legacy_url"].rpartition("/")[2]: e["answer"] for e in program.json("entries")["entries"]
    }
    assert (told["1"], told["2"], told["3"]) == ("move", "move", "open")


def test_a_servers_file_may_be_for_all_old_sites(tmp_path: Path) -> None:
    one, two = "http://one.quillhaven.example", "http://two.quillhaven.example"
    program = opened(tmp_path / "museum", "--old", one, "--old", two, "--new", NEW)
    program.write(".htaccess", f"RewriteEngine On\nRewriteRule ^z/(.*)$ {NEW}/y/$1 [R=301,L]\n")
    program("gather", ".htaccess", "--host", "*")
    program("gather", program.write("z.txt", f"{one}/z/1\n{two}/z/2\n"))
    told = {e["legacy_url"]: e["answer"] for e in program.json("entries")["entries"]}
    assert (told[f"{one}/z/1"], told[f"{two}/z/2"]) == ("move", "move")
