"""triage --new: growing and rotated logs, each line once; news said once, by file, e-mail and
post.
"""

from __future__ import annotations

import gzip
import os
import shutil
import signal
import subprocess
import tempfile
import time
from collections import Counter
from pathlib import Path

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from conftest import NEW, OLD, Program, needs_nginx, opened
from counting import AGENT, hits_by_path, log_line
from upright_ledger.app.collect.log_follower import gather_new
from upright_ledger.ledger.store import open_ledger
from upright_ledger.web.local.real_nginx import run_nginx

ACTIONS = st.lists(
    st.one_of(
        st.tuples(st.just("write"), st.integers(1, 9)),
        st.tuples(st.just("begin a line"), st.integers(1, 40)),
        st.tuples(
            st.sampled_from(["look", "rotate", "copy and truncate", "pack"]),
            st.just(0),
        ),
    ),
    min_size=4,
    max_size=14,
)


class WrittenLog:
    """A log that a server writes and something else rotates, and that is looked at now and then.

    Every third line is the same as one before it. written: the pages of whole lines, in turn.
    """

    def __init__(self, museum: Program) -> None:
        self.museum, self.log = museum, museum.folder / "access.log"
        self.written: list[str] = []
        self._number, self._begun, self._looked = 0, "", False

    def append(self, text: str) -> None:
        with self.log.open("a", encoding="utf-8") as file:
            file.write(text)

    def _next(self) -> tuple[str, str]:
        """The page and the line that come next."""
        n = self._number + 1
        page = f"/page/{n - n % 3}/"
        return page, log_line(page, client=f"198.51.100.{n // 3 % 250}")

    def write(self, count: int) -> None:
        for _ in range(count):
            page, line = self._next()
            self._number += 1
            self.written.append(page)
            self.append(line.removeprefix(self._begun))
            self._begun = ""

    def begin_a_line(self, letters: int) -> None:
        if not self._begun:
            self._begun = self._next()[1][:letters]
            self.append(self._begun)

    def shifted(self) -> Path:
        """Where the log goes that is rotated next: older ones go out of its way."""
        for n in range(9, 0, -1):
            for ending in ("", ".gz"):
                if (old := self.log.with_name(f"access.log.{n}{ending}")).exists():
                    old.rename(self.log.with_name(f"access.log.{n + 1}{ending}"))
        return self.log.with_name("access.log.1")

    def look(self) -> None:
        if self.log.exists() or self.log.with_name("access.log.1").exists():
            self._looked = True
            self.log.touch()
            gather_new(open_ledger(self.museum.folder), [str(self.log)])

    def rotate(self) -> None:
        if self.log.exists() and not self._begun:
            if not self._looked:
                self.look()  # what was there before the first look is nobody's affair
            self.log.rename(self.shifted())

    def copy_and_truncate(self) -> None:
        if self.log.exists() and not self._begun:
            self.look()
            shutil.copy2(self.log, self.shifted())
            self.log.write_text("")
            # A log that begins as the one before it in the same file cannot be told from it.
            self._number += 2 - self._number % 3

    def pack(self) -> None:
        plain = self.log.with_name("access.log.1")
        if plain.exists():
            plain.with_name("access.log.1.gz").write_bytes(gzip.compress(plain.read_bytes()))
            plain.unlink()
            # Nor can one that comes to lie in its place on the disk.
            self._number += 2 - self._number % 3


@settings(max_examples=12, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(ACTIONS)
def test_no_line_is_counted_twice_or_lost_whatever_becomes_of_the_log(
    tmp_path_factory: pytest.TempPathFactory, actions: list[tuple[str, int]]
) -> None:
    folder = tmp_path_factory.mktemp("rotated")
    museum = opened(folder / "museum", "--old", OLD, "--new", NEW)
    log = WrittenLog(museum)
    for action, count in [*actions, ("write", 1), ("look", 0)]:
        does = getattr(log, action.replace(" ", "_"))
        does(count) if count else does()
    assert hits_by_path(museum) == Counter(log.written)


@pytest.mark.parametrize("packed", [False, True])
@pytest.mark.parametrize(
    "directive", ["", "#Version: 1.0\n#Fields: date time c-ip cs-method cs-uri-stem sc-status\n"]
)
def test_logs_that_are_rotated_several_times_between_two_looks_are_read_whole(
    museum: Program, packed: bool, directive: str
) -> None:
    log = WrittenLog(museum)

    def write(*pages: str) -> None:
        log.append(directive if directive and not log.log.exists() else "")
        w3c = "2026-05-01 10:00:00 198.51.100.7 GET {} 404\n"
        log.append("".join(w3c.format(p) if directive else log_line(p) for p in pages))

    def rotate() -> None:
        log.log.rename(log.shifted())
        if packed:
            subprocess.run(["gzip", "access.log.1"], cwd=museum.folder, check=True)

    write("/before/")
    rotate()  # nobody asked for what was before the first look
    write("/a/")
    museum("triage", "--new", log.log, code=1)
    write("/a/late/")
    for pages in (["/b/"], ["/c/", "/c/2/"], ["/d/"]):
        rotate()
        write(*pages)
    told = museum("triage", "--new", log.log, code=1)
    assert told.err == ""
    assert hits_by_path(museum) == {f"/{n}/": 1 for n in ("a", "a/late", "b", "c", "c/2", "d")}
    write("/e/")
    for number in range(5):
        rotate()
        write(f"/f/{number}/")
    for path in museum.folder.glob("access.log.[3-9]*"):
        path.unlink()  # with it the one that was read last
    told = museum("triage", "--new", log.log, code=1)
    assert told.err.count("no longer beside it") == 1
    assert {"/f/2/", "/f/3/", "/f/4/"} <= set(hits_by_path(museum))
    assert set(hits_by_path(museum).values()) == {1}
    assert museum("triage", "--new", log.log).err == ""


def test_a_line_that_is_still_being_written_waits(museum: Program) -> None:
    log = museum.folder / "access.log"
    log.write_text(log_line("/a/") + log_line("/b/")[:50])
    assert museum.json("triage", "--new", "access.log", code=1)["read"][0]["lines"] == 1
    assert museum("triage", "--new", "access.log").out == ""
    with log.open("a") as file:
        file.write(log_line("/b/")[50:] + log_line("/a/"))
    again = museum.json("triage", "--new", "access.log", code=1)
    assert again["read"][0]["lines"] == 2
    assert [(n["kind"], n["url"]) for n in again["news"]] == [("fails newly", f"{OLD}/b/")]
    assert hits_by_path(museum) == {"/a/": 2, "/b/": 1}
    assert "no such file" in museum("triage", "--new", "none.log", code=3).err
    assert "needs the logs" in museum("triage", "--new", code=2).err


def test_every_part_of_a_log_knows_its_fields(museum: Program) -> None:
    log = museum.folder / "u_ex2605.log"
    row = "2026-05-03 10:00:0{} GET /page-{}.html 404 Mozilla/5.0+(ExampleBrowser)\n"
    log.write_text(
        "#Version: 1.0\n#Fields: date time cs-method cs-uri-stem sc-status cs(User-Agent)\n"
        + row.format(1, 1)
    )
    museum("triage", "--new", log, code=1)
    with log.open("a") as file:
        file.write(row.format(2, 2))
    found = museum.json("triage", "--new", log, code=1)
    assert [n["url"].removeprefix(OLD) for n in found["news"]] == ["/page-2.html"]
    assert hits_by_path(museum) == {"/page-1.html": 1, "/page-2.html": 1}


@needs_nginx
def test_a_log_that_nginx_writes_is_followed_through_its_rotation(museum: Program) -> None:
    folders: list[Path] = []
    with tempfile.TemporaryDirectory() as held:
        Path(held).chmod(0o777)  # nginx runs as somebody else
        log = Path(held) / "access.log"

        def http(folder: Path, port: int) -> str:
            folders.append(folder)
            return (
                f"server {{ listen 127.0.0.1:{port}; access_log {log} combined; location / {{ "
                f"return 404; }} }}"
            )

        def ask(name: str) -> None:
            subprocess.run(
                ["curl", "-s", "-A", AGENT, f"{address}/{name}.html"],
                check=True,
                capture_output=True,
            )

        with run_nginx(http) as address:
            for n in range(3):
                ask(f"old-{n}")
            assert len(museum.json("triage", "--new", log, code=1)["news"]) == 3
            log.rename(log.with_name("access.log.1"))
            ask("late")
            os.kill(int((folders[0] / "nginx.pid").read_text()), signal.SIGUSR1)
            deadline = time.monotonic() + 10
            while not log.exists() and time.monotonic() < deadline:
                time.sleep(0.05)
            ask("new")
            found = museum.json("triage", "--new", log, code=1)
    assert {n["url"].rpartition("/")[2] for n in found["news"]} == {"late.html", "new.html"}
    assert set(hits_by_path(museum).values()) == {1}
