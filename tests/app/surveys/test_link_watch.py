"""Watching links: cron says only what is new among the links to mend, and what failed can be asked
again without all the rest.
"""

from __future__ import annotations

import json
from collections import Counter
from collections.abc import Iterator
from pathlib import Path

import pytest

from conftest import OLD, Program
from upright_ledger.core.crawl.audits.link_news import asked_again, link_news
from upright_ledger.core.crawl.audits.site_index import LinkToMend
from upright_ledger.web.local.stand_in import Served, serve_whole

PARTNER = "http://partner.example"


class Sites:
    """Twelve pages of one's own, and another site to which they link; both change."""

    def __init__(self) -> None:
        self.dead = {"/gone-there"}
        self.failing: set[str] = set()
        self.links = {
            "/": ["/a", "/b", *(f"/p{n}" for n in range(8))],
            "/a": [f"{PARTNER}/fine", f"{PARTNER}/gone-there"],
            "/b": ["/missing", f"{PARTNER}/fine"],
            **{f"/p{n}": [f"{PARTNER}/other"] for n in range(8)},
        }
        self.asked: Counter[str] = Counter()

    def own(self, _: str, target: str) -> Served:
        self.asked[target] += 1
        if target not in self.links or target in self.failing:
            return Served(503 if target in self.failing else 404, "")
        links = "".join(f'<a href="{url}">to {url[-5:]}</a>' for url in self.links[target])
        return Served(200, f"<title>Page {target}</title>{links}")

    def other(self, _: str, target: str) -> Served:
        self.asked[PARTNER + target] += 1
        return Served(404 if target in self.dead else 200, "")


class Cron:
    """One look at the links, as cron has it."""

    def __init__(self, own: Program, sites: Sites, origin: str, there: str) -> None:
        self.own, self.sites, self.origin = own, sites, origin
        self.survey = ("survey", f"{origin}/", "--external", "--rate", "0")
        self.survey += ("--connect", f"partner.example:80={there.removeprefix('http://')}")

    def look(self, *more: str, code: int | None = 0) -> str:
        """What it says; `asked` tells what was asked for that."""
        self.sites.asked.clear()
        return self.own(*self.survey, "--new", *more, code=code).out


@pytest.fixture
def cron(tmp_path: Path) -> Iterator[Cron]:
    sites = Sites()
    with serve_whole(sites.other) as there, serve_whole(sites.own) as origin:
        Program(tmp_path)("open", "own", "--old", OLD, "--new", origin)
        yield Cron(Program(tmp_path / "own"), sites, origin, there)


def test_only_what_is_new_is_said_and_sent(cron: Cron) -> None:
    first = cron.look("--message", "first.json", code=1)
    assert "2 addresses have new links to mend:" in first
    assert f"  {cron.origin}/missing\n    answers 404; on {cron.origin}/b (“to ssing”)" in first
    sent = json.loads((cron.own.folder / "first.json").read_text())
    assert sent["subject"] == "own: 2 addresses have new links to mend"
    assert cron.look() == ""
    cron.sites.dead.add("/other")
    cron.sites.links["/a"].append("/missing")
    found = json.loads(cron.look("--json", code=1))
    assert {(n["kind"], n["url"].rpartition("/")[2]) for n in found["news"]} == {
        ("has new links to mend", "other"),
        ("has new links to mend", "missing"),
    }
    assert "and on 7 more pages" in next(n["why"] for n in found["news"] if "other" in n["url"])
    cron.sites.dead.clear()
    said = cron.look("--message", "last.json")
    assert "2 addresses have no links to mend any more:" in said
    assert f"    before: on {cron.origin}/a (“to there”)" in said
    assert "links to 2 addresses are mended" in (cron.own.folder / "last.json").read_text()


def test_a_page_that_fails_for_now_has_mended_no_link(cron: Cron) -> None:
    cron.look(code=1)
    cron.sites.failing.add("/b")
    said = cron.look(code=1)
    assert f"  {cron.origin}/b\n    answers 503" in said
    assert "no links to mend any more" not in said
    cron.sites.failing.clear()
    del cron.sites.links["/b"]
    cron.sites.links["/"].remove("/b")
    assert f"{cron.origin}/missing" not in cron.look()


def test_what_the_settings_leave_alone_is_no_news(cron: Cron) -> None:
    settings = cron.own.folder / "upright.toml"
    left = f'[links.ignored]\n"{PARTNER}/*" = "they know"\n"*/missing" = "comes back"'
    settings.write_text(settings.read_text().replace("[links.ignored]", left))
    assert cron.look() == ""


def test_only_what_failed_and_the_pages_that_link_there_are_asked_again(cron: Cron) -> None:
    cron.look(code=1)
    cron.sites.dead.clear()
    cron.sites.links["/b"] = [f"{PARTNER}/newly", "/b2"]
    cron.sites.links["/b2"] = []
    said = cron.look("--failing", "last")
    assert "2 addresses have no links to mend any more:" in said
    asked = {url for url in cron.sites.asked if "robots" not in url and "sitemap" not in url}
    assert asked == {"/a", "/b", "/b2", f"{PARTNER}/gone-there", f"{PARTNER}/newly"}
    told = cron.own.json("survey", "--again", "last", code=None)
    assert told["counts"]["answered"] == 12
    assert told["links_to_mend"] == []


def test_a_survey_to_ask_again_is_one_of_that_place(cron: Cron) -> None:
    failed = cron.own("survey", f"{cron.origin}/", "--failing", "last", code=2)
    assert f"there is no survey 'last' of {cron.origin}" in failed.err
    for wrong in (("--again", "last", "--new"), ("--message", "x.json", f"{cron.origin}/")):
        assert "--new goes with" in cron.own("survey", *wrong, code=2).err


def link(source: str, target: str, *, pages: int = 1) -> LinkToMend:
    return LinkToMend(source, target, target, "", "", 404, "", pages, in_template=pages > 1)


def test_a_link_of_a_template_is_one_wherever_it_stands() -> None:
    before, now = [link("/a", "/x", pages=40)], [link("/b", "/x", pages=41)]
    assert link_news(before, now) == []
    (found,) = link_news(before, [*now, link("/c", "/x")])
    assert (found.mended, [one.source for one in found.links]) == (False, ["/c"])
    (gone,) = link_news(before, [])
    assert (gone.target, gone.mended, gone.pages) == ("/x", True, 40)
    assert asked_again(now) == {"/x", "/b"}
