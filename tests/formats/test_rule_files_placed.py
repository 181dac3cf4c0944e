"""Rule files by their place: the server and the folder that they are read for."""

from __future__ import annotations

import csv
import re

import pytest

from conftest import Program

SITE = """<VirtualHost *:80>
  ServerName www.quillhaven.example
  RewriteEngine On
  RewriteCond %{HTTPS} off
  RewriteRule (.*) https://%{HTTP_HOST}%{REQUEST_URI} [R=301,L]
</VirtualHost>
<VirtualHost *:443>
  ServerName www.quillhaven.example
  DocumentRoot /var/www/html
  Include snippets/headers.conf
  RewriteEngine On
  RewriteRule ^/members - [F]
  <IfDefine SUMMER>
    RewriteRule ^/fair/(.*)$ /summer-fair/$1 [R=302,L]
  </IfDefine>
  <Directory /var/www/html/shop>
    RewriteEngine On
    RewriteBase /shop/
    RewriteRule ^sale/(.*)$ offers/$1 [R=301,L]
  </Directory>
  ProxyPass /api http://127.0.0.1:3000/
  RedirectMatch 301 ^/journal/(.*)$ https://www.quillhaven.example/stories/$1
  RedirectMatch 301 ^/(.*)$ https://www.quillhaven.example/museum/$1
</VirtualHost>
"""


def answers(program: Program, file: str, *targets: str) -> list[str]:
    """What a file that was gathered answers, by target."""
    program.write("requests.txt", "".join(f"https://www.quillhaven.example{t}\n" for t in targets))
    program("rehearse", "requests.txt", "--out", "out.csv", code=None)
    with (program.folder / "out.csv").open(encoding="utf-8") as out:
        found = {r["url"]: f"{r['status']} {r['location']}".strip() for r in csv.DictReader(out)}
    return [found[f"https://www.quillhaven.example{t}"] for t in targets]


def test_a_file_is_read_for_the_server_that_is_said(bare: Program) -> None:
    """What is not known of the server lets nothing answer, and is known when somebody says it."""
    bare(
        "open",
        "site",
        "--old",
        "https://www.quillhaven.example",
        "--new",
        "https://www.quillhaven.example",
    )
    program = Program(bare.folder / "site")
    program.write("old.conf", SITE)
    asked = ("/members/a", "/api/x", "/fair/tea", "/shop/sale/x", "/journal/2011", "/other")
    told = program("gather", "old.conf").out
    assert "--without snippets/headers.conf" in told
    assert (
        answers(program, "old.conf", *asked) == ["404"] * 6
    )  # what is included may answer them all
    told = program("gather", "old.conf", "--without", "snippets/headers.conf").out
    assert "read anew" in told
    assert re.search(r"whether\s<IfDefine\sSUMMER>\sholds", told)
    assert answers(program, "old.conf", *asked)[:4] == [
        "404",
        "404",
        "404",
        "301 https://www.quillhaven.example/museum/shop/sale/x",
    ]
    program("gather", "old.conf", "--without", "snippets/headers.conf", "--with", "SUMMER")
    assert answers(program, "old.conf", *asked) == [
        "404", "404", (
            "302 https://www.quillhaven.example/summer-fair/tea"
        ), "301 https://www.quillhaven.example/museum/shop/sale/x",
        ("301 https://www.quillhaven.example/"
        "stories/2011"), "301 https://www.quillhaven.example/museum/other",
    ]  # fmt: skip
    held = program.json("build", "--for", "nginx", "--out", "rules", code=None)["held_back"]
    assert any("old.conf:12" in str(h) for h in held)
    assert (
        "SUMMER"
        in program("gather", "old.conf", "--with", "SUMMER", "--without", "SUMMER", code=2).err
    )


def test_a_folder_s_file_is_asked_below_its_folder(bare: Program) -> None:
    bare(
        "open",
        "site",
        "--old",
        "https://www.quillhaven.example",
        "--new",
        "https://www.quillhaven.example",
    )
    program = Program(bare.folder / "site")
    text = (
        "RewriteEngine On\nRewriteBase /shop/\nRewriteRule ^sale$ offers [R=301,L]\nRedirect 301 "
        "/shop/a /b\nRedirect 301 /c /d\n"
    )
    (program.folder / "www/shop").mkdir(parents=True)
    program.write("www/shop/.htaccess", text)
    asked = ("/sale", "/shop/sale", "/shop/a", "/c")
    told = program("gather", "www/shop/.htaccess", code=None)
    assert "--document-root" in told.out + told.err
    program("gather", "www/shop/.htaccess", "--document-root", "www")
    place = "https://www.quillhaven.example"
    assert answers(program, ".htaccess", *asked) == [
        "404",
        f"301 {place}/shop/offers",
        f"301 {place}/b",
        "404",
    ]
    assert (
        "does not lie below"
        in program("gather", "www/shop/.htaccess", "--document-root", "elsewhere", code=3).err
    )


@pytest.mark.parametrize("name", ["site.htaccess", "apache.conf", "nginx.conf"])
def test_directives_without_their_words_are_no_traceback(museum: Program, name: str) -> None:
    directives = (
        "ErrorDocument Require Deny Options Include Header RewriteBase RewriteCond RewriteRule "
        "Redirect RedirectMatch ProxyPass Alias DocumentRoot ServerName Define"
    )
    sections = (
        "Files FilesMatch Location Directory VirtualHost IfModule IfDefine IfVersion If Limit "
        "RequireAll"
    )
    if name == "nginx.conf":
        words = (
            "return rewrite if location map server_name listen include error_page try_files break"
        )
        text = (
            "".join(f"server {{ {w}; {w} {{ }} }}\n" for w in words.split())
            + "server { return 301 /x; }\n"
        )
    else:
        text = "".join(f"{d}\n" for d in directives.split())
        text += "".join(
            f"<{x}>\nRequire all denied\nRedirect 301 /a /b\n</{x}>\n" for x in sections.split()
        )
    museum.write(name, text + ("" if name == "nginx.conf" else "Redirect 301 /c /d\n"))
    museum("gather", "--kind", "rules", name, code=None)
