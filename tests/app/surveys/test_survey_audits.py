"""Survey: each audit on a small site made for it, over HTTP and HTTPS, and what the ledger makes of
it.
"""

from __future__ import annotations

import csv
import ssl
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest
import trustme

from conftest import Program, opened
from upright_ledger.web.local.stand_in import Served, serve_whole

HOST = "www.quillhaven.example"
SITE = f"http://{HOST}"
TEXT = " ".join(
    f"The {part} of the tower clock was made by hand."
    for part in ("dial", "hand", "bell", "weight", "frame")
)
LEFT_OUT = Served(404, "<title>Page not found</title>")


def page(title: str, body: str = "", head: str = "", **more: Any) -> Served:
    text = (
        f"<!doctype html><title>{title}</title>{head}<body>{body}<main><p>{title}: "
        f"{TEXT}</p></main>"
    )
    return Served(200, text, **more)


def plain_site(**more: Served) -> dict[str, Served]:
    """A front page that leads to three others, and a sitemap of all."""
    paths = ("/", "/dials/", "/bells/", "/hands/")
    links = "".join(f'<a href="{path}">{path}</a>' for path in paths)
    urls = "".join(f"<url><loc>{SITE}{path}</loc></url>" for path in paths)
    site = {path: page(f"Page {path}", links) for path in paths}
    site["/sitemap.xml"] = Served(200, f"<urlset>{urls}</urlset>", content_type="application/xml")
    return site | {f"/{name}": answer for name, answer in more.items()}


@pytest.fixture
def museum_of(tmp_path: Path) -> Callable[..., Program]:
    """A ledger whose old and new site share a host, or with other origins."""

    def make(*options: str) -> Program:
        return opened(tmp_path / "museum", *(options or ("--old", SITE, "--new", SITE)))

    return make


def survey(
    program: Program, site: dict[str, Served], *options: object, code: int | None = None
) -> Any:
    """Survey a site at its production address; hosts that it does not name are served by it,
    too.
    """
    with serve_whole(lambda _, target: site.get(target, LEFT_OUT)) as address:
        place = f"={address.removeprefix('http://')}"
        connect = ["--connect", f"{HOST}:80{place}", "--connect", f"other.example:80{place}"]
        return program.json("survey", f"{SITE}/", "--as", "new", *connect, *options, code=code)


def kinds(found: Any) -> dict[str, list[str]]:
    return {
        f["kind"]: [f"{row[0]} {row[1]}".strip().replace(SITE, "") for row in f["rows"]]
        for f in found["faults"]
    }


def test_a_site_without_faults_has_none(museum_of: Callable[..., Program]) -> None:
    found = survey(museum_of(), plain_site(), code=0)
    assert (found["faults"], found["links_to_mend"]) == ([], [])
    assert found["counts"] == {"answered": 5}


def test_what_closes_the_whole_site_is_said_once(museum_of: Callable[..., Program]) -> None:
    program, robots = (
        museum_of(),
        Served(200, "User-agent: *\nDisallow: /\n", content_type="text/plain"),
    )
    hidden = plain_site()
    for path in ("/", "/dials/", "/bells/"):
        hidden[path] = page(
            path, hidden[path].body, headers=(("X-Robots-Tag", "googlebot: noindex"),)
        )
    found = survey(program, hidden, code=1)
    assert found["faults"][0]["text"].endswith("3 of 4, so the whole of www.quillhaven.example")
    assert [(f["kind"], f["severity"]) for f in found["faults"][:1]] == [
        ("noindex-everywhere", "error")
    ]
    staged = survey(program, hidden, "--staging")
    assert [(f["kind"], f["severity"]) for f in staged["faults"][:1]] == [
        ("noindex-everywhere", "note")
    ]
    barred = survey(program, plain_site(**{"robots.txt": robots}), code=1)
    assert kinds(barred)["robots-blocks-everywhere"]
    assert set(barred["counts"]) == {"not asked"}
    own = survey(program, plain_site(**{"robots.txt": robots}), "--own-site", code=1)
    assert own["counts"] == {"answered": 5}
    assert kinds(own)["robots-blocks-everywhere"] == [
        "/",
        "/bells/",
        "/dials/",
        "/hands/",
        "/sitemap.xml",
    ]
    closed = {path: Served(401, "login") for path in plain_site()}
    assert kinds(survey(program, closed, code=1))["closed-everywhere"] == ["/"]


def test_robots_txt_is_read_as_its_standard_says(museum_of: Callable[..., Program]) -> None:
    program = museum_of()
    moved = plain_site(**{"robots.txt": Served(301, "", f"{SITE}/moved-robots.txt")})
    moved["/moved-robots.txt"] = Served(
        200, "User-agent: *\nDisallow: /bells/\n", content_type="text/plain"
    )
    assert kinds(survey(program, moved))["robots-blocks"] == ["/bells/"]
    astray = plain_site(**{"robots.txt": Served(301, "", "http://elsewhere.example/robots.txt")})
    assert survey(program, astray, code=0)["counts"] == {"answered": 5}
    broken = plain_site(**{"robots.txt": Served(503, "busy", headers=(("Retry-After", "0"),))})
    with serve_whole(lambda _, target: broken.get(target, LEFT_OUT)) as address:
        connect = ("--connect", f"{HOST}:80={address.removeprefix('http://')}")
        told = program("survey", f"{SITE}/", *connect, "--rate", "0", code=3).err
        assert "robots.txt could not be read: it answers 503" in told
        assert program.json("survey", f"{SITE}/", *connect, "--own-site", code=0)["pages"] == 4


def test_links_to_other_sites_are_checked_on_request_and_private_networks_never(
    museum_of: Callable[..., Program],
) -> None:
    program = museum_of()
    asked: list[str] = []
    links = (
        "http://other.example/fine http://other.example/gone http://127.0.0.1:{}/admin "
        "http://localhost:{}/x"
    )

    def respond(host: str, target: str) -> Served:
        asked.append(f"{host}{target}")
        if target == "/":
            port = host.rpartition(":")[2] if ":" in host else ports[0]
            return page("Home", "".join(f'<a href="{u.format(port)}">x</a>' for u in links.split()))
        return Served(200 if target == "/fine" else 404, "")

    with serve_whole(respond) as address:
        ports = [address.rpartition(":")[2]]
        place = f"127.0.0.1:{ports[0]}"
        connect = ["--connect", f"{HOST}:80={place}", "--connect", f"other.example:80={place}"]
        program.json("survey", f"{SITE}/", *connect, code=None)
        assert not [a for a in asked if a.startswith("other.example")]
        asked.clear()
        found = program.json(
            "survey", f"{SITE}/", "--external", "--connect", f"{HOST}:80={place}", code=None
        )
        assert {a.partition("/")[0] for a in asked} == {HOST}
        assert len(kinds(found)["external-link-dead"]) == 4
        found = program.json("survey", f"{SITE}/", "--external", *connect, code=None)
    assert "http://other.example/gone /" in kinds(found)["external-link-dead"]
    assert "http://other.example/fine /" not in kinds(found)["external-link-dead"]


def test_dead_pages_to_which_others_link_are_ranked(museum_of: Callable[..., Program]) -> None:
    program = museum_of()
    program.write(
        "backlinks.csv",
        f"url,linking domains,clicks\n{SITE}/lost/,3,1\n{SITE}/led-astray/,9,0\n{SITE}/dials/,5,"
        f"5\n{SITE}/asked/,0,7\n{SITE}/nobody/,0,0\n",
    )
    program("gather", "backlinks.csv")
    site = plain_site(**{"led-astray/": Served(301, "", f"{SITE}/nowhere/")})
    assert survey(program, site)["broken_inbound"] == []
    found = survey(program, site, "--as", "old", "--entries")["broken_inbound"]
    assert [
        (r["url"].removeprefix(SITE), r["linking_domains"], r["clicks"], r["status"]) for r in found
    ] == [("/led-astray/", 9, 0, 404), ("/lost/", 3, 1, 404), ("/asked/", 0, 7, 404)]
    assert "dead, though others lead there" in program("survey", "--again", "last", code=None).out


def test_settings_count_where_no_option_says_otherwise(museum_of: Callable[..., Program]) -> None:
    program = museum_of()
    file = program.folder / "upright.toml"
    before = file.read_text()
    file.write_text(
        before.replace("[survey]", '[survey]\nwithout = "/bells*"\ndepth = 3\nrate = 0')
    )
    assert survey(program, plain_site())["counts"] == {"answered": 4, "not asked": 1}
    assert survey(program, plain_site(), "--without", "/none*")["counts"] == {"answered": 5}
    for line in ("depth = -1", 'rate = "fast"', "speed = 3", 'agent = "a\\u0007b"'):
        file.write_text(before.replace("[survey]", f"[survey]\n{line}"))
        assert f"[survey] {line.split()[0]}" in program("survey", f"{SITE}/", code=3).err


def test_from_any_figure_to_its_rows(museum_of: Callable[..., Program]) -> None:
    program = museum_of("--old", "http://old.quillhaven.example", "--new", SITE)
    site = plain_site()
    links = "".join(
        f'<a href="/journal/{year}/{n}.html">j</a>' for year in (2019, 2020) for n in range(5)
    )
    site["/"] = page(
        "Home",
        links + '<a href="/old.html#top">o</a> <a href="//www.quillhaven.example/old.html">p</a>',
    )
    site["/old.html"] = Served(301, "", f"{SITE}/dials/")
    survey(program, site, "--replacements", "replace.csv", "--name", "one")
    assert (program.folder / "replace.csv").read_text().splitlines()[1:] == [
        "//www.quillhaven.example/old.html,//www.quillhaven.example/dials/,1,",
        "/old.html,/dials/,1,",
    ]
    told = program.json("survey", "--again", "one", "--list", "moved", code=None)["rows"]
    assert told == [[f"{SITE}/old.html", f"{SITE}/dials/"]]
    families = program.json("survey", "--again", "one", "--by", "family", code=None)["groups"]
    assert {
        "group": "/journal/{year}/{number}.html",
        "outcome": "failing",
        "addresses": 10,
        "linked": 10,
    } in families
    part = ("--by", "family", "--list", "failing", "--part", "/journal/{year}/{number}.html")
    shown = program("survey", "--again", "one", *part, code=None).out
    assert "10 addresses" in shown
    assert "/journal/2019/4.html" in shown
    assert (
        "nothing here is called 'mvoed'"
        in program("survey", "--again", "one", "--list", "mvoed", code=2).err
    )


def surveyed_by_https(
    program: Program, secure: dict[str, Served], hops: dict[str, str]
) -> dict[str, list[str]]:
    """What is found of a site that answers by HTTPS, and by HTTP leads there. hops: where else."""
    authority = trustme.CA()
    authority.cert_pem.write_to_path(str(program.folder / "ca.pem"))
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    authority.issue_cert(HOST).configure_cert(context)
    missing = page("Sorry", "nothing here")
    with (
        serve_whole(lambda _, target: secure.get(target, missing), tls=context) as tls,
        serve_whole(
            lambda _, target: Served(301, "", hops.get(target, f"https://{HOST}{target}"))
        ) as plain,
    ):
        places = {443: tls.partition("://")[2], 80: plain.partition("://")[2]}
        options = [o for port, at in places.items() for o in ("--connect", f"{HOST}:{port}={at}")]
        found = program.json("survey", f"https://{HOST}/", "--ca", "ca.pem", *options, code=1)
    return {k: [r.replace(f"://{HOST}", "") for r in rows] for k, rows in kinds(found).items()}


def test_https_is_reached_in_one_hop_and_kept(museum_of: Callable[..., Program]) -> None:
    program = museum_of("--old", "http://old.quillhaven.example", "--new", f"https://{HOST}")
    links = (
        '<a href="/dials/">d</a><img src="http://www.quillhaven.example/clock.png"><img '
        'src="/bell.png">'
    )
    image = Served(200, "", content_type="image/png")
    secure = {p: page("Dials") for p in ("/dials/", "/dials/index.html", "/dials")}
    secure |= {"/": page("Home", links), "/clock.png": image, "/bell.png": image}
    hops = {"/": f"https://{HOST}/", "/dials/": f"http://{HOST}/dials"}
    found = surveyed_by_https(program, secure, hops)
    assert found["no-hsts"] == ["https/"]
    assert found["mixed-content"] == ["/clock.png https/"]
    assert found["https-not-in-one-hop"] == ["/dials/ /dials"]
    assert found["slash-twin-answers"] == ["https/dials https/dials/"]
    assert "https/dials/index.html https/dials/" in found["index-file-answers"]
    assert found["missing-page-not-404"] == ["https/upright-ledger-no-such-page-7f3a/ 200"]
    kept = (("Strict-Transport-Security", "max-age=31536000"),)
    secure["/"] = page("Home", '<a href="/dials/">d</a>', headers=kept)
    assert {"no-hsts", "mixed-content"}.isdisjoint(surveyed_by_https(program, secure, hops))


def test_renamed_pages_become_proposals_at_once(museum_of: Callable[..., Program]) -> None:
    program = museum_of()
    program("decide", "/earlier.html", "--to", "/bells/")
    site = plain_site()
    survey(program, site, "--name", "before")
    site["/ringing/"] = site.pop("/bells/")
    site["/dials/"], site["/faces/"] = page("Sundials", "a" * 200), site["/dials/"]
    site["/"] = page(
        "Page /",
        '<a href="/ringing/">r</a><a href="/faces/">f</a><a href="/dials/">d</a><a '
        'href="/hands/">h</a>',
    )
    found = survey(program, site, "--since", "before", "--pairs", "pairs.csv")
    assert [(r["old"], r["new"], r["state"], r["by"]) for r in found["renamings"]] == [
        (f"{SITE}/bells/", f"{SITE}/ringing/", "gone", "title and text")
    ]
    assert [(c["address"], c["now"]) for c in found["contested"]] == [
        (f"{SITE}/dials/", f"{SITE}/faces/")
    ]
    assert (found["proposed"]["entries"], found["proposed"]["proposals"]) == (1, 1)
    assert found["proposed"]["astray"] == [[f"{SITE}/earlier.html", f"{SITE}/ringing/"]]
    program("review", "--out", "sheet.csv")
    told = (program.folder / "sheet.csv").read_text()
    row = next(r for r in csv.DictReader(told.splitlines()) if r["confidence"])
    assert row["destination"] == f"{SITE}/ringing/"
    assert row["confidence"].startswith("0.99")
    assert "same title and text" in told
    again = program.json("survey", "--again", "last", "--since", "before", code=None)["proposed"]
    assert (again["entries"], again["proposals"]) == (0, 1)
    with (program.folder / "pairs.csv").open() as file:
        pairs = {r["old"]: r["new"] for r in csv.DictReader(file)}
    assert pairs == {
        f"{SITE}/bells/": f"{SITE}/ringing/",
        f"{SITE}/earlier.html": f"{SITE}/ringing/",
    }
    program("decide", "--from", "pairs.csv")
    assert program.json("entries", "--limit", "0")["entries"][0]["answer"] == "move"
    shown = program("survey", "--again", "last", "--since", "before", code=None).out
    assert "contested address" in shown


def test_a_list_of_pages_in_the_place_of_an_earlier_one(museum_of: Callable[..., Program]) -> None:
    program = museum_of()
    program.write(
        "pages.csv", "url,title,item\n/a/,Anchor clocks,\n/b/,Bell,17\n/c/,Chimes,\n/d/,Dials,\n"
    )
    program("stock", "pages.csv")
    program.write(
        "pages-2.csv",
        "url,title,item\n/a/,Anchor clocks,\n/b-new/,Great "
        "Bell,17\n/chimes/,Chimes,\n/e/,Escapement,\n",
    )
    found = program.json("stock", "pages-2.csv", "--in-place-of", "pages.csv", code=1)
    assert {
        (r["old"].removeprefix(SITE), r["new"].removeprefix(SITE), r["by"])
        for r in found["renamings"]
    } == {("/b/", "/b-new/", "item number"), ("/c/", "/chimes/", "title")}
    assert (found["vanished"], found["appeared"], found["pages"]) == (
        [f"{SITE}/d/"],
        [f"{SITE}/e/"],
        4,
    )
    assert found["proposed"]["proposals"] == 2
    assert len(found["proposed"]["open"]) == 3
    assert (
        "no list of pages called"
        in program("stock", "pages-2.csv", "--in-place-of", "none.csv", code=2).err
    )
    program("undo", "3")
    assert program.json("stock", "pages.csv")["pages"] == 4
    program.write("pages-3.csv", "url,title\n/a/,Anchor clocks\n/x/,Dials\n")
    told = program("stock", "pages-3.csv", "--in-place-of", "pages.csv", code=1).out
    assert "another address" in told
