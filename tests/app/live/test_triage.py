"""Triage: what fails after a launch, what became of it since it was mended, and what is only
noise.
"""

from __future__ import annotations

import csv
from collections import defaultdict
from pathlib import Path
from typing import Any

import pytest

from conftest import NEW, OLD, Program
from upright_ledger.demo.live_phase import CLAIMED, LAUNCH, MENDED, LivePhase, make_live_phase
from upright_ledger.web.local.stand_in import serve


@pytest.fixture(scope="module")
def phase() -> LivePhase:
    return make_live_phase()


@pytest.fixture(scope="module")
def lived(tmp_path_factory: pytest.TempPathFactory, phase: LivePhase) -> Program:
    """A ledger after three builds, of which the last never reached the server, with the log of
    sixty days.
    """
    folder = tmp_path_factory.mktemp("live")
    Program(folder)("open", "museum", "--old", OLD, "--new", NEW)
    museum = Program(folder / "museum")
    phase.write_log(museum.folder / "access.log")
    phase.write_pairs(museum.folder)
    for name, day in (("launch", LAUNCH), ("mended", MENDED), ("claimed", CLAIMED)):
        museum("decide", "--from", f"{name}.csv")
        museum("build", "--for", "nginx", "--out", name)
        museum("handover", name, "--given")
        museum("handover", name, "--live", "--at", f"{day}T03:00")
    museum("decide", "--from", "waiting.csv")
    museum("triage", "access.log", code=1)
    return museum


def test_every_cause_and_state_is_found_as_planted(lived: Program, phase: LivePhase) -> None:
    found = lived.json("triage", code=1)
    states = {e["legacy_url"].removeprefix(OLD): (e["state"], e["why"]) for e in found["entries"]}
    assert states == phase.states


def test_noise_is_told_apart(lived: Program, phase: LivePhase) -> None:
    aside = lived.json("entries", "--aside", "all", "--limit", "0")["set_aside"]
    classes = {a["url"].removeprefix(OLD).partition("?")[0]: a["class"] for a in aside}
    assert {path: kind for path, kind in phase.noise.items() if classes.get(path) != kind} == {}
    assert set(classes) - set(phase.noise) == set()
    found = lived.json("triage", code=1)["noise"]
    counts: dict[str, int] = defaultdict(int)
    for kind in phase.noise.values():
        counts[kind] += 1
    assert {n["class"]: n["addresses"] for n in found} == counts


def test_the_fewest_answers_that_cover_most_of_the_loss(lived: Program) -> None:
    found = lived.json("triage", code=1)
    decisions = found["decisions"]
    assert (decisions[0]["kind"], decisions[0]["name"], decisions[0]["entries"]) == (
        "family",
        "/journal/{year}/{slug}.html",
        8,
    )
    lost = [d["lost"] for d in decisions]
    assert lost == sorted(lost, reverse=True)
    enough = found["enough"]
    assert sum(lost[:enough]) >= 0.9 * sum(lost) > sum(lost[: enough - 1])
    told = lived("triage", code=1).out
    assert f"These {enough} answers cover 90 % of what is lost" in told
    assert told.index("fails again") < told.index("set aside as noise")


def test_where_failing_requests_come_from(lived: Program) -> None:
    found = lived.json("triage", code=1)
    assert {o["origin"] for o in found["origins"]} >= {
        "own page",
        "search engine",
        "mail",
        "another site",
        "direct",
    }
    lived("triage", "--out", "failing.xlsx", "--figures", "figures", code=1)
    assert {p.name for p in (lived.folder / "figures").iterdir()} == {
        f"{name}.{ending}"
        for name in ("not-found", "coverage", "families")
        for ending in ("png", "svg")
    }
    lived("triage", "--out", "failing.csv", code=1)
    with (lived.folder / "failing.csv").open() as file:
        rows = list(csv.DictReader(file))
    assert rows[0]["state"] == "recurring"
    assert {r["state"] for r in rows} == {"recurring", "new", "answered", "deployed", "proven"}


def test_the_same_log_again_changes_nothing(lived: Program, tmp_path: Path) -> None:
    before = lived.json("triage", code=1)
    twin = tmp_path / "the-same.log"
    twin.write_bytes((lived.folder / "access.log").read_bytes())
    assert lived.json("triage", twin, code=1)["entries"] == before["entries"]


def hit(path: str, *, referrer: str = "-", status: int = 404, day: int = 3, times: int = 1) -> str:
    agent = "Mozilla/5.0 (X11; Linux x86_64) ExampleBrowser/1.0"
    return "".join(
        f'198.51.100.{n} - - [{day:02}/May/2026:10:00:{n:02} +0000] "GET {path} HTTP/1.1" {status} '
        f'5 "{referrer}" "{agent}"\n'
        for n in range(times)
    )


def test_campaigns_and_named_hosts_are_attributed(museum: Program) -> None:
    file = museum.folder / "upright.toml"
    file.write_text(
        file.read_text().replace(
            "[origins]", '[origins]\nmail = "letters.example"\n"social network" = ["town.example"]'
        )
    )
    museum.write(
        "access.log",
        hit(
            "/poster.html?utm_source=letter&utm_medium=mail",
            referrer="https://letters.example/1",
            times=4,
        )
        + hit("/poster.html", referrer="https://town.example/post", times=3)
        + hit("/poster.html", referrer="https://www.letters.example/", times=1)
        + hit("/poster.html", referrer="android-app://org.example.reader/", times=2)
        + hit("/poster.html", referrer=f"{NEW}/shop/", times=2)
        + hit("/poster.html", times=1),
    )
    (entry,) = museum.json("triage", "access.log", code=1)["entries"]
    came = {(c["origin"], c["whence"]): c["requests"] for c in entry["came"]}
    assert came == {
        ("campaign", "letter / mail"): 4,
        ("social network", "town.example"): 3,
        ("app", "org.example.reader"): 2,
        ("own page", f"{NEW}/shop/"): 2,
        ("another site", "www.letters.example"): 1,
        ("direct", ""): 1,
    }
    assert f"on  {NEW}/shop/" in museum("triage", code=1).out
    file.write_text(file.read_text().replace("[origins]", '[origins]\nfriends = "x.example"'))
    assert "[origins] friends" in museum("triage", code=3).err


def test_damaged_addresses_are_known_by_the_pages_that_there_are(museum: Program) -> None:
    museum.write(
        "pages.csv",
        f"url,title\n{NEW}/visit/opening-hours/,Opening "
        f"hours\n{NEW}/visit/cafe/,Cafe\n{NEW}/makers/harrow-1801/,Harrow\n",
    )
    museum("stock", "pages.csv")
    museum.write(
        "access.log",
        "".join(map(hit, ["/visit/opening-hours/).", "/visit/opening-ho", "/visit/openning-hours/",
            "/makers/harrow-1802/", "/visit/quite-another/"])),
    )  # fmt: skip
    found = {
        e["legacy_url"].removeprefix(OLD): e["meant"]
        for e in museum.json("triage", "access.log", code=1)["entries"]
    }
    goal = f"{NEW}/visit/opening-hours/"
    assert {path: meant and (meant["page"], meant["damage"]) for path, meant in found.items()} == {
        "/visit/opening-hours/).": (goal, "punctuation stuck to it"),
        "/visit/opening-ho": (goal, "cut off"),
        "/visit/openning-hours/": (goal, "mistyped"),
        "/makers/harrow-1802/": None,  # figures are never mistyped
        "/visit/quite-another/": None,
    }


def test_lists_of_errors_do_where_there_is_no_log(museum: Program) -> None:
    museum.write(
        "not-found.csv",
        "page,views\n/404.html?page=/lost/one.html&from=x,40\n/404.html?page=%2Flost%2Ftwo.html,"
        "7\n/404.html,3\n",
    )
    found = museum.json("triage", "not-found.csv", "--parameter", "page", code=1)["entries"]
    assert [(e["legacy_url"].removeprefix(OLD), e["state"], e["lost"]) for e in found] == [
        ("/lost/one.html", "new", 40),
        ("/lost/two.html", "new", 7),
    ]
    museum.write(
        "errors.csv",
        "URL,Last crawled\nhttp://www.quillhaven.example/gone-astray.html,2026-05-03\n",
    )
    assert "/gone-astray.html" in museum(
        "triage", "errors.csv", "--all", code=1
    ).out or museum.json("triage", code=1)


def test_details_go_after_their_time_and_counts_stay(museum: Program) -> None:
    museum.write("access.log", hit("/a.html", referrer="https://partner.example/", times=3))
    museum("triage", "access.log", code=1)
    file = museum.folder / "upright.toml"
    before = file.read_text()
    assert museum.json("triage", code=1)["origins"][0]["origin"] == "another site"
    file.write_text(
        before.replace("referrers = 400", "referrers = 30").replace("lines = 400", "lines = 30")
    )
    assert museum.json("triage", code=1)["origins"][0]["origin"] == "another site"
    said = museum("triage", "access.log", code=1).err
    assert "Let go, as [retention] says: where requests of 1 address came from" in said
    after = museum.json("triage", code=1)
    assert (after["origins"][0]["origin"], after["entries"][0]["lost"]) == ("not told", 3)
    file.write_text(before.replace("lines = 400", "lines = -1"))
    assert "[retention] lines" in museum("triage", code=3).err


def test_rules_that_nobody_uses_are_retired_and_kept_in_the_journal(museum: Program) -> None:
    museum.write("backlinks.csv", f"url,linking domains\n{OLD}/linked.html,3\n")
    museum("gather", "backlinks.csv")
    rows = [f"/{name}.html,/now/,301" for name in ("used", "linked", "unused", "bots", "young")]
    museum("decide", "--from", museum.pairs(*rows[:4]))
    museum("build", "--for", "nginx", "--out", "rules")
    assert "no log was gathered" in museum("retire", code=2).err
    museum("handover", "--live", "--at", "2026-03-01T00:00")
    museum("decide", "--from", museum.pairs(rows[4]))
    museum("build", "--for", "nginx", "--out", "rules")
    museum("handover", "--live", "--at", "2026-05-20T00:00")
    bot = hit("/bots.html", status=301).replace("ExampleBrowser/1.0", "FernCrawler/1 bot")
    museum.write(
        "access.log",
        bot + "".join(hit("/home/", status=200, day=day) for day in range(1,
            32)) + hit("/used.html", status=301, day=20) + hit("/unused.html",
            status=301).replace("/May/", "/Mar/"),
    )  # fmt: skip
    museum("gather", "access.log")
    assert museum.json("retire", "--unused-for", "60")["kept"] == {
        "the logs do not cover the time": 2, "people asked for it": 1, "others link to it": 1,
        "not live long enough": 1,
    }  # fmt: skip
    found = museum.json("retire", "--unused-for", "31")
    assert [
        (r["legacy_url"].removeprefix(OLD), r["bots"], r["last"]) for r in found["proposed"]
    ] == [("/unused.html", 0, "2026-03-03"), ("/bots.html", 1, "")]
    assert (
        "2 rules retired"
        in museum("retire", "--unused-for", "31", "--accept", "--out", "use.csv").out
    )
    assert len((museum.folder / "use.csv").read_text().splitlines()) == 6
    assert museum.json("build", "--for", "nginx", "--out", "rules")["rules"] == 3
    assert "rules retired" in museum("history").out
    museum("undo")
    assert museum.json("build", "--for", "nginx", "--out", "rules")["rules"] == 5


def test_the_use_of_rules_and_templates_since_they_are_live(museum: Program) -> None:
    museum.write("urls.txt", "".join(f"{OLD}/talks/{n}.html\n" for n in range(5)))
    museum("gather", "urls.txt")
    museum("decide", "/talks/{n}.html", "--to", "/events/{n}/")
    museum("decide", "--from", museum.pairs("/poster.html,/prints/,301", "/unasked.html,/x/,301"))
    museum("build", "--for", "nginx", "--out", "rules")
    museum.write("access.log", hit("/talks/1.html", times=9, day=2))
    museum("gather", "access.log")
    assert "No rule is live yet" in museum("retire", "--use").out
    museum("handover", "--live", "--at", "2026-05-03T00:00")
    museum.write(
        "later.log",
        hit("/talks/3.html", status=301, times=2, day=4)
        + hit("/talks/2.html", status=301, times=5, day=5)
        + hit("/poster.html", status=301, times=3, day=6),
    )
    museum("gather", "later.log")
    used = {r["legacy_url"].removeprefix(OLD): r for r in museum.json("retire")["rules"]}
    assert {path: rule["since"] for path, rule in used.items()} == {
        "/talks/{n}.html": 7, "/poster.html": 3, "/unasked.html": 0,
    }  # fmt: skip
    talks = used["/talks/{n}.html"]
    assert talks["examples"] == [f"{OLD}/talks/2.html", f"{OLD}/talks/3.html"]
    said = museum("retire", "--use").out
    assert said.index("/talks/{n}.html") < said.index("/poster.html")
    assert f"  {OLD}/talks/2.html" in said
    assert "People asked for 2 of 3 rules since they are live." in said


def test_a_server_that_runs_something_else_is_named(museum: Program) -> None:
    assert "nothing was built yet" in museum("handover", "--live", code=2).err
    museum("decide", "/a.html", "--to", "/a/")
    museum("build", "--for", "nginx", "--out", "rules")
    assert museum.json("handover")["builds"][0]["live_from"] == ""
    museum("handover", "rules", "--live", "--at", "2026-05-01T12:00+00:00")
    assert museum.json("handover")["builds"][0]["live_from"] == "2026-05-01T12:00:00Z"
    assert (
        "The server's file answers as the ledger says"
        in museum("handover", "--running", "rules/redirects.conf").out
    )
    assert "behind" not in museum.json("check", code=None)
    museum("decide", "/b.html", "--to", "/b/")
    assert museum.json("check", code=None)["behind"].endswith(
        "answers were changed after it: build again"
    )
    museum("undo")
    assert "behind" not in museum.json("check", code=None)
    museum("undo", "--step", museum.json("history")["steps"][0]["step"])
    found = museum.json("handover", "--running", "rules/redirects.csv", code=1)
    assert found["differing"] == [
        {"old": f"{OLD}/b.html", "running": "", "ledger": f"301 {NEW}/b/"}
    ]
    museum("build", "--for", "nginx", "--out", "rules")
    assert "build 2 is not: hand it over" in museum.json("handover")["behind"]
    for options, why in (
        (("--given", "--live"), "contradict"),
        (("--at", "2026-05-01"), "says when something happened"),
        (("--live", "--at", "soon"), "is no time"),
        (("7", "--live"), "there is no build '7'"),
    ):
        assert why in museum("handover", *options, code=2).err


def test_a_replay_tells_that_another_build_runs(museum: Program) -> None:
    museum("decide", "--from", museum.pairs("/a.html,/a/,301", "/b.html,/b/,301"))
    museum("build", "--for", "nginx", "--out", "rules")
    museum("handover", "--live")

    def older(_: str, target: str) -> tuple[int, str, str]:
        if target == "/a.html":
            return 301, f"{NEW}/a/", ""
        return (404, "", "") if target == "/b.html" else (200, "", "Page")

    with serve(older) as address:
        told: Any = museum.json("replay", "--at", address, code=1)
    assert told["drift"].startswith("1 of 2 addresses are not answered as build 1 does")


def test_the_day_on_which_a_fix_goes_live_is_taken_apart(museum: Program) -> None:
    museum(
        "decide",
        "--from",
        museum.pairs("/early.html,/a/,301", "/late.html,/b/,301", "/w3c.html,/c/,301"),
    )
    museum("build", "--for", "nginx", "--out", "rules")
    museum("handover", "--live", "--at", "2026-05-03T08:30:00+00:00")

    def told(name: str, text: str) -> dict[str, Any]:
        museum.write(name, text)
        found = museum.json("triage", name, code=1)["entries"]
        return {e["legacy_url"].rpartition("/")[2]: e for e in found}

    early = told("utc.log", hit("/early.html", times=2))["early.html"]
    assert (early["state"], early["since"], early["last"]) == ("recurring", 2, "2026-05-03")
    early = told("right.log", hit("/early.html", status=301).replace("10:00:00", "08:30:00"))[
        "early.html"
    ]
    assert early["why"].startswith("some requests are answered rightly")
    ahead = hit("/late.html").replace("10:00:00 +0000", "10:29:59 +0200")
    late = told("ahead.log", ahead + hit("/late.html").replace("10:00:00 +0000", "10:30:00 +0200"))[
        "late.html"
    ]
    assert (late["state"], late["since"], late["failed"]) == ("recurring", 1, 2)
    fields = "#Fields: date time cs-method cs-uri-stem sc-status cs(User-Agent)\n"
    lines = (
        f"2026-05-03 {clock} GET /w3c.html 404 Mozilla/5.0\n" for clock in ("08:29:59", "08:30:01")
    )
    odd = told("iis.log", fields + "".join(lines))["w3c.html"]
    assert (odd["since"], odd["failed"]) == (1, 2)


def test_what_ends_on_a_page_that_is_none_fails_whatever_its_status(museum: Program) -> None:
    museum("decide", "--from", museum.pairs("/a.html,/a/,301", "/b.html,/b/,301"))
    museum("build", "--for", "nginx", "--out", "rules")
    museum("handover", "--live", "--at", "2026-05-01T00:00:00+00:00")
    museum.write(
        "access.log", hit("/a.html", status=301, times=4) + hit("/b.html", status=301, times=2)
    )
    museum("gather", "access.log")
    assert museum.json("triage")["entries"] == []

    def site(_: str, target: str) -> tuple[int, str, str]:
        if target == "/a.html":
            return 301, f"{NEW}/", ""
        return (301, f"{NEW}/b/", "") if target == "/b.html" else (200, "", "Quillhaven")

    with serve(site) as address:
        museum("replay", "--at", address, code=1)
    (entry,) = museum.json("triage", code=1)["entries"]
    assert (entry["legacy_url"], entry["state"], entry["lost"], entry["soft"]) == (
        f"{OLD}/a.html",
        "recurring",
        4,
        True,
    )
    assert entry["why"].startswith("it ends on a page that is none")
    assert (entry["share"], entry["trend"]) == (round(4 / 6, 6), 4)
