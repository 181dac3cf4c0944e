"""What a build brings along: changes, the way back, rules within somebody's file, and lists for
platforms.
"""

from __future__ import annotations

import csv
import json
from http.client import HTTPConnection
from pathlib import Path

import pytest

from conftest import NEW, OLD, Program, needs_server
from raw_http import ask_headers
from upright_ledger.servers import DIALECTS, load_server
from upright_ledger.web.local.real_servers import run_example


def rows(path: Path) -> list[dict[str, str]]:
    with path.open(encoding="utf-8") as file:
        return list(csv.DictReader(file))


@pytest.fixture
def decided(museum: Program) -> Program:
    museum(
        "decide", "--from", museum.pairs("/a,/n/a/,", "/b,/n/b/,", "/c?item=1,/n/c/,", "/gone,,410")
    )
    return museum


def test_a_build_says_what_changed_and_can_be_taken_back(decided: Program) -> None:
    first = decided.json("build", "--for", "nginx", "--out", "rules")
    assert first["changes"] == {}
    before = {p.name: p.read_bytes() for p in (decided.folder / "rules").iterdir() if p.is_file()}
    decided("decide", "/a", "--to", "/n/other/")
    decided("decide", "/new", "--to", "/n/new/")
    decided("decide", "/b", "--keep")
    second = decided.json("build", "--for", "nginx", "--out", "rules")
    assert second["changes"] == {"added": 1, "changed": 1, "removed": 1}
    assert [
        (r["change"], r["old"].removeprefix(OLD), r["after"].removeprefix(f"301 {NEW}"))
        for r in rows(decided.folder / "rules/changes.csv")
    ] == [("changed", "/a", "/n/other/"), ("removed", "/b", ""), ("added", "/new", "/n/new/")]
    back = decided.json("build", "--roll-back", "--out", "rules")
    assert (back["before"], back["digest"]) == (second["digest"], first["digest"])
    assert {n: (decided.folder / "rules" / n).read_bytes() for n in before} == before
    assert decided.json("build", "--roll-back", "--out", "rules")["digest"] == second["digest"]
    assert "no previous build" in decided("build", "--roll-back", "--out", "elsewhere", code=2).err
    against = decided(
        "build", "--for", "haproxy", "--out", "hp", "--against", "rules/previous/redirects.csv"
    ).out
    assert "1 added, 1 changed, 1 removed" in against


def test_rules_go_into_a_file_between_two_lines_and_out_again(decided: Program) -> None:
    mine = (
        "frontend web\n  bind :80\n  # upright: rules begin\n  # upright: rules end\n  "
        "default_backend app\n"
    )
    decided.write("haproxy.cfg", mine)
    out = decided("build", "--for", "haproxy", "--out", "rules", "--into", "haproxy.cfg").out
    text = (decided.folder / "haproxy.cfg").read_text()
    digest = json.loads((decided.folder / "rules/manifest.json").read_text())["digest"]
    assert text.startswith("frontend web\n  bind :80\n")
    assert text.endswith("# upright: rules end\n  default_backend app\n")
    assert f"# upright: rules begin, digest {digest}\n" in text
    assert "haproxy.cfg.upright-1" in out
    decided("decide", "/z", "--to", "/n/z/")
    decided("build", "--for", "haproxy", "--out", "rules", "--into", "haproxy.cfg")
    assert (decided.folder / "haproxy.cfg").read_text().count("rules begin") == 1
    decided("build", "--roll-back", "--out", "rules", "--into", "haproxy.cfg")
    assert (decided.folder / "haproxy.cfg").read_text() == text
    decided("build", "--roll-back", "--out", "rules", "--into", "haproxy.cfg")
    assert (decided.folder / "haproxy.cfg").read_text() == mine
    assert (
        "has no backup"
        in decided("build", "--roll-back", "--out", "rules", "--into", "haproxy.cfg", code=2).err
    )
    decided.write("plain.cfg", "frontend web\n")
    assert (
        "no place for the rules"
        in decided("build", "--for", "haproxy", "--out", "r", "--into", "plain.cfg", code=2).err
    )
    assert (
        "--into is not for caddy"
        in decided("build", "--for", "caddy", "--out", "r", "--into", "plain.cfg", code=2).err
    )


def test_a_list_is_filled_by_value_in_the_columns_of_its_profile(decided: Program) -> None:
    decided.write("hits.csv", "url,hits\n/b,900\n/a,10\n/gone,5\n")
    decided("gather", "hits.csv")
    settings = decided.folder / "upright.toml"
    settings.write_text(
        settings.read_text()
        + (
            '\n[profile.shop]\nold = "Redirect from"\nnew = "Redirect to"\nstatus = ""\npaths_only '
            "= true\nlimit = 1\nqueries = false\ngone = false\n"
        )
    )
    manifest = decided.json("build", "--for", "shop", "--out", "list", code=1)
    assert rows(decided.folder / "list/import.csv") == [
        {"Redirect from": "/b", "Redirect to": "/n/b/"}
    ]
    assert {h["legacy_url"].removeprefix(OLD): h["reason"] for h in manifest["held_back"]} == {
        "/a": "the list takes 1 rows, and these are worth less",
        "/c?item=1": "the list takes no addresses with a query",
        "/gone": "the list takes no 410",
    }
    decided("build", "--for", "jsonl", "--out", "lines")
    lines = [
        json.loads(x) for x in (decided.folder / "lines/import.jsonl").read_text().splitlines()
    ]
    assert lines[0] == {"old": f"{OLD}/b", "new": f"{NEW}/n/b/", "status": 301}
    assert len(lines) == 4
    settings.write_text(settings.read_text() + "\n[profile.bad]\nlimit = 'many'\n")
    assert "[profile.bad] limit" in decided("build", "--for", "bad", "--out", "x", code=3).err


def test_an_htaccess_has_a_sane_size(museum: Program) -> None:
    museum("decide", "--from", museum.pairs(*[f"/old/{n},/new/x{n}y/," for n in range(1001)]))
    assert (
        "too many for htaccess"
        in museum("build", "--for", "htaccess", "--out", "rules", code=2).err
    )
    assert museum.json("build", "--for", "htaccess", "--out", "rules", "--force")["rules"] == 1001
    assert "no server is called" in museum("build", "--for", "teapot", "--out", "rules", code=2).err
    assert "not said for whom" in museum("build", "--out", "rules", code=2).err


@pytest.mark.parametrize("name", [pytest.param(n, marks=needs_server(n)) for n in DIALECTS])
def test_redirects_say_how_long_they_may_be_kept(decided: Program, name: str) -> None:
    settings = decided.folder / "upright.toml"
    settings.write_text(
        settings.read_text().replace('cache_control = ""', 'cache_control = "max-age=600, private"')
    )
    decided("decide", "/t/{x}", "--to", "/n/{x}/")
    decided("build", "--for", name, "--out", "rules")
    with run_example(load_server(name).launch, decided.folder / "rules") as place:
        for target, status in (
            ("/a", 301),
            ("/a?utm_source=x", 301),
            ("/c?item=1", 301),
            ("/gone", 410),
            ("/t/y", 301),
        ):
            found, headers = ask_headers(place, "www.quillhaven.example", target)
            # lighttpd makes the page of an error, and its headers, by itself.
            kept = None if name == "lighttpd" and status == 410 else "max-age=600, private"
            assert (found, headers.get("cache-control")) == (status, kept), target
        found, headers = ask_headers(place, "www.quillhaven.example", "/none")
        assert (found, headers.get("cache-control")) == (404, None)
    settings.write_text(settings.read_text().replace("max-age=600, private", 'x\\"; evil'))
    assert "cache_control" in decided("build", "--for", name, "--out", "rules", code=3).err


def test_a_build_is_compared_with_the_file_that_a_server_runs(museum: Program) -> None:
    museum("decide", "--from", museum.pairs("/a,/new-a/,301", "/b,/new-b/,301", "/c,/new-c/,301"))
    museum.write(
        ".htaccess",
        f"Redirect 301 /a {NEW}/new-a/\nRedirectMatch 302 ^/b$ {NEW}/else/\nRedirect gone /d\n",
    )
    told = museum("build", "--for", "nginx", "--out", "rules", "--against", ".htaccess").out
    assert "1 added, 1 changed, 1 removed" in told
    rows = (museum.folder / "rules/changes.csv").read_text().splitlines()[1:]
    assert rows == [
        f"changed,{OLD}/b,302 {NEW}/else/,301 {NEW}/new-b/",
        f"added,{OLD}/c,,301 {NEW}/new-c/",
        f"removed,{OLD}/d,410,",
    ]
    museum.write("none.conf", "RewriteEngine On\n")
    museum("build", "--for", "nginx", "--out", "other", "--against", "none.conf", code=3)


PAGE = "<h1>This page is gone for good</h1>"
OWN_PAGE: dict[str, tuple[str, str, str]] = {
    "nginx": ("example/nginx.conf", "return 404;", (
        "error_page 410 @gone; location @gone { root htdocs; rewrite ^ /gone.html break; }\nreturn "
        "404;"
    )),
    "apache": ("example/httpd.conf", "DocumentRoot htdocs", (
        "DocumentRoot htdocs\nErrorDocument 410 /gone.html"
    )),
    "haproxy": ("example/haproxy.cfg", "bind ", (
        "http-error status 410 content-type text/html file example/htdocs/gone.html\n  bind "
    )),
    "lighttpd": ("example/lighttpd.conf", "server.port", (
        'server.errorfile-prefix = var.CWD + "/example/htdocs/status-"\nserver.port'
    )),
    "caddy": (
        "example/caddy.json", '"automatic_https"',
        (f'"errors": {{"routes": [{{"handle": [{{"handler": "static_response", "body": '
        f'"{PAGE}"}}]}}]}}, "automatic_https"'),
    ),
}  # fmt: skip
"""Where each README tells to name the site's own page for what is gone: file, what stands there,
and what is to stand there.
"""


@pytest.mark.parametrize("name", [pytest.param(n, marks=needs_server(n)) for n in OWN_PAGE])
def test_the_site_has_its_own_page_for_what_is_gone(museum: Program, name: str) -> None:
    museum("decide", "--from", museum.pairs("/a,/new-a/,301", "/b,,410"))
    museum("decide", "/tickets/{x}", "--gone")
    museum("build", "--for", name, "--out", "rules")
    folder = museum.folder / "rules"
    (folder / "example/htdocs").mkdir(exist_ok=True)
    for page in ("gone.html", "status-410.html"):
        (folder / "example/htdocs" / page).write_text(PAGE)
    file, stands, wanted = OWN_PAGE[name]
    example = (folder / file).read_text()
    assert stands in example
    (folder / file).write_text(example.replace(stands, wanted, 1))
    with run_example(load_server(name).launch, folder) as place:
        for path in ("/b", "/tickets/x"):
            connection = HTTPConnection(*place, timeout=10)
            connection.request("GET", path, headers={"Host": "www.quillhaven.example"})
            answer = connection.getresponse()
            assert (answer.status, PAGE in answer.read().decode()) == (410, True), path


def test_imported_rules_are_listed_with_their_places_and_whether_they_are_built(
    museum: Program,
) -> None:
    assert "No rule was read" in museum("check", "--imported").out
    museum.write(
        ".htaccess",
        "RewriteEngine On\n"
        f"Redirect 301 /a.html {NEW}/a/\n"
        f"RewriteRule ^shop/([0-9]+)\\.html$ {NEW}/p/$1/ [R=301,L]\n"
        f"RewriteRule ^y(.+)z(.+)$ {NEW}/$2 [R=302,L]\n"
        "RedirectMatch 410 ^/old/.*$\n",
    )
    museum.write("urls.txt", f"{OLD}/shop/12.html\n{OLD}/old/b\n")
    museum("gather", ".htaccess", "urls.txt")
    found = {r["where"].partition(":")[2]: r for r in museum.json("check", "--imported")["rules"]}
    assert found["3"]["built"] == "as a template, and for 1 entry"
    assert (found["3"]["answers"], found["3"]["status"]) == (f"{NEW}/p/$1/", 301)
    assert found["4"]["built"].startswith("no; not as a pattern: ")
    assert (found["5"]["entries"], found["5"]["status"]) == (1, 410)
    museum("decide", "/a.html", "--to", "/elsewhere/")
    listed = museum("check", "--imported", "--all").out
    assert ".htaccess:2" in listed
    assert "no: another rule, or an answer of yours, comes before it" in listed or (
        "not as a pattern" in listed
    )
    assert "give it alone" in museum("check", "--imported", "--fix", code=2).err
