"""Rule files of servers, read in: what they mean is what the real servers do with them."""

from __future__ import annotations

import csv
import re
from pathlib import Path

import pytest

from conftest import NEW, OLD, Program, needs_server
from raw_http import ask
from upright_ledger.servers import load_server
from upright_ledger.web.local.real_servers import run_example

HTACCESS = r"""RewriteEngine On
RewriteBase /
RewriteRule ^old-page\.html$ /new-page/ [R=301,L]
RewriteRule ^blog/([0-9]{4})/(.*)$ /archive/$1-$2 [R=301,L,NC]
RewriteRule ^keep/ - [L]
RewriteCond %{QUERY_STRING} (?:^|&)id=(\d+)
RewriteRule ^item\.php$ /items/%1/? [R=302,L]
RewriteCond %{QUERY_STRING} ^a=1$ [OR]
RewriteCond %{QUERY_STRING} ^b=2$
RewriteRule ^either$ /both/ [R=301,L]
RewriteCond %{HTTP_HOST} ^old\. [NC]
RewriteRule (.*) https://www.quillhaven.example/from-old/$1 [R=301,L]
RewriteRule ^append$ /appended?x=1 [R=301,L,QSA]
RewriteRule ^dropped$ /dropped-new [R=301,L,QSD]
RewriteRule ^gone/ - [G]
RewriteRule ^a\ b$ /a-b [R=308,L]
Redirect 301 /about /about-us
Redirect 301 /about/team /never
Redirect gone /dead
Redirect permanent "/quoted path" /unquoted
RedirectMatch 301 ^/x/(.*)\.htm$ https://new.example/$1
RedirectTemp /soon https://new.example/later?y=1
"""
NGINX = r"""map $uri $new_uri {
    default "";
    /old-a /new-a;
    ~^/wiki/(?<page>.+)$ /docs/$page;
    ~*^/Any/(\d+) /any/$1;
    "/old b" /new-b;
}
server {
    listen 127.0.0.1:8080;
    server_name www.quillhaven.example;
    absolute_redirect off;
    if ($new_uri) { return 301 $new_uri; }
    if ($request_uri ~ ^/by-uri\?p=(\d+)$) { return 302 /p/$1; }
    if ($arg_id = 7) { return 301 /seven/; }
    rewrite ^/posts/(\d+)$ /stories/$1 permanent;
    rewrite ^/noargs$ /without? redirect;
    location = /exact { return 302 /somewhere; }
    location /dir/ { return 301 https://new.example$request_uri; }
    location /dir/deeper/ { return 301 /deep$is_args$args; }
    location ^~ /dir/first { return 307 /first; }
    location ~ ^/n/([a-z]+)$ { return 301 /names/$1?x=1; }
    location ~* \.PHP$ { return 410; }
    location / { return 404; }
}
"""
REQUESTS = (
    "/old-page.html", "/old-page.html?x=1", "/OLD-page.html", "/blog/2011/a/b", "/BLOG/2011/x?y=2",
    "/keep/about", "/item.php?id=4711", "/item.php",
    "/item.php?x=1&id=3", "/either?a=1", "/either?b=2", "/either?c=3", "/append", "/append?z=1",
    "/dropped?q=1", "/gone/x", "/a%20b", "/about", "/about/",
    "/about/team?x=1", "/aboutx", "/dead", "/dead/x", "/deadx", "/quoted%20path/sub",
    "/x/a/b.htm?c=1", "/soon/now", "/soon?z=2", "/none", "/",
    "/old-a", "/OLD-A", "/old-a/", "/old-a?x=1", "/wiki/A%20B", "/wiki/a/b", "/any/12x", "/old%20b",
    "/by-uri?p=9", "/by-uri", "/zzz?id=7", "/posts/12?r=1",
    "/posts/x", "/noargs?x=1", "/exact?y=1", "/exact/", "/dir/x?y=1", "/dir/deeper/z?q=1",
    "/dir/first/1", "/n/abc", "/n/ABC", "/foo.php", "/foo.php/x",
)  # fmt: skip
HOSTS = ("www.quillhaven.example", "old.quillhaven.example")
GUARDED = r"""RewriteEngine On
RewriteRule ^keep - [L]
RewriteRule ^keep/never$ /no [R=301,L]
RewriteRule ^private - [F]
RewriteRule ^lost$ - [R=404,L]
RewriteRule ^skip$ - [S=1]
RewriteRule ^skip$ /not-this [R=301,L]
RewriteRule ^chain$ - [C]
RewriteRule ^ /by-chain [R=301,L]
RewriteCond %{HTTP_USER_AGENT} nobody
RewriteRule ^agent$ /for-nobody [R=301,L]
RewriteRule ^inner$ /inner-page [L]
RewriteRule ^inner-page$ /outer [R=301,L]
RewriteCond %{REQUEST_FILENAME} -f
RewriteRule ^file$ - [L]
RewriteRule ^(?:a|b)(?=x).*$ /look-ahead [R=301,L]
RewriteRule ^(.*\.php)$ /php/$1 [R=301,L]
Redirect 404 /album/secret
Redirect 301 /album /photos
Redirect 301 /keep /kept
Redirect 301 /private /seen
Redirect 301 /inner /found
Redirect 301 /after /it
RedirectMatch 403 ^/shut
RedirectMatch 301 ^/(shut|open)/(.*)$ /doors/$2
RedirectMatch 301 ^/(lost|skip|chain|agent|file|ax)$ /caught/$1
"""
GUARDED_REQUESTS = (
    "/keep", "/keep/never", "/keep/x", "/private", "/private/x", "/lost", "/skip", "/chain",
    "/agent", "/inner", "/inner-page", "/file", "/ax", "/bxy",
    "/a.php", "/album/secret", "/album/secret/x", "/album/x", "/after", "/shut/x", "/open/x",
    "/other", "/",
)  # fmt: skip


def serve(name: str, text: str, folder: Path) -> Path:
    """A folder from which `run_example` starts a server with a rule file."""
    (folder / "example/htdocs").mkdir(parents=True)
    (folder / "make-maps.sh").write_text("true\n")
    if name == "nginx":
        temps = "".join(
            f"{k}_temp_path {k};" for k in ("client_body", "proxy", "fastcgi", "uwsgi", "scgi")
        )
        (folder / "example/nginx.conf").write_text(
            f"daemon off; pid nginx.pid; error_log stderr; events {{}}\nhttp {{ access_log off; "
            f"{temps}\n{text}\n}}\n"
        )
        return folder
    modules = "".join(
        f"LoadModule {m}_module /usr/lib/apache2/modules/mod_{m}.so\n"
        for m in ("mpm_event", "authz_core", "rewrite", "alias")
    )
    (folder / "example/httpd.conf").write_text(
        "ServerName localhost\nPidFile httpd.pid\nDefaultRuntimeDir .\nErrorLog error.log\nMutex "
        f"pthread\nListen 127.0.0.1:8080\n{modules}"
        "DocumentRoot htdocs\n<Directory />\nAllowOverride All\nRequire all "
        "granted\n</Directory>\n"
    )
    (folder / "example/htdocs/.htaccess").write_text(text)
    return folder


def read_in(
    program: Program, file: str, host: str, requests: tuple[str, ...] = REQUESTS
) -> dict[str, tuple[str, str]]:
    """What our reading of a rule file answers: target → status and Location."""
    program("gather", "--kind", "rules", "--host", "*", file)
    listed = "".join(f"http://{host}{target}\n" for target in requests)
    program.write("requests.csv", "url\n" + listed)
    program("rehearse", "requests.csv", "--column", "url=url", "--out", "out.csv", code=None)
    with (program.folder / "out.csv").open(encoding="utf-8") as out:
        rows = list(csv.DictReader(out))
    return {r["url"].removeprefix(f"http://{host}"): (r["status"], r["location"]) for r in rows}


@pytest.mark.parametrize(
    ("name", "file", "text", "hosts"),
    [
        pytest.param("apache", ".htaccess", HTACCESS, HOSTS, marks=needs_server("apache")),
        pytest.param("nginx", "site.conf", NGINX, HOSTS[:1], marks=needs_server("nginx")),
    ],
)
def test_a_rule_file_means_what_the_real_server_does(
    bare: Program, name: str, file: str, text: str, hosts: tuple[str, ...]
) -> None:
    bare(
        "open",
        "site",
        "--old",
        OLD,
        "--old",
        "http://old.quillhaven.example",
        "--new",
        NEW,
        "--new",
        "https://new.example",
    )
    program = Program(bare.folder / "site")
    program.write(file, text)
    answered = 0
    with run_example(load_server(name).launch, serve(name, text, bare.folder / "server")) as place:
        for host in hosts:
            ours = read_in(program, file, host)
            for target in REQUESTS:
                status, location = ask(place, host, target)
                status = 404 if status in {200, 403, 400} else status
                expected = re.sub(
                    r"^https?://" + re.escape(host) + r"(?::\d+)?", "", location
                ).replace(" ", "%20")
                told, where = ours[target]
                where = re.sub(r"^https?://" + re.escape(host), "", where)
                assert (told, where) == (str(status), expected), (host, target)
                answered += status != 404
    assert answered > 15


@needs_server("apache")
def test_what_protects_addresses_is_never_passed_over(bare: Program) -> None:
    """What a file answers otherwise, or not at all, is not answered by a later rule of it; and what
    is understood is what the server does.
    """
    bare("open", "site", "--old", OLD, "--new", NEW)
    program = Program(bare.folder / "site")
    program.write(".htaccess", GUARDED)
    answered = 0
    with run_example(
        load_server("apache").launch, serve("apache", GUARDED, bare.folder / "server")
    ) as place:
        ours = read_in(program, ".htaccess", HOSTS[0], GUARDED_REQUESTS)
        for target in GUARDED_REQUESTS:
            status, location = ask(place, HOSTS[0], target)
            told, where = ours[target]
            if told in {"301", "302", "410"}:
                bare_ones = [
                    re.sub(r"^https?://" + re.escape(HOSTS[0]), "", text)
                    for text in (where, location)
                ]
                assert (told, bare_ones[0]) == (str(status), bare_ones[1]), target
                answered += 1
    assert answered >= 6


def test_what_is_not_understood_is_listed_with_its_line(museum: Program) -> None:
    museum.write(
        ".htaccess",
        "RewriteEngine On\nRewriteCond %{REQUEST_FILENAME} !-f\nRewriteRule ^a$ /b "
        "[R=301,L]\nRewriteRule ^c(?=d)$ /e [R=301,L]\n"
        "RewriteRule ^f$ index.php [L]\nRewriteRule ^g$ /${map:x} [R]\nRedirect 301 /good /better\n"
        "RewriteCond\nRedirect 301 /after /it\n<Location /x>\nRedirect 301 /in /out\n</Location>\n"
        "RewriteCond %{HTTP_HOST} one(of\nRewriteRule ^x(y$ /z [R=301,L]\n",
    )
    result = museum.json("gather", ".htaccess")
    (source,) = result["sources"]
    assert (source["kind"], source["accepted"], source["rejected"]) == ("rules", 2, 9)
    text = (museum.folder / "rejects").glob("*")
    told = next(text).read_text()
    for line, why in (
        (2, "REQUEST_FILENAME"),
        (3, "REQUEST_FILENAME"),
        (4, "regular kind"),
        (5, "inside the server"),
        (6, "${"),
        (13, "one(of"),
        (14, "one(of"),
    ):
        assert re.search(rf"^{line}\b.*{re.escape(why)}", told, re.MULTILINE), (line, told)
    assert {e["answer"] for e in museum.json("entries")["entries"]} == {"move"}


@pytest.mark.parametrize(
    ("name", "text"),
    [
        ("redirects.map", "/a /b\n/b https://www.quillhaven.example/c/\n# note\n/dead /nowhere\n"),
        ("redirects.csv", "old,new,status\n/a,/b,301\n/b,/c/,301\n/dead,/nowhere,301\n"),
        (
            "redirects.jsonl",
            '{"old":"/a","new":"/b"}\n{"old":"/b","new":"/c/"}\n{"old":"/dead","new":"/nowhere"}\n',
        ),
        (
            "part.conf",
            (
                "rewrite ^/a$ /b permanent;\nrewrite ^/b$ /c/ permanent;\nrewrite ^/dead$ /nowhere "
                "permanent;\n"
            ),
        ),
        ("map.conf", "/a /b;\n/b /c/;\n/dead /nowhere;\n"),
        (
            "htaccess",
            (
                "RedirectMatch 301 ^/a$ /b\nRedirectMatch 301 ^/b$ /c/\nRedirectMatch 301 ^/dead$ "
                "/nowhere\n"
            ),
        ),
    ],
)
def test_an_older_move_is_checked_and_carried_on(museum: Program, name: str, text: str) -> None:
    museum.write(name, text)
    museum.write("pages.csv", f"url,status\n{NEW}/c/,200\n{NEW}/nowhere,404\n")
    assert museum.json("gather", "--kind", "rules", name)["entries"] == 3
    museum("stock", "pages.csv")
    found = museum.json("check", code=1)["findings"]
    assert sorted((f["kind"], f["legacy_url"].removeprefix(OLD)) for f in found) == [
        ("chain", "/a"),
        ("dead-destination", "/dead"),
    ]
    museum("decide", "/dead", "--gone")
    assert museum.json("build", "--for", "nginx", "--out", "rules")["rules"] == 3
    museum("undo")
    museum("undo")  # withdraws the stock
    museum("undo")  # and the rules
    assert museum.json("balance")["entries"] == 0
