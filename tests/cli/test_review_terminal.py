"""Review in a terminal, driven through a pseudo-terminal."""

from __future__ import annotations

import fcntl
import os
import pty
import re
import select
import struct
import subprocess
import termios
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path

import pytest

from conftest import NEW, OLD, PROGRAM, Program

PAGES = (
    "brass-dial",
    "oak-bell",
    "slate-gong",
    "gilt-case",
    "elm-hand",
    "ash-pendulum",
    "yew-train",
)
_STEERING = re.compile(r"\x1b\[[0-9;?]*[A-Za-z]|\r")
PATIENCE = 60


class Terminal:
    """A program in a terminal of 24 lines of 80 columns."""

    def __init__(self, program: Program, *arguments: str) -> None:
        self.control, inside = pty.openpty()
        fcntl.ioctl(inside, termios.TIOCSWINSZ, struct.pack("HHHH", 24, 80, 0, 0))
        environment = {k: v for k, v in os.environ.items() if k not in {"COLUMNS", "LINES"}} | {
            "TERM": "xterm",
            "UPRIGHT_AUTHOR": "tester",
        }
        self.process = subprocess.Popen(
            [PROGRAM, *arguments],
            cwd=program.folder,
            stdin=inside,
            stdout=inside,
            stderr=inside,
            env=environment,
            start_new_session=True,
            # so that Ctrl-C reaches it
            preexec_fn=lambda: fcntl.ioctl(0, termios.TIOCSCTTY, 0),  # noqa: PLW1509
        )
        os.close(inside)
        self.seen = ""

    def until(self, text: str) -> str:
        """Wait until the screen shows a text; returns all that came since the last time."""
        start = time.monotonic()
        while text not in self.seen:
            assert time.monotonic() - start < PATIENCE, f"{text!r} never came: {self.seen}"
            ready, _, _ = select.select([self.control], [], [], 1)
            if ready:
                try:
                    self.seen += _STEERING.sub("", os.read(self.control, 65536).decode())
                except OSError:  # the other side is closed
                    assert text in self.seen, f"{text!r} never came: {self.seen}"
        came, self.seen = self.seen, ""
        return came

    def press(self, keys: str) -> None:
        os.write(self.control, keys.encode())


@contextmanager
def terminal(program: Program, *arguments: str) -> Iterator[Terminal]:
    it = Terminal(program, *arguments)
    try:
        yield it
    finally:
        it.process.kill()
        it.process.wait()
        os.close(it.control)


END = "A pick is a"


@pytest.fixture
def waiting(museum: Program) -> Program:
    """A ledger with proposals, none accepted; every page of one family but the lost ones."""
    rows = "".join(f"/stories/{name}.html,{1000 - n}\n" for n, name in enumerate(PAGES))
    museum.write("old.csv", "url,clicks\n" + rows + "/lost.html,3\n")
    museum.write(
        "stock.csv",
        "url,title\n"
        + "".join(f"{NEW}/journal/{n}/,The {n.replace('-', ' ')}\n" for n in PAGES)
        + f"{NEW}/journal/,Journal\n",
    )
    museum("gather", "old.csv")
    museum("stock", "stock.csv")
    museum("match", "--accept-above", "1.01")
    return museum


def answers(program: Program) -> dict[str, tuple[str, str]]:
    entries = program.json("entries", "--limit", 0)["entries"]
    return {
        e["legacy_url"].removeprefix(OLD): (e["answer"], e["destination"].removeprefix(NEW))
        for e in entries
        if e["answer"] != "open"
    }


def test_one_key_decides_and_leaving_loses_nothing(waiting: Program) -> None:
    with terminal(waiting, "review") as screen:
        first = screen.until(END)
        assert "/stories/brass-dial.html" in first
        assert "clicks 1,000" in first
        assert "/journal/brass-dial/" in first
        assert all(len(line) <= 80 for line in first.splitlines() if "http" not in line)
        for key, shown in (
            ("1", "/stories/oak-bell.html"),
            ("g", "/stories/slate-gong.html"),
            ("p", "temporary (302)"),
            ("1", "/stories/gilt-case.html"),
        ):
            screen.press(key)
            assert shown in screen.until(END + (" temporary" if key == "p" else " move"))
        screen.press("n")
        assert "/stories/elm-hand.html" in screen.until(END)
        screen.press("x")
        assert "means nothing here" in screen.until(END)
        screen.process.kill()  # the window is closed
    assert answers(waiting) == {
        "/stories/brass-dial.html": ("move", "/journal/brass-dial/"),
        "/stories/oak-bell.html": ("gone", ""),
        "/stories/slate-gong.html": ("temporary", "/journal/slate-gong/"),
    }
    with terminal(waiting, "review") as screen:
        assert "/stories/elm-hand.html" in screen.until(END)  # what was skipped comes last
        screen.press("u")
        assert "nothing to take back" in screen.until(END)
        screen.press("k")
        screen.until(END)
        screen.press("u")
        assert "1 entry is open again" in screen.until(END)
        screen.press("q")
        assert "0 entries were answered" in screen.until("upright check")
        assert screen.process.wait(timeout=PATIENCE) == 0
    assert len(answers(waiting)) == 3
    assert [s["command"] for s in waiting.json("history")["steps"][:2]] == ["undo", "review"]


def test_a_page_is_searched_or_typed(waiting: Program) -> None:
    with terminal(waiting, "review") as screen:
        screen.until(END)
        screen.press("/")
        screen.until("words of the page")
        screen.press("gilt ca\r")
        assert "/journal/gilt-case/" in screen.until("a number picks")
        screen.press("1")
        assert "/stories/oak-bell.html" in screen.until(END)
        screen.press("t")
        screen.until("address on the new site")
        screen.press("https://elsewhere.example/\r")
        assert "not posted: elsewhere.example is no declared new origin" in screen.until(END)
        screen.press("t")
        screen.until("address on the new site")
        screen.press("/lost/\r")
        assert f"{NEW}/lost/ is no page in stock." in screen.until("any other key goes back")
        screen.press("n")
        assert "/stories/oak-bell.html" in screen.until(END)
        screen.press("t")
        screen.until("address on the new site")
        screen.press("/lost/\r")
        screen.until("any other key goes back")
        screen.press("y")
        screen.until(END)
        screen.press("t")
        screen.until("address on the new site")
        screen.press("/journal/slate-gon\r")
        assert f"  1  {NEW}/journal/slate-gong/" in screen.until("any other key goes back")
        screen.press("1")
        screen.until(END)
        screen.press("\x03")
        screen.until("upright check")
    assert answers(waiting) == {
        "/stories/brass-dial.html": ("move", "/journal/gilt-case/"),
        "/stories/oak-bell.html": ("move", "/lost/"),
        "/stories/slate-gong.html": ("move", "/journal/slate-gong/"),
    }


@pytest.mark.parametrize(
    ("keys", "expected"),
    [
        ("f1", lambda name: "/journal/brass-dial/"),  # many into one
        ("fa", lambda name: f"/journal/{name}/"),  # each to its own
    ],
    ids=["one page for all", "each its own"],
)
def test_a_whole_family_is_answered_in_one_step(
    waiting: Program, keys: str, expected: Callable[[str], str]
) -> None:
    with terminal(waiting, "review") as screen:
        assert "/stories/{slug}.html, 7 open" in screen.until(END)
        screen.press(keys[0])
        assert "all 7 open entries" in screen.until(END)
        screen.press(keys[1])
        assert "/lost.html" in screen.until(END)
        screen.press("s")
        assert "belongs to no section" in screen.until(END)
        screen.press("w")
        screen.until("upright check")  # nothing is open any more
    assert answers(waiting) == {f"/stories/{n}.html": ("move", expected(n)) for n in PAGES} | {
        "/lost.html": ("wanted", "")
    }
    waiting("undo")
    waiting("undo")
    assert answers(waiting) == {}


def test_what_somebody_else_answered_meanwhile_stays(waiting: Program) -> None:
    with terminal(waiting, "review") as screen:
        screen.until(END)
        waiting("decide", "/stories/brass-dial.html", "--gone")
        screen.press("1")
        assert "somebody else answered meanwhile" in screen.until(END)
    assert answers(waiting) == {"/stories/brass-dial.html": ("gone", "")}


def test_without_a_terminal_the_sheet_is_named(waiting: Program) -> None:
    assert "--out sheet.xlsx" in waiting("review", code=2).err


def test_what_fails_is_reviewed_at_once(waiting: Program) -> None:
    agent = "Mozilla/5.0 (X11; Linux x86_64) ExampleBrowser/1.0"
    hit = (
        '198.51.100.7 - - [03/May/2026:10:00:00 +0000] "GET /stories/{}.html HTTP/1.1" 404 5 "-" '
        '"{}"\n'
    )
    waiting.write("access.log", "".join(hit.format(name, agent) for name in PAGES[3:5]))
    with terminal(waiting, "triage", "access.log", "--review") as screen:
        assert "nobody has answered it" in screen.until("triage --review")
        assert "/stories/gilt-case.html" in screen.until(END)
        screen.press("1")
        assert "/stories/elm-hand.html" in screen.until(END)
        screen.press("1")
        assert "2 entries were answered" in screen.until("were answered")
    assert set(answers(waiting)) == {"/stories/gilt-case.html", "/stories/elm-hand.html"}


def test_weak_pages_are_gone_through_one_by_one(tmp_path: Path) -> None:
    site = "https://www.quillhaven.example"
    Program(tmp_path)("open", "running", "--old", site, "--new", site)
    running = Program(tmp_path / "running")
    titles = {
        "/guide/winding-a-tower-clock/": ("Winding a tower clock", 90),
        "/tips/tower-clock-winding/": ("Tower clock winding tips", 0),
        "/news/autumn-market/": ("Autumn market", 0),
        "/news/old-notice/": ("An old notice", 0),
        "/kept/": ("Kept by hand", 0),
    }
    rows = [f"{site}{path},{title},{clicks}" for path, (title, clicks) in titles.items()]
    running.write("clicks.csv", "url,title,clicks\n" + "\n".join(rows) + "\n")
    assert "entries --weak --csv" in running("review", "--weak", "--out", "x.csv", code=2).err
    running("gather", "clicks.csv", "--period", "2026-01-01..2026-06-30")
    running("decide", "/kept/", "--keep")
    with terminal(running, "review", "--weak") as screen:
        first = screen.until(END)
        assert "3 weak and left" in first
        assert "no clicks, visits, hits or links" in first
        screen.press("g")
        assert "2 weak and left" in screen.until(END)
        screen.press("u")
        assert "3 weak and left" in screen.until(END)
        screen.press("g")
        screen.until(END)
        screen.press("k")
        last = screen.until(END)
        assert "1 weak and left, 2 answered" in last
        assert "the strongest page of its subject, value" in last
        screen.press("1")
        screen.until("3 entries were answered; 0 of those chosen are left.")
        assert screen.process.wait(PATIENCE) == 0
    found = {e["legacy_url"].removeprefix(site): e for e in running.json("entries")["entries"]}
    told = {p: (e["answer"], e["destination"].removeprefix(site)) for p, e in found.items()}
    assert told == {
        "/guide/winding-a-tower-clock/": ("open", ""),
        "/tips/tower-clock-winding/": ("move", "/guide/winding-a-tower-clock/"),
        "/news/autumn-market/": ("gone", ""),
        "/news/old-notice/": ("keep", ""),
        "/kept/": ("keep", ""),
    }
    with terminal(running, "review", "--weak") as screen:
        screen.until("0 entries were answered; 0 of those chosen are left.")
