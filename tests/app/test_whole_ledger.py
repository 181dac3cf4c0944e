"""A ledger in use, from the first list to the live rules, in any order of its commands: the
installed program against a model of plain dictionaries, after every step.
"""

from __future__ import annotations

import csv
import os
import sqlite3
import subprocess
import tempfile
from collections import Counter
from pathlib import Path
from typing import Any

import pytest
from hypothesis import settings
from hypothesis import strategies as st
from hypothesis.stateful import (
    RuleBasedStateMachine,
    initialize,
    invariant,
    precondition,
    rule,
    run_state_machine_as_test,
)

from clusters import BINARIES, PORT, cluster
from conftest import OLD, Program, opened
from ledger_model import Books, LedgerModel, Told
from properties import in_brief
from slow_lines import lines_stand

NEW = "https://new.example"
Rows = dict[str, list[str]]
TABLES = ("answers", "claims", "proposals", "templates")
"""What sources told, and policies, are not taken out again: they count no longer."""
SITES = ("--old", OLD, "--old", "http://quillhaven.example", "--new", NEW)
ADDRESSES = st.sampled_from(
    ["/a", "/A", "/b", "/B/x", "/b/x", "/p1.html", "/p2.html", "/p3.html", "/p4.html", "/t/x",
        "/t/y", "/c.php?item=1", "/c.php?item=2", "/c.php?view=z&item=1", "/caf%C3%A9"]
)  # fmt: skip
FRESH = st.sampled_from(["/a", "/b", "/p1.html", "/t/x", "/z", "/late/one", "/caf%C3%A9"])
GOALS = st.sampled_from(["/n", "/m/", "/caf%C3%A9/"])
OPTIONS = {"gone": "--gone", "keep": "--keep", "wanted": "--wanted", "ignore": "--ignore"}
STATUSES = {"move": "301", "gone": "410", "keep": "keep", "wanted": "wanted", "ignore": "ignore"}
TOLD = st.one_of(
    st.builds(Told, st.just("move"), GOALS), st.sampled_from(sorted(OPTIONS)).map(Told)
)


class WholeLedger(RuleBasedStateMachine):
    """Commands in any order."""

    @initialize()
    def open(self) -> None:
        self.held = tempfile.TemporaryDirectory()
        self.program: Program = self._opened(Path(self.held.name) / "own", *SITES)
        self.model = LedgerModel()
        self.files = 0
        self.newest = self._newest()
        self.rows = self._rows()
        self.rows_before: dict[int, Rows] = {}

    def _opened(self, folder: Path, *options: str) -> Program:
        return opened(folder, *options)

    def teardown(self) -> None:
        if hasattr(self, "held"):
            self.held.cleanup()

    def _newest(self) -> int:
        return int(self.program.json("history", "--last", "1")["steps"][0]["step"])

    def _rows(self) -> Rows:
        """What the tables hold that undo gives back, but for who posted it."""
        with sqlite3.connect(f"file:{self.program.folder / 'ledger.db'}?mode=ro", uri=True) as held:
            return {
                table: sorted(map(repr, held.execute(f"SELECT * FROM {table}"))) for table in TABLES
            }

    def _database(self) -> str:
        return f"sqlite:///{self.program.folder / 'ledger.db'}"

    def _posted(self, step: int, before: Books) -> None:
        self.model.posted(step, before)
        self.rows_before[step] = self.rows

    def _run(self, *words: str, code: int | None = 0) -> Any:
        return self.program(*words, "--json", code=code).json

    def _did(self, before: Books, *words: str, code: int | None = 0) -> Any:
        """Run a command that may write one step, and no more."""
        told = self._run(*words, code=code)
        newest = self._newest()
        assert newest in {self.newest, self.newest + 1}, "one command, one step"
        if newest > self.newest:
            self._posted(newest, before)
        else:
            assert self.model.now == before, "what changed something is a step"
        self.newest = newest
        return told

    def _file(self, ending: str, text: str) -> str:
        self.files += 1
        name = f"{self.files}.{ending}"
        self.program.write(name, text)
        return name

    @rule(addresses=st.lists(ADDRESSES, min_size=1, max_size=5))
    def gather_a_list(self, addresses: list[str]) -> None:
        before = self.model.before()
        name = self._file("txt", f"# {self.files}\n" + "".join(f"{OLD}{a}\n" for a in addresses))
        self.model.now.sources[name] = Counter(addresses)
        for address in addresses:
            self.model.see(address)
        (source,) = self._did(before, "gather", name)["sources"]
        assert (source["accepted"], source["rejected"]) == (len(addresses), 0)

    @rule(addresses=st.lists(ADDRESSES, min_size=1, max_size=6))
    def gather_a_log(self, addresses: list[str]) -> None:
        before = self.model.before()
        lines = [
            f"192.0.2.1 - - [03/May/2026:{self.files % 24:02}:{n:02}:00 +0000] "
            f'"GET {a} HTTP/1.1" 404 {self.files} "-" "Mozilla/5.0"\n'
            for n, a in enumerate(addresses)
        ]
        name = self._file("log", "".join(lines))
        self.model.now.hits[name] = Counter(addresses)
        for address in addresses:
            self.model.see(address)
        (source,) = self._did(before, "gather", name)["sources"]
        assert source["accepted"] + source["set_aside"] + source["rejected"] == len(lines)

    @precondition(lambda self: self.files)
    @rule()
    def gather_the_same_again(self) -> None:
        name = f"{self.files}.txt"
        if name in self.model.now.sources:
            before = self.model.before()
            (source,) = self._did(before, "gather", name)["sources"]
            assert source["known"]

    @rule(pages=st.sets(st.sampled_from(["/b", "/p1.html", "/t/x", "/z"]), min_size=1))
    def stock(self, pages: set[str]) -> None:
        before = self.model.before()
        rows = "".join(f"{NEW}{p},200\n" for p in sorted(pages))
        self.model.now.pages |= pages
        self._did(before, "stock", self._file("csv", f"url,status\n{rows}"))

    @rule(exact=st.booleans())
    def fold_case(self, exact: bool) -> None:
        self._fold(("--case", "exact" if exact else "fold"), exact=exact)

    @rule(name=st.sampled_from(["item", "view", ""]))
    def fold_parameters(self, name: str) -> None:
        self._fold(("--significant", f"/c.php={name}"), significant=name)

    def _fold(self, words: tuple[str, ...], **changes: object) -> None:
        before = self.model.before()
        claimed = self.model.fold(**changes)
        told = self.program("fold", *words, "--json", code=None)
        newest = self._newest()
        assert newest - self.newest in {0, 1}
        if newest > self.newest:
            self._posted(newest, before)
        elif told.code == 0:
            assert self.model.now == before
        else:
            self.model.now = before
        self.newest = newest
        shown = self._answers()
        for key, claims in claimed.items():
            assert shown[key] in claims, "one of the answers that came together stands"
            self.model.now.answers[key] = shown[key]
            self.model.now.contested.add(key)

    @rule(address=FRESH, told=TOLD)
    def decide(self, address: str, told: Told) -> None:
        before = self.model.before()
        self.model.decide(address, told)
        words = ("--to", told.goal) if told.goal else (OPTIONS[told.kind],)
        self._did(before, "decide", address, *words, "--as-given")

    @rule(rows=st.dictionaries(FRESH, TOLD, min_size=1, max_size=4))
    def decide_by_a_sheet(self, rows: dict[str, Told]) -> None:
        before = self.model.before()
        text = "".join(f"{a},{t.goal},{STATUSES[t.kind]}\n" for a, t in rows.items())
        for address, told in rows.items():
            self.model.decide(address, told)
        told = self._did(
            before, "decide", "--as-given", "--from", self._file("csv", f"old,new,status\n{text}")
        )
        assert told["posted"] + told["unchanged"] == len(rows)

    @rule(told=TOLD)
    def decide_a_family(self, told: Told) -> None:
        before = self.model.before()
        members = self.model.now.family()
        for key in members:
            self.model.decide(key, told)
        words = ("--to", told.goal) if told.goal else (OPTIONS[told.kind],)
        if members:
            self._did(before, "decide", "--family", "/p{number}.html", *words, "--as-given")
        else:
            self.program("decide", "--family", "/p{number}.html", *words, code=2)

    @rule(gone=st.booleans())
    def decide_by_a_template(self, gone: bool) -> None:
        before = self.model.before()
        self.model.now.templates["/t/{x}"] = Told("gone") if gone else Told("move", "/n/{x}")
        words = ("--gone",) if gone else ("--to", "/n/{x}")
        self._did(before, "decide", "/t/{x}", *words, "--as-given")

    @rule()
    def match(self) -> None:
        before = self.model.before()
        self.model.match()
        told = self.program("match", "--accept-above", "1.01", "--json", code=None)
        newest = self._newest()
        assert newest - self.newest in {0, 1}
        if newest > self.newest:
            self._posted(newest, before)
        else:
            assert self.model.now == before, told.err
        self.newest = newest

    @precondition(lambda self: self.model.steps)
    @rule()
    def take_the_last_step_back(self) -> None:
        step = self.model.take_back()
        self._run("undo")
        self.newest += 1
        assert self._rows() == self.rows_before[step], "undo gives back all tables"

    @precondition(lambda self: self.model.undone is not None)
    @rule()
    def take_the_undo_back(self) -> None:
        step = self.model.take_back_the_undo()
        before = self.rows_before.pop(step)
        assert self.rows == before
        self._run("undo", "--step", str(self.newest))
        self.newest += 1
        self.rows_before[step] = before

    @rule(live=st.booleans())
    def build(self, live: bool) -> None:
        books = self.model.now
        code = 1 if books.contested else 0
        told = self.program(
            "build", "--for", "nginx", "--out", "rules", "--force", "--json", code=None
        )
        asked = [t for t in (*books.answers.values(), *books.templates.values())
            if t.kind in {"move", "gone"}]  # fmt: skip
        if not asked:
            return
        assert told.code == code, told.err
        with (self.program.folder / "rules/redirects.csv").open(newline="") as file:
            rows = list(csv.DictReader(file))
        written = {
            books.key(r["old"].removeprefix(OLD)): Told(
                "gone" if r["status"] == "410" else "move", r["new"].removeprefix(NEW)
            )
            for r in rows
            if r["kind"] == "exact"
        }
        due = {k: t for k, t in books.answers.items() if t.kind in {"move", "gone"}}
        assert written == {k: t for k, t in due.items() if k not in books.contested}
        made = {r["old"].removeprefix(OLD): r["new"].removeprefix(NEW) for r in rows
            if r["kind"] == "template"}  # fmt: skip
        assert made == {s: t.goal for s, t in books.templates.items()}
        if live:
            self._run("handover", "rules", "--live")
        newest = self._newest()
        for step in range(self.newest + 1, newest + 1):
            self._posted(step, self.model.before())
        self.newest = newest

    def _answers(self) -> dict[str, Told]:
        shown = self._run("entries", "--limit", "0")["entries"]
        return {
            self.model.now.key(e["legacy_url"].removeprefix(OLD)): Told(
                e["answer"], e["destination"].removeprefix(NEW)
            )
            for e in shown
        }

    @invariant()
    def what_is_shown_is_what_stands(self) -> None:
        if not hasattr(self, "program"):
            return
        self.rows = self._rows()
        books = self.model.now
        due = {key: books.answer(key) for key in books.named()}
        assert self._answers() == due
        shown = self._run("entries", "--limit", "0")["entries"]
        assert len(shown) == len(due)
        hits = {books.key(e["legacy_url"].removeprefix(OLD)): e["hits"] for e in shown}
        assert {k: n for k, n in hits.items() if n} == books.requests()
        balance = self._run("balance")
        lines = {line["answer"]: line["entries"] for line in balance["lines"] if line["entries"]}
        assert lines == Counter(told.kind for told in due.values())
        assert balance["entries"] == len(due) == balance["answered"] + balance["open"]
        assert balance["hits"] == sum(books.requests().values())
        lines_stand(self._database())


TestWholeLedger = WholeLedger.TestCase
TestWholeLedger.settings = settings(
    in_brief, max_examples=int(os.environ.get("UPRIGHT_SEQUENCES", "4")), stateful_step_count=12
)


class LedgerOfATeam(WholeLedger):
    """The same on PostgreSQL: each ledger in a database of its own."""

    server = ""
    ledgers = 0

    def _rows(self) -> Rows:
        return {}

    def _database(self) -> str:
        return self.database

    def _opened(self, folder: Path, *options: str) -> Program:
        LedgerOfATeam.ledgers += 1
        name = f"whole_{self.ledgers}"
        assert BINARIES is not None
        words = ["-h", "127.0.0.1", "-p", str(PORT), "-U", "upright", name]
        subprocess.run([BINARIES / "createdb", *words], check=True)
        self.database = self.server + name
        place = f"{self.database}?schema=public"
        Program(folder.parent)("open", folder.name, *options, "--database", place)
        return Program(folder)


@pytest.mark.skipif(
    BINARIES is None, reason="PostgreSQL is not installed: apt-get install postgresql"
)
def test_a_ledger_of_a_team_is_the_same_ledger() -> None:
    with cluster() as server:
        LedgerOfATeam.server = server
        run_state_machine_as_test(
            LedgerOfATeam,
            settings=settings(in_brief, max_examples=1, stateful_step_count=8),
        )
