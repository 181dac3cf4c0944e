"""What the machine does to a command: readers that go away, signals, no room, no memory, ledgers
that are damaged or not to be written.
"""

from __future__ import annotations

import json
import os
import re
import shutil
import signal
import sqlite3
import subprocess
import tempfile
import time
from collections.abc import Iterator
from pathlib import Path

import pytest

from conftest import NEW, OLD, PROGRAM, Program, opened
from upright_ledger.web.local.stand_in import Served, serve_whole

READING = (
    ("entries",), ("history",), ("balance",), ("check",), ("fold",), ("runs",),
    ("entries", "--json"), ("history", "--json"), (), ("--help",), ("entries", "--help"),
)  # fmt: skip


@pytest.fixture(scope="module")
def filled_once(tmp_path_factory: pytest.TempPathFactory) -> Program:
    museum = opened(tmp_path_factory.mktemp("filled") / "museum", "--old", OLD, "--new", NEW)
    museum.write("pages.txt", "".join(f"{OLD}/page/{n}\n" for n in range(3000)))
    museum("gather", "pages.txt")
    museum("decide", "/page/1", "--to", f"{NEW}/x")
    return museum


@pytest.fixture
def filled(filled_once: Program, tmp_path: Path) -> Program:
    """A ledger of some thousand entries."""
    return Program(Path(shutil.copytree(filled_once.folder, tmp_path / "museum")))


def run(program: Program, text: str) -> subprocess.CompletedProcess[str]:
    """A line of a shell; $UPRIGHT stands for the program."""
    environment = {**os.environ, "UPRIGHT": str(PROGRAM), "NO_COLOR": "1"}
    words = ["bash", "-c", f"set -o pipefail; {text}"]
    done = subprocess.run(
        words, check=False, cwd=program.folder, env=environment, capture_output=True, text=True
    )
    assert "Traceback" not in done.stderr, done.stderr
    assert "Exception ignored" not in done.stderr, done.stderr
    return done


@pytest.mark.parametrize("command", READING, ids=" ".join)
def test_a_reader_that_goes_away_and_a_full_disk_are_no_findings(
    filled: Program, command: tuple[str, ...]
) -> None:
    words = " ".join(command)
    told = run(filled, f"$UPRIGHT {words} | head -1 >/dev/null")
    assert (told.returncode, told.stderr) == (0, "")
    if Path("/dev/full").is_char_device():
        told = run(filled, f"$UPRIGHT {words} >/dev/full")
        assert (told.returncode, told.stderr.count("No space left")) == (3, 1)


@pytest.mark.parametrize("words", ["balance", "entries --json", "--help"])
def test_closed_streams_are_no_findings(filled: Program, words: str) -> None:
    assert run(filled, f"$UPRIGHT {words} <&- >/dev/null").returncode == 0
    assert run(filled, f"$UPRIGHT {words} >&-").returncode == 0


def test_nothing_on_standard_input_is_one_sentence(filled: Program) -> None:
    assert run(filled, "$UPRIGHT gather - <&-").returncode == 3
    assert run(filled, "$UPRIGHT review <&-").returncode == 2


@pytest.mark.parametrize(
    ("number", "code"), [(signal.SIGTERM, 143), (signal.SIGHUP, 129), (signal.SIGINT, 130)]
)
def test_what_is_asked_to_end_says_so_and_leaves_nothing_behind(
    filled: Program, number: int, code: int, tmp_path: Path
) -> None:
    held = tmp_path / "temporary"
    held.mkdir()
    environment = {**os.environ, "TMPDIR": str(held)}
    pipe = subprocess.PIPE
    process = subprocess.Popen(
        [PROGRAM, "gather", "-"],
        cwd=filled.folder,
        env=environment,
        stdin=pipe,
        stdout=pipe,
        stderr=pipe,
        text=True,
    )
    assert process.stdin is not None
    process.stdin.write("".join(f"{OLD}/many/{n}\n" for n in range(60_000)))  # and more to come
    process.stdin.flush()
    until = time.monotonic() + 60
    while not any(held.rglob("*")) and time.monotonic() < until:
        time.sleep(0.02)
    process.send_signal(number)
    _, err = process.communicate(timeout=60)
    assert (process.returncode, "stopped" in err) == (code, True), err
    assert "Traceback" not in err
    assert not list(held.iterdir())
    assert filled.json("balance")["entries"] == 3000


def test_too_little_memory_is_one_sentence(filled: Program) -> None:
    filled.write("more.txt", f"{OLD}/more\n")
    for megabytes in (150, 300, 800):
        for command in ("balance", "gather more.txt"):
            done = run(filled, f"ulimit -v {megabytes * 1024}; timeout 100 $UPRIGHT {command}")
            assert done.returncode in {0, 3}, (megabytes, command, done)
            assert not done.returncode or done.stderr.startswith("upright: "), (
                megabytes,
                command,
                done.stderr,
            )


@pytest.mark.parametrize("name", ["a?b", "a#b", "a%20b", "a b", "ä"])
def test_a_folder_may_be_called_whatever_folders_may(bare: Program, name: str) -> None:
    bare("open", name, "--old", OLD, "--new", NEW)
    bare.write("urls.txt", f"{OLD}/a\n")
    bare("--ledger", name, "gather", "urls.txt")
    assert bare.json("--ledger", name, "balance")["entries"] == 1
    assert sorted(p.name for p in bare.folder.iterdir()) == sorted([name, "urls.txt"])


@pytest.mark.parametrize("how", ["missing", "empty", "one byte", "cut", "another database", "text"])
def test_a_damaged_ledger_is_no_empty_one(filled: Program, how: str) -> None:
    database = filled.folder / "ledger.db"
    for extra in filled.folder.glob("ledger.db-*"):
        extra.unlink()
    if how == "missing":
        database.unlink()
    elif how == "another database":
        database.unlink()
        with sqlite3.connect(database) as other:
            other.execute("CREATE TABLE t (a)")
    else:
        data = database.read_bytes()
        database.write_bytes(
            {"empty": b"", "one byte": data[:1], "cut": data[:5000], "text": b"hello\n" * 1000}[how]
        )
    before = database.read_bytes() if database.exists() else None
    for command in ("balance", "entries", "history", "check", "decide"):
        done = filled(command, *(("/x", "--gone") if command == "decide" else ()), code=3)
        assert done.err.startswith("upright: "), done
    assert (database.read_bytes() if database.exists() else None) == before


@pytest.fixture
def shared() -> Iterator[Path]:
    """A folder that others may look into: those of a test run are shut again by the next run."""
    with tempfile.TemporaryDirectory() as held:
        Path(held).chmod(0o755)
        yield Path(held)


@pytest.mark.skipif(os.geteuid() != 0, reason="only root can be somebody else")
def test_a_ledger_that_may_be_read_is_read(filled: Program, shared: Path) -> None:
    """A colleague's ledger, which this user may not write."""
    folder = Path(shutil.copytree(filled.folder, shared / "museum"))
    for path in (folder, *folder.rglob("*")):
        path.chmod(0o755 if path.is_dir() else 0o644)
    before = sorted(p.name for p in folder.iterdir())
    colleague = Program(folder)
    for command in (("balance",), ("entries",), ("history",), ("check",), ()):
        colleague(*command, UPRIGHT_TEST_USER="65534")
    assert "read" in colleague("decide", "/x", "--gone", code=3, UPRIGHT_TEST_USER="65534").err
    settings = folder / "upright.toml"
    settings.write_text(
        settings.read_text().replace("[sections]", '[sections]\nhundreds = "/page/1*"')
    )
    words = ("entries", "--section", "hundreds", "--json")
    told = colleague(*words, UPRIGHT_TEST_USER="65534").json
    assert told["matching"] == len([n for n in range(3000) if str(n).startswith("1")])
    assert sorted(p.name for p in folder.iterdir()) == before


@pytest.mark.parametrize(
    ("name", "text"),
    [
        ("value", "[value]\ntraffic = nan"),
        ("value", "[[value]]\ntraffic = 1"),
        ("value", "[value]\ntraffic = -1"),
        ("retention", "[retention]\nlines = 99999999999"),
        ("retention", "retention = 7"),
        ("survey", "survey = 'all'"),
        ("sections", "sections = 4"),
        ("folding", "folding = 'fold'"),
    ],
)
def test_settings_that_cannot_be_are_one_sentence(filled: Program, name: str, text: str) -> None:
    path = filled.folder / "upright.toml"
    old = path.read_text()
    bare = re.sub(rf"^\[{name}(?:\.\w+)?\].*?(?=^\[|\Z)", "", old, flags=re.MULTILINE | re.DOTALL)
    path.write_text(f"{bare}\n{text}\n" if text.startswith("[") else f"{text}\n{bare}")
    told = filled("balance", code=3).err
    assert "must be" in " ".join(told.split())
    path.write_bytes(b"\xef\xbb\xbf" + old.encode())
    assert filled.json("balance")["entries"] == 3000


def test_a_build_goes_live_at_a_time_that_was(filled: Program) -> None:
    filled("build", "--for", "nginx", "--out", "rules")
    assert "--at is empty" in filled("handover", "rules", "--live", "--at", "", code=2).err
    assert (
        "yet to come"
        in filled("handover", "rules", "--live", "--at", "2090-01-01T10:00", code=2).err
    )
    assert filled.json("handover")["builds"][0]["live_from"] == ""


def test_a_header_may_be_of_any_letters(filled: Program) -> None:
    asked: list[str] = []

    def respond(host: str, target: str) -> Served:
        asked.append(f"{host}{target}")
        return Served(404, "")

    with serve_whole(respond) as address:
        filled(
            "replay",
            "--sample",
            "3",
            "--at",
            address,
            "--header",
            "X-Who: Jürgen",
            "--agent",
            "Prüfer",
            code=None,
        )
    assert len(asked) >= 3


def test_a_replay_that_is_stopped_prints_an_object_where_one_is_asked_for(filled: Program) -> None:
    with serve_whole(lambda _host, _target: Served(404, "")) as address:
        words = [PROGRAM, "replay", "--at", address, "--rate", "50", "--json"]
        process = subprocess.Popen(
            words, cwd=filled.folder, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True
        )
        until = time.monotonic() + 60
        while not filled.json("runs")["runs"] and time.monotonic() < until:
            time.sleep(0.2)
        time.sleep(1.5)
        process.send_signal(signal.SIGINT)
        out, err = process.communicate(timeout=60)
    assert process.returncode == 130, err
    told = json.loads(out)["stopped"]
    assert 0 < told["done"] < told["total"] == 3000


def test_days_that_no_server_saw_are_told_and_figures_are_drawn_of_the_others(
    filled: Program,
) -> None:
    years = ("2026", "0001", "2026", "1926", "9926", "1989", "2099", "9999")
    row = (
        '192.0.2.1 - - [03/May/{0}:10:00:00 +0000] "GET /p{0} HTTP/1.1" 404 1 "-" "Mozilla/5.0 X"\n'
    )
    filled.write("years.log", "".join(row.format(year) for year in years))
    told = filled.json("gather", "years.log")["sources"][0]
    assert (told["accepted"], told["rejected"]) == (5, 3)
    filled.write(
        "export.csv", "url,date,clicks\n/x,9999-12-31,3\n/y,0001-01-01,2\n/z,2026-02-30,1\n"
    )
    filled("gather", "export.csv")
    filled("build", "--for", "nginx", "--out", "rules")
    filled("handover", "rules", "--live", "--at", "2026-05-03T10:00+02:00")
    assert "2026-05-03 08:00 UTC" in filled("handover").out
    assert "since 2026-05-03 08:00 UTC" in filled("triage", "--figures", "figures", code=1).out
    filled("triage", "export.csv", "--figures", "figures", code=1)
    filled("rehearse", code=None)
    assert " UTC" in filled("runs").out
    assert filled().out.count(" UTC") == 2
