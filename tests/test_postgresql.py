"""The ledger on PostgreSQL: the same entries as on SQLite, and two people at once lose nothing."""

from __future__ import annotations

import os
import shutil
import subprocess
import tempfile
from collections.abc import Iterator
from pathlib import Path

import pytest

from conftest import NEW, OLD, PROGRAM, Program

_FOLDERS = sorted(Path("/usr/lib/postgresql").glob("*/bin"), reverse=True)
BIN = next((f for f in _FOLDERS if (f / "initdb").exists()), None)
pytestmark = pytest.mark.skipif(BIN is None, reason="PostgreSQL is not installed: apt-get install postgresql")
PORT = 54000 + os.getpid() % 1000


def _as_its_user(*command: str) -> list[str]:
    """PostgreSQL refuses to run as root."""
    return ["runuser", "-u", "postgres", "--", *command] if os.geteuid() == 0 else list(command)


@pytest.fixture(scope="module")
def cluster() -> Iterator[str]:
    """A temporary cluster; yields the address of its server, without a database."""
    assert BIN is not None
    folder = Path(tempfile.mkdtemp(prefix="upright-cluster-"))
    if os.geteuid() == 0:
        shutil.chown(folder, "postgres")
    data = str(folder / "data")
    subprocess.run(_as_its_user(str(BIN / "initdb"), "-D", data, "-U", "upright", "-A", "trust", "-E", "UTF8"), check=True, capture_output=True)  # fmt: skip
    options = f"-p {PORT} -k {folder} -c listen_addresses=127.0.0.1 -c fsync=off"
    subprocess.run(_as_its_user(str(BIN / "pg_ctl"), "-D", data, "-w", "-o", options, "-l", str(folder / "log"), "start"), check=True, capture_output=True)  # fmt: skip
    yield f"postgresql+psycopg://upright@127.0.0.1:{PORT}/"
    subprocess.run(_as_its_user(str(BIN / "pg_ctl"), "-D", data, "-m", "immediate", "stop"), check=True, capture_output=True)  # fmt: skip
    shutil.rmtree(folder)


@pytest.fixture
def team(cluster: str, tmp_path: Path, request: pytest.FixtureRequest) -> Program:
    """A ledger in a fresh database of the cluster."""
    assert BIN is not None
    name = f"ledger_{abs(hash(request.node.name)) % 10**8}"
    subprocess.run([BIN / "createdb", "-h", "127.0.0.1", "-p", str(PORT), "-U", "upright", name], check=True)
    Program(tmp_path)("open", "team", "--old", OLD, "--new", NEW, "--database", cluster + name)
    return Program(tmp_path / "team")


LOG = "".join(
    f'192.0.2.1 - - [03/May/2026:10:00:{n % 60:02} +0000] "GET /p{n % 40}?v={n % 3} HTTP/1.1" {200 if n % 3 else 404} 1 "http://b.example/{n % 30}" "Mozilla/5.0"\n'
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
        yield program.json("entries", "--limit", 0), program.json("entries", "--aside", "all"), program.json("balance")


def test_the_same_entries_as_on_sqlite(team: Program, museum: Program) -> None:
    museum.folder.joinpath("upright.toml").write_text(
        museum.folder.joinpath("upright.toml").read_text().replace(', "http://quillhaven.example"', "")
    )
    for mine, theirs in zip(steps(museum), steps(team), strict=True):
        assert mine == theirs


def test_two_people_at_once_lose_nothing(team: Program) -> None:
    for who in range(3):
        team.write(f"{who}.txt", "".join(f"/shared-{n}\n/own-{who}-{n}\n" for n in range(1500)))
    running = [
        subprocess.Popen(
            [PROGRAM, "gather", f"{who}.txt"], cwd=team.folder, stdout=subprocess.PIPE, stderr=subprocess.PIPE
        )
        for who in range(3)
    ]
    for process in running:
        _, error = process.communicate(timeout=120)
        assert process.returncode == 0, error
    assert team.json("balance")["entries"] == 1500 * 4
    assert [s["command"] for s in team.json("history")["steps"]] == ["gather", "gather", "gather", "open"]


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
            [(n["kind"], n["url"], n["lost"]) for n in news], program("triage", "--new", "access.log").out,
            [{k: v for k, v in e.items() if k not in {"answered", "live"}} for e in found["entries"]], found["noise"], found["days"], retired["kept"],
        ))  # fmt: skip
    assert told[0] == told[1]
    assert told[0][0]
    assert told[0][1] == ""
