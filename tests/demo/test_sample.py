"""The sample: the demo tells its story, and finds exactly what was planted."""

from __future__ import annotations

import csv
import shutil
from collections import Counter
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import pytest

from conftest import NEW, OLD, Program, needs_nginx
from raw_http import ask, nginx_with
from upright_ledger.core.inventory.normalisation import FoldingPolicy
from upright_ledger.core.rules.compiler import compile_rules
from upright_ledger.core.rules.draft import make_plan
from upright_ledger.core.url.address import parse_address
from upright_ledger.core.url.origins import Sites, group_origins
from upright_ledger.demo import servers
from upright_ledger.demo.sample import Sample, make_sample
from upright_ledger.web.local.real_nginx import find_nginx


@dataclass(frozen=True)
class LogCount:
    """The demo's folder after it ran, what it reported, and the sample it told of."""

    folder: Path
    report: dict[str, Any]

    @property
    def ledger(self) -> Program:
        return Program(self.folder / "museum")

    def table(self, name: str) -> list[dict[str, str]]:
        with (self.folder / name).open(encoding="utf-8", newline="") as file:
            return list(csv.DictReader(file))


@pytest.fixture(scope="module")
def told(tmp_path_factory: pytest.TempPathFactory) -> LogCount:
    folder = tmp_path_factory.mktemp("demo")
    report = Program(folder).json("demo", folder / "story")
    return LogCount(folder / "story", report)


def test_the_sample_is_as_large_as_promised(sample: tuple[Path, Sample]) -> None:
    folder, museum = sample
    urls = set((folder / "old-urls.txt").read_text().splitlines())
    assert len(urls) >= 6000
    assert len((folder / "access.log").read_bytes().splitlines()) >= 100_000
    assert len([p for p in museum.museum.new if p.status == 200]) >= 2500
    gone = sum(1 for p in museum.museum.old if p.answer == "gone")
    assert 0.1 < gone / len(museum.museum.old) < 0.2
    assert Counter(f.found_as for f in museum.earlier.faults).keys() >= {
        "chain",
        "loop",
        "self",
        "conflict",
        "slash-mismatch",
        "temporary",
        "unknown-destination",
        "dead-destination",
        "redirecting-destination",
        "home-fallback",
    }


def test_one_seed_gives_one_sample_and_another_another(sample: tuple[Path, Sample]) -> None:
    again = make_sample()
    assert again.museum.old == sample[1].museum.old
    assert again.earlier.rules == sample[1].earlier.rules
    assert make_sample(5).museum.old != again.museum.old


def test_check_and_replay_find_all_that_was_planted_and_nothing_else(told: LogCount) -> None:
    for what in ("check", "replay"):
        result = told.report[what]
        assert (result["missed"], result["invented"]) == ([], []), what
        assert result["found"] == result["planted"] > 100
    assert told.report["server"] == (
        "a real nginx" if find_nginx() else "a stand-in, since no nginx is installed here"
    )


def test_no_old_page_is_answered_wrongly(told: LogCount) -> None:
    assert told.report["wrong_answers"] == []
    assert told.report["right_answers"] > 0.95 * (
        told.report["right_answers"] + told.report["open"]
    )


def test_after_the_build_everything_answered_is_ok(told: LogCount) -> None:
    verdicts = Counter(row["verdict"] for row in told.table("after.csv"))
    assert set(verdicts) <= {"ok", "unanswered"}
    assert verdicts["unanswered"] < 0.05 * verdicts["ok"]


@needs_nginx
def test_the_reference_and_real_nginx_agree_on_every_old_url_and_variant(told: LogCount) -> None:
    told.ledger(
        "rehearse",
        told.folder / "files/old-urls.txt",
        "--out",
        told.folder / "reference.csv",
        code=1,
    )
    rows = told.table("reference.csv")
    variants = {
        parse_address(row["url"]).without_fragment for row in told.table("files/variants.csv")
    }
    asked = {row["url"] for row in rows}
    assert variants <= asked
    assert len(asked) > 6000
    differences = []
    with nginx_with(told.folder / "rules") as place:
        for row in rows:
            address = parse_address(row["url"])
            status, location = ask(place, address.authority, address.target)
            in_place = (
                row["status"] in {"200", "404"} and status == 404
            )  # this nginx has rules and no pages
            if not in_place and (str(status), location) != (row["status"], row["location"]):
                differences.append((row["url"], status, location, row["status"], row["location"]))
    assert differences == []


def test_the_redirect_list_is_the_truth_where_it_answers(told: LogCount) -> None:
    truth = {row["legacy_url"]: row for row in told.table("files/truth.csv")}
    listed = {row["old"]: row for row in told.table("rules/redirects.csv")}
    found = Counter(
        listed[url]["new"] == row["destination"] for url, row in truth.items() if url in listed
    )
    assert found[False] == 0
    assert found[True] > 3000


def test_the_journal_of_the_story_can_be_taken_back_whole(told: LogCount, tmp_path: Path) -> None:
    own = Program(Path(shutil.copytree(told.folder / "museum", tmp_path / "museum")))
    steps = [s for s in own.json("history")["steps"] if s["command"] not in {"open", "undo"}]
    own("undo", len(steps))
    balance = own.json("balance")
    assert (balance["entries"], balance["answered"]) == (0, 0)


def test_the_demo_refuses_a_folder_with_something_in_it(bare: Program) -> None:
    bare.write("mine.txt", "x")
    assert "is not empty" in bare("demo", bare.folder, code=2).err


def test_every_planted_fault_has_a_right_destination(sample: tuple[Path, Sample]) -> None:
    pages = {p.url for p in sample[1].museum.new if p.status == 200}
    assert all(f.right in pages and f.legacy_url.startswith(OLD) for f in sample[1].earlier.faults)


def test_without_nginx_a_stand_in_serves_the_story(
    sample: tuple[Path, Sample], monkeypatch: pytest.MonkeyPatch, tmp_path: Path
) -> None:
    monkeypatch.setattr(servers, "find_nginx", lambda: "")
    host, museum = "www.quillhaven.example", sample[1]
    old, new, status = next(rule for rule in museum.earlier.rules if rule[2] == 302)
    with servers.site_as_found(museum) as (address, what):
        place = ("127.0.0.1", int(address.rpartition(":")[2]))
        assert what == "a stand-in, since no nginx is installed here"
        assert ask(place, host, old) == (status, NEW + new)
        assert ask(place, host, new) == (200, "")
        assert ask(place, host, "/nowhere") == (404, "")
        assert ask(place, "de.quillhaven.example", new) == (404, "")
    policy = FoldingPolicy()
    plan = make_plan(parse_address(f"{OLD}/a"), "quillhaven.example", policy, 301, f"{NEW}/about/")
    rules, _ = compile_rules([plan], [], Sites(group_origins([OLD]), (NEW,)), policy)
    with servers.new_site(tmp_path, rules, museum) as (address, _):
        place = ("127.0.0.1", int(address.rpartition(":")[2]))
        assert ask(place, host, "/a?gclid=1") == (301, f"{NEW}/about/?gclid=1")
        assert ask(place, host, "/about/") == (200, "")
