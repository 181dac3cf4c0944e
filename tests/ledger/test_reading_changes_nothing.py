"""Commands that only look leave the ledger as it was, in all its tables."""

from __future__ import annotations

import sqlite3

import pytest

from conftest import NEW, OLD, Program

READING = [
    (),
    ("balance",),
    ("entries", "--limit", "0"),
    ("entries", f"{OLD}/a.html"),
    ("entries", "--families"),
    ("entries", "--aside", "all"),
    ("fold",),
    ("check", "--all"),
    ("runs",),
    ("runs", "1", "--all"),
    ("reconcile", "1", "2"),
    ("handover",),
    ("triage", "--all"),
    ("retire",),
    ("history",),
    ("review", "--out", "sheet.csv"),
]


def tables(program: Program) -> list[str]:
    with sqlite3.connect(program.folder / "ledger.db") as database:
        return list(database.iterdump())


@pytest.fixture
def used(museum: Program) -> Program:
    """A ledger with some of everything, whose details are past their time."""
    line = (
        '192.0.2.1 - - [03/May/2024:10:00:{:02} +0000] "GET {} HTTP/1.1" 404 1 "{}" "Mozilla/5.0"'
    )
    pages = ("/a.html", "/b.html", "/wp-login.php", "/style.css")
    log = "\n".join(line.format(n, page, "http://b.example/") for n, page in enumerate(pages))
    museum("gather", museum.write("a.log", log + "\n"))
    museum("stock", museum.write("stock.csv", f"url,title,status\n{NEW}/a/,A,200\n"))
    museum("match")
    museum("decide", "/a.html", "--to", "/a/")
    museum("build", "--for", "nginx", "--out", "rules")
    museum("handover", "--live", "--at", "2024-05-01T00:00")
    for _ in range(2):
        museum("rehearse", code=None)
    settings = museum.folder / "upright.toml"
    text = settings.read_text().replace("referrers = 400", "referrers = 1")
    settings.write_text(text.replace("lines = 400", "lines = 1"))
    return museum


def test_commands_that_look_change_nothing(used: Program) -> None:
    for command in READING:
        before = tables(used)
        used(*command, code=None)
        assert tables(used) == before, command
