"""Small files of all kinds but logs, one a kind, each with the pages that it tells of."""

from __future__ import annotations

import json
import plistlib
from typing import NamedTuple

from packed_samples import PACKED
from tongue_samples import ENCODINGS, TONGUES
from upright_ledger.core.inventory.units import CLICKS, HITS, VISITS

HOST, OLD = "www.quillhaven.example", "http://www.quillhaven.example"
OTHER = "http://www.fern.example/other"
PATHS = ("/visit/room.html", "/shop/bell-tower", "/guide/tide?id=7")
PAGES = [OLD + path for path in PATHS]
COUNTED = {path: float(n) for n, path in enumerate(PATHS, 1)}
LISTED = dict.fromkeys(PATHS)
RULED = dict.fromkeys(("/visit/room.html", "/shop/bell-tower", "/guide/tide"))


class Sample(NamedTuple):
    """A file and the pages it names, each with its figure in a unit; None where none is told."""

    name: str
    data: bytes
    pages: dict[str, float | None] | dict[str, None] | dict[str, float]
    unit: str = HITS


def text(
    name: str, content: str, pages: dict[str, None] | dict[str, float], unit: str = HITS
) -> Sample:
    return Sample(name, content.encode(), pages, unit)


def rows(form: str, *, ruled: bool = False) -> str:
    """A line a page: {u} its address, {p} its path, {n} its figure."""
    paths = list(RULED) if ruled else list(PATHS)
    return "".join(form.format(u=OLD + p, p=p, n=n) + "\n" for n, p in enumerate(paths, 1))


def table(page: str, figure: str, total: str, figures: dict[str, float] = COUNTED) -> str:
    return f"{page};{figure}\n{rows('{u};{n}')}{total};6\n" if figures else ""


OBJECTS = [{"url": u, "title": "A page", "hits": n} for n, u in enumerate(PAGES, 1)]

TEXTS = {
    "aliases in a bracket": text("a.md", f"+++\naliases = {json.dumps(PATHS)}\n+++\nText.\n",
        LISTED),
    "words of a notebook": text("a.ipynb", json.dumps({"cells": [
        {"cell_type": "markdown", "source": [f"see [x]({u})\n", "and more\n"]} for u in PAGES]}),
        LISTED),
    "addresses, one a line": text("a.txt", rows("{u}"), LISTED),
    "paths, one a line": text("a.txt", rows("{p}"), LISTED),
    "addresses without scheme": text("a.txt", rows("{u}").replace("http://", ""), LISTED),
    "quoted, with commas": text("a.txt", rows('"{u}",'), LISTED),
    "a list of a program": text("a.py", f"pages = [\n{rows(chr(39) + '{u}' + chr(39) + ',')}]\n",
        LISTED),
    "in brackets": text("a.txt", rows("<{u}>"), LISTED),
    "a statement about each": text("a.ttl", rows('<{u}> dct:title "The page" .'), LISTED),
    "marks of a forum": text("a.txt", rows("[url={u}]The page[/url]"), LISTED),
    "escaped whole": text("a.csv", "url\n" + rows("{u}").replace("/", "%2F").replace(":", "%3A")
        .replace("?", "%3F"), LISTED),
    "expressions": text("a.yml", rows('regex: "^{u}$"').replace("?", "&") + rows(
        'regex: "^{u}(.*)$"'), dict.fromkeys((*PATHS[:2], "/guide/tide&id=7"))),
    "files below a folder": text("a.txt", ".\n" + "".join(f".{p}\n" for p in PATHS),
        LISTED | {"/": None}),
    "triples": text("a.nt", rows('<{u}> <http://terms.example/title> "x" .'), LISTED),
    "a letter": text("a.txt", "Dear all,\nsee {}, then ({}). Also <{}>!\n".format(*PAGES), LISTED),
    "markdown": text("a.md", '* [a]({})\n* [b]({} "t")\n\n[c]: {}\n'.format(*PAGES), LISTED),
    "what a fetching program says": text("a.txt", rows(
        "--2026-05-01 10:00:00--  {u}\nReusing existing connection to www.quillhaven.example:443."
        "\nHTTP request sent, awaiting response... 404 Not Found"), LISTED),
    "a page of a text processor": text("a.tex", "\\begin{itemize}\n"
        + rows("\\item \\url{{{u}}} and more") + "\\end{itemize}\n", LISTED),
    "rich text": text("a.rtf", "{\\rtf1\\ansi {\\fonttbl{\\f0 Arial;}}\\f0 Pages:\\par "
        + "\\par ".join(PAGES) + "\\par}", LISTED),
    "a script": text("a.js", rows('  "page{n}": "{u}",').replace("/", "\\/"), LISTED),
    "commands of a shell": text("a.sh", rows('curl -sI "{u}" | head -1'), LISTED),
    "settings": text("a.toml", rows('[[page]]\nurl = "{u}"'), LISTED),
    "names with values": text("a.properties", rows("page.{n}={u}"), LISTED),
    "a tree of names": text("a.yml", "pages:\n" + rows("  - url: {u}\n    title: x"), LISTED),
    "a numbered list": text("a.txt", rows("{n}. {u}"), LISTED),
    "a list of tasks": text("a.md", rows("- [ ] {u} (moved?)"), LISTED),
    "a reply": text("a.txt", rows("> {u}"), LISTED),
    "titles before": text("a.txt", rows("A title of {n} - {u}"), LISTED),
    "titles behind": text("a.txt", rows("{u} A title of it"), LISTED),
    "all in one line, commas": text("a.txt", ", ".join(PAGES), LISTED),
    "all in one line, semicolons": text("a.txt", "; ".join(PAGES), LISTED),
    "all in one line, blanks": text("a.txt", " ".join(PAGES), LISTED),
    "remarks of a program above": text("a.txt", "// pages\n" + rows("{u}"), LISTED),
    "events": text("a.ics", "BEGIN:VCALENDAR\n" + rows("BEGIN:VEVENT\nURL:{u}\nEND:VEVENT")
        + "END:VCALENDAR\n", LISTED),
    "a shortcut": text("a.url", f"[InternetShortcut]\nURL={PAGES[0]}\n",
        dict.fromkeys(PATHS[:1])),
    "bookmarks": text("a.html", "<!DOCTYPE NETSCAPE-Bookmark-file-1>\n<DL><p>\n"
        + rows('<DT><A HREF="{u}" ADD_DATE="1">x</A>') + "</DL>", LISTED),
    "settings: a list of pages": text("a.yml",
        "pages:\n" + rows('  - url: {p}\n    title: "Room {n}"'), LISTED),
    "settings: tables": text("a.toml",
        rows('[[redirects]]\nfrom = "{p}"\nto = "https://new.example/x"\n'), LISTED),
    "settings: plain items": text("a.yml", "aliases:\n" + rows("  - {p}"), LISTED),
    "a script's objects": text("a.js",
        "module.exports = {\n  async redirects() {\n    return [\n"
        + rows("      {{ source: '{p}', destination: '/new/{n}', permanent: true }},")
        + "      { source: '/old/:slug*', destination: '/new/:slug*' },\n    ]\n  },\n}\n", LISTED),
    "words of markup behind": text("a.adoc", rows("* {u}[The page {n}]\n* {u}[Page]"), LISTED),
    "a calendar with folded lines": text("a.ics", "BEGIN:VCALENDAR\r\nVERSION:2.0\r\n"
        + rows("BEGIN:VEVENT\r\nURL;VALUE=URI:{u}\r\nEND:VEVENT\r").replace(
            "shop/", "sh\r\n op/") + "END:VCALENDAR\r\n", LISTED),
}  # fmt: skip

TABLES = {
    "comma": text("a.csv", "url,hits\n" + rows("{u},{n}"), COUNTED),
    "semicolon": text("a.csv", "url;hits\n" + rows("{u};{n}"), COUNTED),
    "tab": text("a.tsv", "url\thits\n" + rows("{u}\t{n}"), COUNTED),
    "bar": text("a.txt", "url|hits\n" + rows("{u}|{n}"), COUNTED),
    "UTF-16": Sample("a.csv", ("url\thits\n" + rows("{u}\t{n}")).encode("utf-16"), COUNTED),
    "a line that names the delimiter": text("a.csv", "sep=;\nurl;hits\n" + rows("{u};{n}"),
        COUNTED),
    "another table below": text("a.csv", "url,hits\n" + rows("{u},{n}")
        + "\nday,hits\n2026-05-01,4\n2026-05-02,2\n", COUNTED),
    "remarks above": text("a.csv", "# exported\n# 3 rows\nurl,hits\n" + rows("{u},{n}"), COUNTED),
    "words above": text("a.csv", "Report\n\n1 May 2026 - 31 May 2026\n\nurl,hits\n"
        + rows("{u},{n}"), COUNTED),
    "line breaks in quotes": text("a.csv", "url,title,hits\n" + rows('{u},"two\nlines",{n}'),
        COUNTED),
    "quotes after a backslash": text("a.csv", "url,title,hits\n"
        + rows('"{u}","a \\"fine\\" title, too",{n}'), COUNTED),
    "commas in an address": text("a.csv", f"url,hits\n{OLD}/a,b,c.html,4\n{OLD}/d,5\n",
        {"/a,b,c.html": 4.0, "/d": 5.0}),
    "host, path and query apart": text("a.csv", f"Host,Path,Query,Hits\n{HOST},/a,id=1,4\n"
        "www.fern.example,/b,,5\n", {"/a?id=1": 4.0}),
    "host and page path": text("a.csv", "Hostname,Page path + query string,Views\n"
        + rows(HOST + ",{p},{n}"), COUNTED),
    "Dutch": text("a.csv", table("Landingspagina", "Sessies", "Totaal"), COUNTED, VISITS),
    "Spanish": text("a.csv", table("P\u00e1gina", "Clics", "Total general"), COUNTED, CLICKS),
    "Italian": text("a.csv", table("Pagina", "Sessioni", "Totale"), COUNTED, VISITS),
    "Polish": text("a.csv", table("Strona", "Klikni\u0119cia", "Razem"), COUNTED, CLICKS),
    "Swedish": text("a.csv", table("Sida", "Klick", "Totalt"), COUNTED, CLICKS),
    "sources and targets of redirects": text("a.csv", "source,target,code\n"
        + rows("{p},/new{n},301"), LISTED),
    "pages that link": text("a.csv", "Source URL,Target URL,Anchor\n"
        + rows("https://fern{n}.example/p,{u},words"), LISTED),
    "old and new without a heading": text("a.csv", rows("{u},https://quillhaven.example/{n}"),
        LISTED),
    "addresses and counts": text("a.txt", rows("{p} {n}700"),
        {path: 1000 * n + 700 for path, n in COUNTED.items()}),
    "records of YAML": text("a.yml", "pages:\n" + rows("  - url: {u}\n    hits: {n}"), COUNTED),
    "records of TOML": text("a.toml", rows('[[page]]\npath = "{p}"\nhits = {n}\n'), COUNTED),
    "records of a database": text("a.txt", rows("{:*^60}".format(" {n}. row ")
        + "\n url: {u}\nhits: {n}"), COUNTED),
    "links from page to page": text("a.csv", "Type,From,To,Anchor,Status Code\n"
        + rows("Link," + OTHER + ",{u},x,404"), LISTED),
    "from old paths": text("a.csv", "from,url\n" + rows("{p},/new{n}"), LISTED),
    "short days below": text("a.csv", "Page,Views\n" + rows("{p},{n}")
        + "\nDay Index,Views\n4/1/26,20\n4/2/26,35\n", COUNTED),
    "two rows of headings": text("a.csv", "Pages,,Traffic\nURL,Title,Hits\n" + rows("{u},t,{n}"),
        COUNTED),
    "drawn in Markdown": text("a.md", "# Pages\n\n| Page | Hits |\n|---|--:|\n"
        + rows("| {u} | {n} |"), COUNTED),
    "printed by a database": text("a.txt", " url | hits \n-----+------\n" + rows(" {u} | {n}")
        + "(3 rows)\n", COUNTED),
    "printed in a frame": text("a.txt", "+-----+------+\n| url | hits |\n+-----+------+\n"
        + rows("| {u} | {n} |") + "+-----+------+\n3 rows in set (0.00 sec)\n", COUNTED),
    "columns of blanks": text("a.txt", f"{'URL':<48}HITS\n" + rows("{u:<48}{n}"), COUNTED),
    "counts, flush right": text("a.txt", rows("{n:7} {p}"), COUNTED),
    "a table in a page": text("a.html", "<html><table><tr><th>URL</th><th>Hits</th></tr>"
        + rows("<tr><td>{u}</td><td>{n}</td></tr>") + "</table></html>", COUNTED),
    "a table of links in a page": text("a.html", "<html><table><tr><th>Page</th><th>Hits</th></tr>"
        + rows("<tr><td><a href='{u}'>A page</a></td><td>{n}</td></tr>") + "</table></html>",
        COUNTED),
    "rows of other widths": text("a.csv", "URL,Hits,Title\n" + rows("{u},{n}") + f"{OLD}/d,4,D,\n",
        COUNTED | {"/d": 4.0}),
    "no heading, figures and words": text("a.csv", rows("{u},{n},Room"), LISTED),
    "many breaks in quotes": text("a.csv", "URL,Hits,Title\n" + rows('{u},{n},"a\nb\nc"'), COUNTED),
    "a pivot": text("a.csv", "Row Labels,Sum of Hits\n" + rows("{u},{n}") + "Grand Total,6\n",
        COUNTED),
    "a page that is called a workbook": text("a.xls", "<table><tr><th>URL</th><th>Hits</th></tr>"
        + rows("<tr><td>{u}</td><td>{n}</td></tr>") + "</table>", COUNTED),
}  # fmt: skip

JSON = {
    "a list of objects": OBJECTS,
    "a list of addresses": PAGES,
    "a list below a name": {"data": {"pages": OBJECTS}},
    "pages below pages": {"title": "Home", "children": [
        {**OBJECTS[0], "children": [{**OBJECTS[1], "children": []}]}, OBJECTS[2]]},
    "nodes below nodes": {"data": {"pages": {"edges": [{"node": o} for o in OBJECTS]}}},
    "sections with pages": {"sections": [{"name": "s", "pages": [o]} for o in OBJECTS]},
    "figures a level down": [{"page": o["url"], "metrics": {"hits": o["hits"]}} for o in OBJECTS],
    "keys in a list": {"rows": [{"keys": [o["url"]], "hits": o["hits"]} for o in OBJECTS]},
    "addresses as keys": {o["url"]: {"hits": o["hits"]} for o in OBJECTS},
    "paths as keys": dict(COUNTED),
    "rows by their numbers": {str(n): o for n, o in enumerate(OBJECTS)},
    "columns by the numbers of rows": {
        name: {str(n): o[name] for n, o in enumerate(OBJECTS)} for name in ("url", "hits")},
    "a list a column": {"data": {name: [o[name] for o in OBJECTS] for name in ("url", "hits")}},
    "scalars with their types": [
        {"Item": {"url": {"S": o["url"]}, "hits": {"$numberLong": str(o["hits"])}}}
        for o in OBJECTS],
    "a report of lists in lists": {"reports": [{"of": ["x"], "data": {"rows": [
        {"dimensions": [o["url"]], "hits": [{"values": [o["hits"]]}]} for o in OBJECTS]}}]},
    "rows below their columns": {"columns": ["url", "hits"],
        "data": [[o["url"], o["hits"]] for o in OBJECTS]},
    "rows under a header": [["url", "hits"], *([o["url"], o["hits"]] for o in OBJECTS)],
    "posts below a database": {"db": [{"meta": {"version": "5"}, "data": {"posts": OBJECTS}}]},
    "dimensions and metrics": {
        "dimensionHeaders": [{"name": "hostName"}, {"name": "pagePathPlusQueryString"}],
        "metricHeaders": [{"name": "screenPageViews", "type": "TYPE_INTEGER"}],
        "rows": [{"dimensionValues": [{"value": HOST}, {"value": path}],
            "metricValues": [{"value": str(n)}]} for n, path in enumerate(PATHS, 1)]},
    "a feed": {"version": "https://jsonfeed.org/version/1.1", "home_page_url": f"{OLD}/",
        "items": [{"id": u, "url": u, "external_url": OTHER} for u in PAGES]},
    "posts of a contents system": [{"id": n, "link": u, "guid": {"rendered": f"{OLD}/?p={n}"},
        "title": {"rendered": "T"}} for n, u in enumerate(PAGES)],
    "a crawl that tells from where": [{"url": u, "from": f"{OLD}/", "status": 404}
        for u in PAGES],
    "redirects of a host": [{"src": path, "status": 301, "headers": {"Location": "/new"}}
        for path in PATHS],
    "captures, in one line": [["urlkey", "timestamp", "original", "statuscode"],
        *([f"example,quillhaven){p}", "20200101000000", OLD + p, "200"] for p in PATHS)],
    "a sitemap": {"urlset": {"url": [{"loc": u, "lastmod": "2026-01-01"} for u in PAGES]}},
    "a recording": {"log": {"version": "1.2", "entries": [{"request": {"method": "GET", "url": u},
        "response": {"status": 200, "content": {"mimeType": "text/html"}}} for u in PAGES]}},
}  # fmt: skip
UNCOUNTED = {"a list of addresses", "a feed", "posts of a contents system", "a sitemap",
    "a recording", "a crawl that tells from where", "redirects of a host",
    "captures, in one line", "a report of lists in lists"}  # fmt: skip

XML = {
    "pages": (rows("<page><url>{u}</url><title>t</title><hits>{n}</hits></page>"), COUNTED),
    "attributes": (rows('<page href="{u}" hits="{n}"/>'), COUNTED),
    "outlines": (rows('<outline text="x" htmlUrl="{u}"/>'), LISTED),
    "bare addresses": (rows("<url>{u}</url>"), LISTED),
    "below groups": ("<g><h>" + rows("<p><u>{u}</u></p>") + "</h></g>", LISTED),
}
SHEETS = (
    '<?xml version="1.0"?><Workbook xmlns="urn:schemas-microsoft-com:office:spreadsheet" '
    'xmlns:ss="urn:schemas-microsoft-com:office:spreadsheet"><Worksheet><Table>'
    "<Row><Cell><Data>URL</Data></Cell><Cell><Data>Hits</Data></Cell></Row>"
    + rows('<Row><Cell><Data>{u}</Data></Cell><Cell ss:Index="2"><Data>{n}</Data></Cell></Row>')
    + "</Table></Worksheet></Workbook>"
)
SQL = {
    "names in brackets, without INTO": "".join(
        f"INSERT [dbo].[Pages] ([Id], [Url]) VALUES ({n}, N'{p}')\n" for n, p in enumerate(PATHS)),
    "paths in a table": "INSERT INTO pages (id, path, title) VALUES "
        + ",".join(f"({n},'{p}','T''s')" for n, p in enumerate(PATHS)) + ";\n",
    "columns from its making": "CREATE TABLE `pages` (\n  `id` int NOT NULL,\n"
        "  `url` varchar(255),\n  `body` text,\n  PRIMARY KEY (`id`)\n);\n"
        "INSERT INTO `pages` VALUES "
        + ",".join(f"({n},'{u}','it\\'s <a href=\\\"{OTHER}\\\">x</a>')"
            for n, u in enumerate(PAGES)) + ";\n",
    "rows of a copy": "COPY public.pages (id, url, title) FROM stdin;\n" + rows("{n}\t{u}\tT")
        + "\\.\n",
    "addresses amid words": "INSERT INTO notes VALUES "
        + ",".join(f"({n},'see {u}, please')" for n, u in enumerate(PAGES)) + ";\n",
}  # fmt: skip
MARKUP = {
    "a sitemap": "<urlset xmlns='http://www.sitemaps.org/schemas/sitemap/0.9'>"
        + rows("<url><loc>{u}</loc></url>") + "</urlset>",
    "a feed of news": "<rss version='2.0'><channel>"
        + rows("<item><title>t</title><link>{u}</link></item>") + "</channel></rss>",
    "entries with links": "<feed xmlns='http://www.w3.org/2005/Atom'>"
        + rows("<entry><title>t</title><link href='{u}'/></entry>") + "</feed>",
    "outlines": "<opml version='2.0'><body>"
        + rows("<outline text='x' type='link' url='{u}'/>") + "</body></opml>",
    "a saved page": "<html><body>" + rows("<p><a href='{u}'>x</a></p>") + "</body></html>",
}  # fmt: skip
CONTENTS = (
    '<?xml version="1.0"?><rss version="2.0"><channel>'
    + rows("<item><title>t</title><link>{u}</link></item>")
    + f"<item><title>plan</title><link>{OLD}/att/</link>"
    f"<attachment_url>{OLD}/files/plan.pdf</attachment_url></item></channel></rss>"
)
RULES = {
    "from and to": ("a.txt", rows("{p} /new{n}", ruled=True)),
    "from, to and status": ("a.txt", rows("{p} /new{n} 301", ruled=True)),
    "an equals sign": ("a.ini", "[redirects]\n" + rows("{p} = /new{n}", ruled=True)),
    "an arrow": ("a.txt", rows("{p} -> /new{n}", ruled=True)),
    "a double arrow": ("a.txt", rows("{u} => https://quillhaven.example/new{n}", ruled=True)),
    "a semicolon behind": ("a.map", rows("{p} https://quillhaven.example/new{n};", ruled=True)),
    "a map of a server": ("a.map", rows("{p} https://quillhaven.example/new{n}", ruled=True)),
    "a list of a program": ("a.php", "<?php\nreturn [\n"
        + rows("    '{p}' => '/new{n}',", ruled=True) + "];\n"),
    "a tree of names": ("a.yml", "redirects:\n" + rows("  {p}: /new{n}", ruled=True)),
    "a map alone": ("a.conf", "map $request_uri $new {\n    default '';\n"
        + rows("    {p} /new{n};", ruled=True) + "}\n"),
    "Apache": (".htaccess", rows("Redirect 301 {p} /new{n}", ruled=True)),
    "nginx": ("a.conf", "server {\n" + rows(
        "location = {p} {{ return 301 /new{n}; }}", ruled=True) + "}\n"),
    "a rewrite map of a server's settings": ("web.config",
        '<?xml version="1.0"?><configuration><rewriteMaps><rewriteMap name="r">'
        + rows('<add key="{p}" value="/new{n}"/>', ruled=True)
        + "</rewriteMap></rewriteMaps></configuration>"),
    "Caddy": ("Caddyfile", f"{HOST} {{\n" + rows("\tredir {p} /new{n} permanent", ruled=True)
        + "}\n"),
}  # fmt: skip
INDEXES = {
    "an index of an archive": rows("example,quillhaven)/ 20260501100000 {u} text/html 200 X 9"),
    "an index with objects": rows(
        'example,quillhaven)/ 20260501100000 {{"url": "{u}", "status": "200"}}'
    ),
}


def _json() -> dict[str, Sample]:
    found = {}
    for name, value in JSON.items():
        pages = LISTED if name in UNCOUNTED else COUNTED
        for how, indent in (("in one line", None), ("laid out", 1)):
            found[f"{name}, {how}"] = text("a.json", json.dumps(value, indent=indent), pages)
    lines = "".join(json.dumps(o) + "\n" for o in OBJECTS)
    found["an object a line"] = text("a.jsonl", lines, COUNTED)
    lists = "".join(json.dumps([o["url"]]) + "\n" for o in OBJECTS)
    found["a list a line"] = text("a.jsonl", lists, LISTED)
    return found


def _tongues() -> dict[str, Sample]:
    found = {}
    for name, (page, figure, total, unit) in TONGUES.items():
        told = table(page, figure, total)
        found[name] = text("a.csv", told, COUNTED, unit)
    # A sum whose letters are others' is no page either.
    page, figure, _, unit = TONGUES["Portuguese"]
    found["letters of another encoding"] = Sample(
        "a.csv", table(page, figure, "Итого").encode("cp1251", "replace"), COUNTED, unit
    )
    return found


PRINTED = {
    "rows with their numbers": ["  url  hits"]
        + [f"{n}  {u}  {n + 1}" for n, u in enumerate(PAGES)],
    "single blanks, numbers from one": ["  url hits"]
        + [f"{n} {u} {n}" for n, u in enumerate(PAGES, 1)],
    "a drawn box, with types": ["┌───┬───┐", "│ url │ hits │", "│ varchar │ int64 │", "├───┼───┤"]
        + [f"│ {u} │ {n} │" for n, u in enumerate(PAGES, 1)] + ["└───┴───┘"],
    "carets": ["url^hits"] + [f"{u}^{n}" for n, u in enumerate(PAGES, 1)],
    "counts and statuses": [f"{n} 404 {u}" for n, u in enumerate(PAGES, 1)][::-1],
    "path and query": ["uri_path,uri_query,count"] + [
        f"{u.partition('?')[0].removeprefix(OLD)},{u.partition('?')[2]},{n}"
        for n, u in enumerate(PAGES, 1)],
}  # fmt: skip
SAVED = {"Children": [{"URLString": u, "URIDictionary": {"title": "A page"}} for u in PAGES]}

SAMPLES: dict[str, Sample] = {
    **{f"printed: {n}": text("a.txt", "\n".join(told) + "\n", COUNTED)
        for n, told in PRINTED.items()},
    **{f"property list: {form.name}": Sample("a.plist", plistlib.dumps(SAVED, fmt=form), LISTED)
        for form in plistlib.PlistFormat},
    **{f"table: {name}": sample for name, sample in _tongues().items()},
    **{f"table in {code}": Sample("a.csv", _tongues()[name].data.decode().encode(code), COUNTED,
        TONGUES[name][-1]) for code, name in ENCODINGS.items()},
    "table: several languages a row": text("a.csv", "Titel;URL (de);English page\n"
        f"Zimmer;{PAGES[0]};{PAGES[1]}\nFlut;{PAGES[2]};\n", LISTED),
    "table: a title above the address": text("a.csv", "Page,Views\n"
        + "".join(f'"The page\n{u}",{n}\n' for n, u in enumerate(PAGES, 1)), COUNTED),
    "table: a part beside the whole": text("a.csv", "Link,Unique clicks,Total clicks\n"
        + rows("{u},0,{n}"), COUNTED, CLICKS),
    **{f"text: {name}": sample for name, sample in TEXTS.items()},
    **{f"table: {name}": sample for name, sample in TABLES.items()},
    **{f"JSON: {name}": sample for name, sample in _json().items()},
    **{f"XML: {name}": text("a.xml", f'<?xml version="1.0"?><all>{inner}</all>', pages)
        for name, (inner, pages) in XML.items()},
    **{f"SQL: {name}": text("a.sql", told, LISTED) for name, told in SQL.items()},
    **{f"markup: {name}": text("a.xml", told, LISTED) for name, told in MARKUP.items()},
    "XML: a spreadsheet": text("a.xml", SHEETS, COUNTED),
    "markup: contents with attachments": text("a.xml", CONTENTS,
        LISTED | dict.fromkeys(("/att/", "/files/plan.pdf"))),
    **{f"rules: {name}": text(file, told, RULED) for name, (file, told) in RULES.items()},
    **{f"index: {name}": text("a.cdx", told, LISTED) for name, told in INDEXES.items()},
    **{f"packed: {name}": Sample(file, data, pages)
        for name, (file, data, pages) in PACKED.items()},
}  # fmt: skip
