"""Renaming on a running site: what vanished is an open entry, leaves the stock, and is nobody's
"same page" by mistake.
"""

from __future__ import annotations

from pathlib import Path

import pytest

from conftest import Program
from upright_ledger.web.local.stand_in import Served, serve_whole

SITE = "https://www.quillhaven.example"
TEXT = "The great clock of the tower was wound by hand for three hundred years, " * 4


@pytest.fixture
def running(tmp_path: Path) -> Program:
    """A ledger of a site that stays where it is."""
    Program(tmp_path)("open", "running", "--old", SITE, "--new", SITE)
    return Program(tmp_path / "running")


def sitemap(*paths: str) -> str:
    listed = "".join(f"<url><loc>{SITE}{path}</loc></url>" for path in paths)
    return f'<urlset xmlns="http://www.sitemaps.org/schemas/sitemap/0.9">{listed}</urlset>'


def test_two_sitemaps_tell_what_vanished(running: Program) -> None:
    running.write("before.xml", sitemap("/", "/visit/", "/visit/hours/", "/old-story/"))
    running.write("after.xml", sitemap("/", "/visit/", "/visit/opening/"))
    running.write("clicks.csv", f"url,clicks\n{SITE}/old-story/,44\n")
    running("stock", "before.xml")
    running("gather", "clicks.csv")
    found = running("stock", "after.xml", "--in-place-of", "before.xml", code=1)
    assert "2 pages vanished and have no answer:\n  /old-story/\n  /visit/hours/" in found.out
    entries = running.json("entries")["entries"]
    assert {e["legacy_url"].removeprefix(SITE): e["value"] for e in entries} == {
        "/old-story/": 44,
        "/visit/hours/": 0,
    }
    running("match")
    assert {e["answer"] for e in running.json("entries")["entries"]} == {"open"}
    running("decide", "/old-story/", "--gone")
    running("decide", "/visit/hours/", "--to", "/visit/opening/")
    kinds = {f["kind"] for f in running.json("check", code=None)["findings"]}
    assert "source-live" not in kinds
    running.write("third.xml", sitemap("/", "/visit/", "/visit/opening/", "/new/"))
    running("stock", "third.xml", "--in-place-of", "after.xml")
    running.write("fourth.xml", sitemap("/", "/visit/", "/new/"))
    again = running.json("stock", "fourth.xml", "--in-place-of", "third.xml", code=1)
    assert again["proposed"]["open"] == [f"{SITE}/visit/opening/"]


class Site:
    """A site whose pages are exchanged between two surveys."""

    def __init__(self) -> None:
        self.pages = {
            "/": '<title>Home</title><a href="/tower/">Tower</a><a href="/shop/">Shop</a>',
            "/tower/": f"<title>The tower</title><p>{TEXT}</p>",
            "/shop/": '<title>Shop</title><a href="/tower/">The clock</a>',
        }

    def __call__(self, host: str, target: str) -> Served:
        page = self.pages.get(target)
        return Served(200, page) if page is not None else Served(404, "<title>Nothing</title>")


def test_the_same_text_is_the_same_page_and_what_vanished_leaves_the_stock(tmp_path: Path) -> None:
    site = Site()
    with serve_whole(site) as origin:
        Program(tmp_path)("open", "running", "--old", origin, "--new", origin)
        running = Program(tmp_path / "running")
        survey = ("survey", f"{origin}/", "--as", "new", "--rate", "0")
        running(*survey, "--name", "before", code=None)
        site.pages["/great-clock/"] = f"<title>A clock of three centuries</title><p>{TEXT}</p>"
        site.pages["/"] = (
            site.pages["/"]
            .replace("/tower/", "/great-clock/")
            .replace("</a>", '</a><a href="/gone/">x</a>', 1)
        )
        del site.pages["/tower/"]
        found = running.json(*survey, "--since", "before", code=1)
        assert [(r["old"], r["new"], r["by"]) for r in found["renamings"]] == [
            (f"{origin}/tower/", f"{origin}/great-clock/", "text")
        ]
        assert found["proposed"]["open"] == [f"{origin}/tower/"]
        assert f"{origin}/tower/" in {m["target"] for m in found["links_to_mend"]}
        running("match")
        (entry,) = running.json("entries", "*tower*")["entries"]
        assert (entry["answer"], entry["destination"]) == ("open", "")
        running("decide", "/tower/", "--to", "/great-clock/")
        assert "source-live" not in running("check", code=None).out
        none = running("survey", f"{origin}/", "--since", "no-such", code=2).err
        assert "there is no survey 'no-such'" in none
