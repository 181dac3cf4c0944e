"""Who asks: a scanner is known by its probes, in all that it asks that day, and nobody else is."""

from __future__ import annotations

import random
from collections.abc import Callable, Iterator

import numpy as np
import pytest

from conftest import OLD, Program
from upright_ledger.formats.logs.visitors import UNKNOWN, scanners, visitors_at, visitors_named

AGENT = "Mozilla/5.0 (X11; Linux x86_64; rv:140.0) Gecko/20100101 Firefox/140.0"
DEAD = (
    "/shop/view.asp?id=3", "/guide.jsp", "/files/list.cgi", "/files/pack.tar", "/info.php",
    "/dp/B0932B5NVD", "/aboutUsPage", "/newsLetterArchive", "/old/", "/test/", "/backup/",
    "/db/list.php", "/log/today.log", "/doc.asp", "/x.php",
)  # fmt: skip
WORDS = ("admin", "backup", "old", "test", "api", "config", "db", "shell", "login", "data", "cms")
ENDINGS = ("", "/", ".php", ".asp", ".jsp", ".bak", ".zip", ".sql", ".txt", ".json", ".html")
SURE = ("/.env", "/wp-login.php", "/.git/config", "/xmlrpc.php", "/wp-admin/")


def line(client: str, day: int, path: str, status: int = 404, led: str = "-") -> str:
    return (
        f'{client} - - [{day:02}/May/2026:10:00:00 +0000] "GET {path} HTTP/1.1" {status} 5 '
        f'"{led}" "{AGENT}"\n'
    )


def scan(rng: random.Random, size: int) -> list[str]:
    found = set(SURE)
    while len(found) < size:
        names = (f"{rng.choice(WORDS)}{rng.choice(('', rng.randrange(99)))}" for _ in range(3))
        found.add(f"/{'/'.join(names)}{rng.choice(ENDINGS)}")
    return sorted(found - set(DEAD))


def as_json(lines: list[str]) -> Iterator[str]:
    for text in lines:
        client, _, rest = text.partition(" - - [")
        request, status = rest.split('"')[1], rest.split('"')[2].split()[0]
        yield (
            f'{{"remote_addr":"{client}","time":"2026-05-{rest[:2]}T10:00:00Z",'
            f'"request":"{request}","status":{status},"user_agent":"{AGENT}"}}\n'
        )


@pytest.mark.parametrize("form", ["combined", "json"])
def test_a_scan_is_set_aside_and_dead_pages_are_kept(form: str, museum: Program) -> None:
    rng = random.Random(7)
    people = [f"198.51.100.{n}" for n in range(1, 200)]
    lines = [line(c, rng.randint(1, 3), p) for p in DEAD for c in rng.sample(people, 3)]
    lines += [line(rng.choice(people), 2, f"/page/{n % 50}", 200) for n in range(500)]
    lines += [line("203.0.113.9", 2, path) for path in scan(rng, 1_500)]
    rng.shuffle(lines)
    museum.write("a.log", "".join(lines if form == "combined" else as_json(lines)))
    told = museum.json("gather", "a.log")["sources"][0]
    assert told["rejected"] == 0
    found = {
        e["legacy_url"].removeprefix(OLD): e["hits"]
        for e in museum.json("entries", "--limit", "0")["entries"]
    }
    pages = {path.rstrip("/") for path in found if not path.startswith("/page/")}
    assert pages == {path.rstrip("/") for path in DEAD}
    failing = museum.json("triage", code=1)["entries"]
    assert len(failing) == len(DEAD)


def test_a_link_makes_a_page_of_what_looks_like_a_probe(museum: Program) -> None:
    museum.write("a.log", line("198.51.100.1", 1, "/info.php", led="https://fern.example/"))
    museum("gather", "a.log")
    assert [e["legacy_url"] for e in museum.json("entries")["entries"]] == [f"{OLD}/info.php"]
    museum.write("b.log", line("198.51.100.1", 1, "/test.php") * 9)
    museum("gather", "b.log")
    assert len(museum.json("entries")["entries"]) == 1


def test_a_proxy_is_no_scanner(museum: Program) -> None:
    """All come by one address: scanners among them make none of the others one."""
    lines = [line("10.0.0.1", 1, f"/page/{n % 40}", 404) for n in range(400)]
    lines += [line("10.0.0.1", 1, path) for path in SURE]
    museum("gather", museum.write("a.log", "".join(lines)))
    assert len(museum.json("entries", "--limit", "0")["entries"]) == 40


def test_a_visitor_has_one_number_wherever_it_is_told() -> None:
    names = ["192.0.2.1", "2001:db8::7", "-", "", "192.0.2.10", "192.0.2.1"]
    text = "".join(f"{name} x\n" for name in names).encode()
    starts = np.cumsum([0, *(len(name) + 3 for name in names[:-1])])
    found = visitors_at(np.frombuffer(text, np.uint8), starts)
    assert found.tolist() == visitors_named(names).tolist()
    assert (found[0], found[2], found[3]) == (found[5], UNKNOWN, UNKNOWN)
    assert len(set(found.tolist())) == 4


def test_nobody_is_a_scanner_by_what_others_ask() -> None:
    visitors = np.array([1, 1, 1, 2, 2, 0, 0, 0], np.uint64)
    probes = np.array([True] * 3 + [True, False] + [True] * 3)
    found = scanners(visitors, np.arange(8), probes, np.ones(8, bool))
    assert found.tolist() == [True] * 3 + [False] * 5


def test_what_search_engines_ask_for_in_vain_is_known_somewhere(museum: Program) -> None:
    """Their 404s tell of old addresses; those of other programs tell of nothing."""
    line = '192.0.2.{n} - - [01/May/2026:10:00:00 +0000] "GET {p} HTTP/1.1" 404 1 "-" "{a}"\n'
    search = "Mozilla/5.0 (compatible; bingbot/2.0; +http://www.bing.com/bingbot.htm)"
    other = "FernCrawler/1 (+https://fern.example/bot)"
    museum.write(
        "a.log",
        line.format(n=1, p="/old/clock.html", a=search) + line.format(n=2, p="/x.html", a=other),
    )
    museum("gather", "a.log")
    (entry,) = museum.json("entries")["entries"]
    assert entry["legacy_url"].endswith("/old/clock.html")
    assert (entry["hits"], entry["bots"]) == (0, 1)
    (said,) = museum.json("entries", "/old/clock.html")["evidence"]
    assert said["agent"] == "search engines"


PROBES = ["/wp-login.php", "/.env", "/xmlrpc.php", "/info.php", "/shell.php", "/a?x=%3Cscript%3E"]
ONE = '192.0.2.{n} - - [01/May/2026:10:00:00 +0000] "GET {p} HTTP/1.1" 404 1 "-" "Mozilla/5.0 X"\n'


@pytest.mark.parametrize("first", ["list", "log"])
def test_what_a_list_names_is_a_page_whatever_it_looks_like(first: str, museum: Program) -> None:
    museum.write("list.txt", "".join(f"{OLD}{p}\n" for p in PROBES))
    museum.write(
        "a.log",
        "".join(ONE.format(n=n, p=p) for n, p in enumerate([*PROBES, "/phpmyadmin/index.php"])),
    )
    for name in ("list.txt", "a.log") if first == "list" else ("a.log", "list.txt"):
        museum("gather", name)
    found = {e["legacy_url"]: e["hits"] for e in museum.json("entries")["entries"]}
    assert found == {f"{OLD}{p}": 1 for p in PROBES}
    (aside,) = museum.json("entries", "--aside", "probe")["set_aside"]
    assert aside["url"].endswith("/phpmyadmin/index.php")
    # The list taken back, nothing but the log tells of them, and they are a scanner's again.
    museum("undo")
    museum("undo")
    museum("gather", "a.log")
    assert museum.json("entries")["entries"] == []


@pytest.mark.parametrize("first", ["stock", "log"])
def test_a_page_in_stock_is_a_page_whatever_it_looks_like(
    first: str, open_museum: Callable[..., Program]
) -> None:
    new = OLD.replace("http:", "https:")
    site = open_museum("--old", OLD, "--new", new)
    site.write("pages.txt", "".join(f"{new}{p}\n" for p in PROBES[:4]))
    site.write("a.log", "".join(ONE.format(n=n, p=p) for n, p in enumerate(PROBES)))
    for name in ("stock", "log") if first == "stock" else ("log", "stock"):
        site("stock", "pages.txt") if name == "stock" else site("gather", "a.log")
    found = {e["legacy_url"] for e in site.json("entries")["entries"]}
    assert found == {f"{OLD}{p}" for p in PROBES[:4]}
