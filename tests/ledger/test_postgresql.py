"""The ledger on PostgreSQL: the same entries as on SQLite, and two people at once lose nothing."""

from __future__ import annotations

import os
import random
import re
import signal
import socket
import subprocess
import threading
import time
from collections.abc import Iterator
from contextlib import suppress
from pathlib import Path

import pytest

from clusters import BINARIES as BIN
from clusters import PORT, cluster
from conftest import NEW, OLD, PROGRAM, Program

pytestmark = pytest.mark.skipif(
    BIN is None, reason="PostgreSQL is not installed: apt-get install postgresql"
)


@pytest.fixture(name="cluster", scope="module")
def _cluster() -> Iterator[str]:
    with cluster() as server:
        yield server


@pytest.fixture
def team(cluster: str, tmp_path: Path, request: pytest.FixtureRequest) -> Program:
    """A ledger in a fresh database of the cluster."""
    assert BIN is not None
    name = f"ledger_{abs(hash(request.node.name)) % 10**8}"
    subprocess.run(
        [BIN / "createdb", "-h", "127.0.0.1", "-p", str(PORT), "-U", "upright", name], check=True
    )
    Program(tmp_path)("open", "team", "--old", OLD, "--new", NEW, "--database", cluster + name)
    return Program(tmp_path / "team")


LOG = "".join(
    f'192.0.2.1 - - [03/May/2026:10:00:{n % 60:02} +0000] "GET /p{n % 40}?v={n % 3} HTTP/1.1" '
    f'{200 if n % 3 else 404} 1 "http://b.example/{n % 30}" "Mozilla/5.0"\n'
    for n in range(600)
)
CSV = (
    "url,title,clicks\n"
    + "".join(f"/p{n}?v={v},Title {n},{n}\n" for n in range(60) for v in range(3))
    + "/caf\u00e9,x,1\n"
)


def write_files(program: Program) -> None:
    program.write("access.log", LOG)
    program.write("export.csv", CSV)
    program.write("urls.txt", "/P1\n/p2/\n/tool.css\nhttps://other.example/\n/x%2fy\n")


def steps(program: Program) -> Iterator[object]:
    """A piece of work, and what a user sees after each step of it."""
    write_files(program)
    for command in (
        ["gather", "access.log", "export.csv", "urls.txt"],
        ["fold", "--accept"],
        ["decide", "/p1", "--to", "/new/"],
        ["fold", "--case", "exact"],
        ["fold", "--take-back", "furniture"],
        ["undo"],
        ["undo"],
        ["gather", "access.log"],
    ):
        program(*command)
        yield (
            program.json("entries", "--limit", 0),
            program.json("entries", "--aside", "all"),
            program.json("balance"),
        )


def test_the_same_entries_as_on_sqlite(team: Program, museum: Program) -> None:
    museum.folder.joinpath("upright.toml").write_text(
        museum.folder.joinpath("upright.toml")
        .read_text()
        .replace(', "http://quillhaven.example"', "")
    )
    for mine, theirs in zip(steps(museum), steps(team), strict=True):
        assert mine == theirs


def test_two_people_at_once_lose_nothing(team: Program) -> None:
    for who in range(3):
        team.write(f"{who}.txt", "".join(f"/shared-{n}\n/own-{who}-{n}\n" for n in range(1500)))
    running = [
        subprocess.Popen(
            [PROGRAM, "gather", f"{who}.txt"],
            cwd=team.folder,
            stdout=subprocess.PIPE,
            stderr=subprocess.PIPE,
        )
        for who in range(3)
    ]
    for process in running:
        _, error = process.communicate(timeout=120)
        assert process.returncode == 0, error
    assert team.json("balance")["entries"] == 1500 * 4
    assert [s["command"] for s in team.json("history")["steps"]] == [
        "gather",
        "gather",
        "gather",
        "open",
    ]


def test_triage_tells_the_same_as_on_sqlite(team: Program, museum: Program) -> None:
    told = []
    for program in (team, museum):
        write_files(program)
        program("decide", "--from", program.pairs("/p1?v=1,/now/1/,301", "/p2?v=2,/now/2/,301"))
        program("build", "--for", "nginx", "--out", "rules")
        program("handover", "--live", "--at", "2026-05-03T10:00:30+00:00")
        news = program.json("triage", "--new", "access.log", code=1)["news"]
        found = program.json("triage", code=1)
        retired = program.json("retire", "--unused-for", "30")
        told.append((
            [(n["kind"], n["url"], n["lost"]) for n in news],
            program("triage", "--new", "access.log").out,
            [{k: v for k, v in e.items() if k not in {"answered",
                "live"}} for e in found["entries"]], found["noise"], found["days"], retired["kept"],
        ))  # fmt: skip
    assert told[0] == told[1]
    assert told[0][0]
    assert told[0][1] == ""


def test_a_database_that_is_not_in_utf8_and_addresses_that_are_none_are_one_sentence(
    cluster: str, bare: Program
) -> None:
    assert BIN is not None
    options = (
        "-h",
        "127.0.0.1",
        "-p",
        str(PORT),
        "-U",
        "upright",
        "-T",
        "template0",
        "--locale",
        "C",
    )
    for encoding in ("SQL_ASCII", "LATIN1"):
        subprocess.run([BIN / "createdb", *options, "-E", encoding, encoding.lower()], check=True)
        told = bare(
            "open",
            "x",
            "--old",
            OLD,
            "--new",
            NEW,
            "--database",
            cluster + encoding.lower(),
            code=3,
        )
        assert f"in {encoding}" in told.err
        assert "createdb" in told.err
    base = cluster.removesuffix("/")
    for address, code in (
        (f"{cluster}a/b", 3), (f"{cluster}missing", 3), (base.replace(str(PORT), "port") + "/x", 2),
        (base.replace(str(PORT), "99999") + "/x", 3),
        ("postgresql+psycopg://anna:geheim", 2), ((
            "postgresql+psycopg://anna:ge@heim@h.example/x"
        ), 2), (f"{cluster}x?password=geheim", 2),
    ):  # fmt: skip
        told = bare("open", "x", "--old", OLD, "--new", NEW, "--database", address, code=code)
        assert len(told.err.splitlines()) == 2
        assert not {"geheim", "heim", "ge"} & set(
            told.err.replace("@", " ").replace(":", " ").replace("/", " ").split()
        )
    assert not bare.folder.joinpath("x").exists()


def test_settings_with_a_password_that_others_can_read_are_refused(team: Program) -> None:
    path = team.folder / "upright.toml"
    path.write_text(path.read_text().replace("upright@127", "upright:geheim@127"))
    path.chmod(0o644)
    told = team("balance", code=2).err
    assert "others can read" in told
    assert "geheim" not in told
    path.chmod(0o600)
    team("balance")


def test_what_came_to_nothing_has_no_number_and_who_waits_says_for_whom(team: Program) -> None:
    team.write("pages.txt", "/a\n/b\n")
    team("gather", "pages.txt")
    team("fold", "--apply")
    team("decide", "/a", "--gone")
    assert [s["step"] for s in team.json("history")["steps"]] == [3, 2, 1]
    ours = f"psql -qX -h 127.0.0.1 -p {PORT} -U upright {_database(team)}"
    holding = subprocess.Popen(
        ours.split(), stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True,
        env={**os.environ, "PGAPPNAME": "upright gather"}
    )  # fmt: skip
    assert holding.stdin is not None
    assert holding.stdout is not None
    holding.stdin.write("BEGIN; LOCK TABLE team.steps IN EXCLUSIVE MODE;\n\\echo held\n")
    holding.stdin.flush()
    assert holding.stdout.readline() == "held\n"
    waiting = subprocess.Popen(
        [PROGRAM, "decide", "/b", "--gone"], cwd=team.folder, stderr=subprocess.PIPE, text=True
    )
    assert waiting.stderr is not None
    assert waiting.stderr.readline() == (
        "upright: waiting for upright gather (upright, 127.0.0.1), which is writing to this "
        "ledger ...\n"
    )
    assert team.json("balance")["entries"] == 2  # who reads does not wait
    holding.communicate("COMMIT;\n")
    assert waiting.wait(60) == 0


def _database(program: Program) -> str:
    text = program.folder.joinpath("upright.toml").read_text()
    return re.split('[?"]', text.partition(f"{PORT}/")[2])[0]


class Stalling:
    """A way to the server on which, once `stalled` is set, nothing arrives any more and nothing is
    closed.
    """

    def __init__(self) -> None:
        self.stalled = threading.Event()
        self._far: list[socket.socket] = []
        self._listening = socket.create_server(("127.0.0.1", 0))
        self.port = self._listening.getsockname()[1]
        threading.Thread(target=self._accept, daemon=True).start()

    def _accept(self) -> None:
        while True:
            near, _ = self._listening.accept()
            far = socket.create_connection(("127.0.0.1", PORT))
            self._far.append(far)
            for a, b in ((near, far), (far, near)):
                threading.Thread(target=self._pass_on, args=(a, b), daemon=True).start()

    def end(self) -> None:
        """Let the server learn what its keep-alives tell it after a while."""
        for far in self._far:
            far.shutdown(socket.SHUT_RDWR)

    def _pass_on(self, source: socket.socket, target: socket.socket) -> None:
        with suppress(OSError):  # one side went away
            while data := source.recv(65_536):
                if self.stalled.is_set():
                    threading.Event().wait()
                target.sendall(data)


def test_a_connection_that_stalls_can_be_interrupted_and_holds_nobody_up(team: Program) -> None:
    stalling = Stalling()
    path = team.folder / "upright.toml"
    direct = path.read_text()
    path.write_text(direct.replace(f":{PORT}/", f":{stalling.port}/"))
    team.write("pages.txt", "".join(f"/page/{n}\n" for n in range(50_000)))
    running = subprocess.Popen(
        [PROGRAM, "gather", "pages.txt"], cwd=team.folder, stderr=subprocess.PIPE, text=True
    )
    taken = (
        "SELECT application_name FROM pg_stat_activity JOIN pg_locks USING (pid) "
        "WHERE mode = 'ExclusiveLock' AND locktype = 'relation' AND granted"
    )
    while "upright gather" not in _psql(taken):  # its turn has come
        time.sleep(0.05)
    time.sleep(random.random() / 2)  # at any moment of its work
    stalling.stalled.set()
    time.sleep(1)
    running.send_signal(signal.SIGINT)
    assert running.communicate(timeout=10) == (
        None,
        "upright: stopped. What was complete is kept.\n",
    )
    assert running.returncode == 130
    path.write_text(direct)
    waiting = subprocess.Popen(
        [PROGRAM, "decide", "/x", "--gone"], cwd=team.folder, stderr=subprocess.PIPE, text=True
    )
    assert waiting.stderr is not None
    assert "waiting for upright gather" in waiting.stderr.readline()
    stalling.end()
    assert waiting.wait(60) == 0


def _psql(query: str) -> str:
    words = [
        "psql",
        "-qXAt",
        "-h",
        "127.0.0.1",
        "-p",
        str(PORT),
        "-U",
        "upright",
        "-d",
        "postgres",
        "-c",
        query,
    ]
    return subprocess.run(words, check=True, capture_output=True, text=True).stdout
