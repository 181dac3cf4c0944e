"""Files of every kind with a hostile text at each place, and files with some bytes mutated."""

from __future__ import annotations

import io
import json
import random
import zipfile
from collections.abc import Callable
from pathlib import Path

import xlsxwriter

from conftest import NEW, OLD

PIECES = (
    "a.", "a@", "a@b.", "=", "a=", "&", "?", "%", "%4", "%40", "/", "//", "/.", "/../", "../", "a/",
    "A1", "-", "_", "(", "[", "{", "<", "<a ",
    "<!--", "&amp;", "&#", '"', "'", "\\", '\\"', ";", "; ", ", ", "a,", "|", "\t", " ", "x", "7",
    "7.", "1,", "eyJ", ";a=", "(S(", "http://",
    "www.", "a b", "\u00e9", "\u00c3\u00a9", "%C3%83%C2", "\u200b", "*", "^", "$", "#", "//a", "+",
    "~", "://", "/a/a", "/page/", "index.html/",
    "$1", "\\1", "(a|b)", "(.*)", "\ufffd", "\x1b[", "a\u00a0", "url(", "@import ", "charset=",
    "=aaaa", ".html", "2024-", "00:", "1e", "{a}", "[^", "(?:",
)  # fmt: skip


def _line(target: str = "/p", referrer: str = "-", agent: str = "Mozilla/5.0") -> str:
    return (
        f'203.0.113.9 - - [10/Mar/2026:10:00:00 +0000] "GET {target} HTTP/1.1" 404 5 "{referrer}" '
        f'"{agent}"\n'
    )


def _json_line(request: str, agent: str) -> str:
    return (
        f'{{"time":"2026-03-10T10:00:00Z","request":{json.dumps(request)},"status":404,'
        f'"agent":{json.dumps(agent)}}}\n'
    )


def _cell(text: str) -> str:
    return '"' + text.replace('"', '""') + '"'


SITEMAP = "http://www.sitemaps.org/schemas/sitemap/0.9"
WRITERS: dict[str, Callable[[str], str]] = {
    "line.txt": lambda s: f"{s}\n",
    "list.txt": lambda s: f"{OLD}/a\n{OLD}/{s}\n",
    "prose.txt": lambda s: f"see {OLD}/a and {s} and {OLD}/b\n" * 2,
    "query.log": lambda s: _line() * 5 + _line(f"/p?{s}") + _line(f"/{s}"),
    "referrer.log": lambda s: _line() * 5 + _line(referrer=f"http://elsewhere.example/{s}",
        agent=s),
    "broken.log": lambda s: f"{_line() * 5}203.0.113.9 - - {s}\n{_line()[:40]}{s}\n",
    "table.csv": lambda s: (
        f"url,title,clicks,last seen,status\n{OLD}/a,x,1,2026-01-01,200\n{OLD}/{_cell(s)},"
        f"{_cell(s)},{_cell(s)},{_cell(s)},{_cell(s)}\n"
    ),
    "header.csv": lambda s: f"url,{_cell(s)},clicks\n{OLD}/a,x,1\n{OLD}/b,t,3\n",
    "table.wiki": lambda s: (
        f"{{|\n! url !! hits\n|-\n| {OLD}/a || 1\n|-\n| [{s} x]\n| a{s} || {s}\n|}}\n"
    ),
    "table.tex": lambda s: (
        f"\\begin{{tabular}}{{l}}\nurl & hits \\\\\n"
        f"\\url{{{OLD}/a}} & 1 \\\\\n{s} & {s} \\\\\n{s}\n"
    ),
    "table.adoc": lambda s: f"|===\n|url |hits\n\n|{OLD}/a |1\n|{s}\n|{s}[{s}]\n|===\n",
    "records.yml": lambda s: (
        f"- url: {OLD}/a\n  hits: 1\n- url: {OLD}/b\n  hits: {s}\n- {s}: {s}\n"
    ),
    "pairs.txt": lambda s: f'url={OLD}/a hits=1\nurl={OLD}/b hits="{s}"\n{s}={s}\n',
    "array.json": lambda s: json.dumps([{"url": f"{OLD}/a", "title": s}, {"url": s, s[:50]: 1}]),
    "lines.jsonl": lambda s: "".join(json.dumps(o) + "\n" for o in ({"url": f"{OLD}/a", "title": s},
        {"url": s})),
    "objects.log": lambda s: _json_line("GET /a HTTP/1.1",
        "M") * 4 + _json_line(f"GET /{s} HTTP/1.1", s),
    "sitemap.xml": lambda s: (
        f'<urlset xmlns="{SITEMAP}"><url><loc>{OLD}/a</loc></url><url><loc>{s}</loc></url></urlset>'
    ),
    "feed.xml": lambda s: (
        f'<rss version="2.0"><channel><item><link>{OLD}/a</link><title>{s}</title></'
        f'item><item><link>{s}</link></item></channel></rss>'
    ),
    "page.html": lambda s: (
        f'<!doctype html><html><head><title>{s}</title></head><body><a href="{OLD}/a">x</a><a '
        f'href="{s}">y</a>{s}</body></html>'
    ),
    "robots.txt": lambda s: f"User-agent: *\nDisallow: /{s}\nSitemap: {s}\n{s}\n",
    ".htaccess": lambda s: (
        f"RewriteEngine On\nRedirect 301 /a /b\nRewriteRule ^{s}$ /c [R=301,L]\nRedirect 301 /{s} "
        f"/d\n{s}\nRewriteCond %{{HTTP_HOST}} {s}\nRewriteRule x {s} [R]\n"
    ),
    "nginx.conf": lambda s: (
        f"server {{ server_name www.quillhaven.example;\nlocation = /a {{ return 301 /b; "
        f"}}\nrewrite ^{s}$ /c permanent;\nlocation /{s} {{ return 301 /d; }}\n{s}\n}}\n"
    ),
    "servers.conf": lambda s: "".join((
        f"server {{ listen 80; server_name h{n}.example *.h{n}.example; location ^~ /a{n} {{ "
        f"try_files $uri /b{n}; }} location ~ {s[:9]}{n} {{ return 301 /c; }} }}\n"
    ) for n in range(len(s) // 99)),
    "locations.conf": lambda s: "server {\n" + "".join((
        f"location /a{n} {{ try_files $uri /b{n}; location = /a{n}/b {{ return 301 /c; }} "
        f"}}\nlocation ^~ /d{n} {{ }}\n"
    ) for n in range(len(s) // 99)) + "location ~ x { return 301 /y; }\n}\n",
    "hosts.conf": lambda s: "".join((
        f"<VirtualHost *:80>\nServerName h{n}.example\nServerAlias *.h{n}.example\nRewriteEngine "
        f"On\nRewriteRule ^/{s[:9]}{n}$ /b [R=301]\nRedirect 301 /a{n} /b\n</VirtualHost>\n"
    ) for n in range(len(s) // 99)),
    "folders.conf": lambda s: "DocumentRoot /w\n" + "".join((
        f"<Directory /w/d{n}>\nRewriteEngine On\nRewriteRule ^a$ /b [R=301]\n</Directory>\n"
    ) for n in range(len(s) // 99)),
    "index.cdx": lambda s: (
        f" CDX N b a m s k r M S V g\ncom,a)/ 20240101000000 {OLD}/a text/html 200 X - - 1 2 "
        f"f\ncom,a)/ 20240101000000 {OLD}/{s} text/html 200 X - - 1 2 f\n{s}\n"
    ),
    "fields.log": lambda s: (
        "#Fields: date time cs-method cs-uri-stem cs-uri-query sc-status "
        f"cs(User-Agent)\n2026-03-10 10:00:00 GET /a - 404 M\n2026-03-10 10:00:00 GET /{s} - 404 "
        f"M\n#{s}\n{s}\n"
    ),
    "seen.har": lambda s: json.dumps({"log": {"entries": [{"request": {"url": f"{OLD}/a"},
        "response": {"status": 200}}, {"request": {"url": s}, "startedDateTime": s}]}}),
    "pairs.csv": lambda s: (
        f"old,new,status\n/a,{NEW}/b,301\n{_cell(s)},/c,301\n/d,{_cell(s)},{_cell(s)}\n/"
        f"e{_cell(s)},/f{_cell(s)},\n"
    ),
}  # fmt: skip
"""File name → a file of that kind that holds a text wherever one can stand."""


def workbook(text: str) -> bytes:
    """A workbook with a text among its addresses."""
    data = io.BytesIO()
    with xlsxwriter.Workbook(data, {"in_memory": True, "strings_to_urls": False}) as book:
        sheet = book.add_worksheet()
        for at, row in enumerate(
            (("url", "title", "clicks"), (f"{OLD}/a", text, 1), (f"{OLD}/{text}", "t", 2.5))
        ):
            sheet.write_row(at, 0, row)
    return data.getvalue()


_INSERTED = (
    b"\x00",
    b"\xff\xfe",
    b"\xef\xbb\xbf",
    b'"',
    b"'",
    b"\n",
    b"\r",
    b"{",
    b"}",
    b"[",
    b"]",
    b"<",
    b">",
    b"&",
    b"\\",
    b"%",
    b",",
    b";",
    b"\xed\xa0\x80",
    b"9" * 400,
    b"-1",
    b"NaN",
    b"1e999",
    b"null",
    b" ",
    b"\x1a",
    b"\xe2\x80\xa8",
)


def mutated(rng: random.Random, data: bytes) -> bytes:
    """Some bytes changed, dropped, doubled, moved or put in."""
    out = bytearray(data)
    for _ in range(rng.randint(1, 8)):
        at = rng.randrange(len(out) + 1)
        end = min(len(out), at + rng.choice((1, 1, 2, 8, 40)))
        match rng.randrange(6):
            case 0:
                out[at:end] = bytes(rng.randrange(256) for _ in range(end - at))
            case 1:
                del out[at:end]
            case 2:
                out[at:at] = out[at:end] * rng.choice((1, 3, 50))
            case 3:
                out[at:at] = rng.choice(_INSERTED)
            case 4:
                del out[at:]
            case _:
                place = rng.randrange(len(out) + 1)
                out[place:place] = out[at:end]
    return bytes(out)


def mutated_workbook(rng: random.Random, data: bytes) -> bytes:
    """A workbook with one of its parts mutated, or with the whole of it."""
    if rng.random() < 0.2:
        return mutated(rng, data)
    out = io.BytesIO()
    with zipfile.ZipFile(io.BytesIO(data)) as before, zipfile.ZipFile(out, "w") as after:
        chosen = rng.choice(before.namelist())
        for name in before.namelist():
            part = before.read(name)
            after.writestr(name, mutated(rng, part) if name == chosen else part)
    return out.getvalue()


def write(folder: Path, name: str, data: bytes) -> Path:
    """Put a file into a folder."""
    path = folder / name
    path.write_bytes(data)
    return path
