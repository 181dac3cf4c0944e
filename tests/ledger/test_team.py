"""A ledger that a team has: several in one database, and settings that hold for all."""

from __future__ import annotations

import subprocess
from collections.abc import Iterator
from pathlib import Path

import pytest

from clusters import BINARIES as BIN
from clusters import PORT, cluster
from conftest import NEW, OLD, Program

pytestmark = pytest.mark.skipif(
    BIN is None, reason="PostgreSQL is not installed: apt-get install postgresql"
)


@pytest.fixture(name="cluster", scope="module")
def _cluster() -> Iterator[str]:
    with cluster() as server:
        yield server


@pytest.fixture
def database(cluster: str, request: pytest.FixtureRequest) -> str:
    """A fresh database."""
    assert BIN is not None
    name = f"team_{abs(hash(request.node.name)) % 10**8}"
    subprocess.run(
        [BIN / "createdb", "-h", "127.0.0.1", "-p", str(PORT), "-U", "upright", name], check=True
    )
    return cluster + name


@pytest.fixture
def ada(database: str, tmp_path: Path) -> Program:
    Program(tmp_path)("open", "museum", "--old", OLD, "--new", NEW, "--database", database)
    return Program(tmp_path / "museum")


@pytest.fixture
def bob(ada: Program, database: str, tmp_path: Path) -> Program:
    Program(tmp_path)("open", "bob", "--join", "--database", database)
    return Program(tmp_path / "bob")


def sql(database: str, *statements: str, user: str = "upright") -> str:
    """What a database says to somebody."""
    assert BIN is not None
    told = subprocess.run(
        [BIN / "psql", "-h", "127.0.0.1", "-p", str(PORT), "-U", user, "-At",
            database.rpartition("/")[2], *(f"-c{s}" for s in statements)],
        check=True, capture_output=True, text=True,
    )  # fmt: skip
    return told.stdout


def test_several_ledgers_are_in_one_database(ada: Program, database: str, tmp_path: Path) -> None:
    """Each has a schema of its own, and knows nothing of the others."""
    other = ("--old", "http://library.example", "--new", "https://books.example")
    Program(tmp_path)("open", "Library 2", *other, "--database", database)
    library = Program(tmp_path / "Library 2")
    ada.write("urls.txt", "/a\n/b\n")
    ada("gather", "urls.txt")
    assert library.json("balance")["entries"] == 0
    assert ada.json("balance")["entries"] == 2
    assert "schema=library_2" in (library.folder / "upright.toml").read_text()
    assert sql(database, "SELECT count(*) FROM museum.entries").strip() == "2"
    again = Program(tmp_path)(
        "open", "x", *other, "--database", f"{database}?schema=museum", code=2
    )
    assert "--join" in again.err
    told = Program(tmp_path)("open", "y", "--join", "--database", database, code=2)
    assert "several ledgers: library_2, museum" in told.err
    assert not (tmp_path / "y").exists()
    Program(tmp_path)("open", "y", "--join", "--database", f"{database}?schema=museum")
    assert Program(tmp_path / "y").json("balance")["entries"] == 2


def test_who_joins_has_the_settings_of_all(ada: Program, bob: Program) -> None:
    ada.write("urls.txt", "/Shop/A\n/shop/a\n/x?id=1\n/x?id=2\n")
    ada("gather", "urls.txt")
    bob.write("more.txt", "/shop/b\n/SHOP/B\n")
    bob("gather", "more.txt")
    assert ada.json("balance") == bob.json("balance")
    ada("fold", "--case", "exact")
    assert bob.json("balance")["entries"] == ada.json("balance")["entries"] == 6
    assert "otherwise" in bob("balance").err
    assert "[folding]" in bob("balance").err
    bob("fold", "--put-back")
    assert bob("balance").err == ""


def test_settings_that_decide_meaning_are_shared_by_a_step(ada: Program, bob: Program) -> None:
    """Nobody's file alone changes what all see; what is personal is nobody else's."""
    ada.write("urls.txt", "/shop/a\n/visit/b\n")
    ada("gather", "urls.txt")
    path = ada.folder / "upright.toml"
    text = path.read_text().replace("[sections]", '[sections]\ntill = "/shop/*"')
    path.write_text(text.replace("linking_pages = 1.0", "linking_pages = 9.0"))
    told = ada("entries", "--sections")
    assert "[sections], [value]" in told.err
    assert "till" not in told.out
    ada("fold", "--apply")
    assert ada("balance").err == ""
    for program in (ada, bob):
        rows = program.json("entries", "--sections")["groups"]
        assert "till" in {row["name"] for row in rows}
    assert "[sections], [value]" in bob("balance").err
    bob("fold", "--put-back")
    assert 'till = "/shop/*"' in (bob.folder / "upright.toml").read_text()
    assert bob("balance").err == ""
    bob("undo")
    assert "till" not in bob("entries", "--sections").out
    assert "[sections], [value]" in ada("balance").err


def test_what_cannot_be_joined_is_one_sentence(
    ada: Program, database: str, cluster: str, tmp_path: Path
) -> None:
    program = Program(tmp_path)
    told = program("open", "museum", "--join", "--database", database, code=2)
    assert "holds a ledger already" in told.err
    for address, word in (
        (f"{cluster}postgres", "holds no ledger"), (f"{database}?schema=nobody", "no ledger"),
        ("sqlite:///x.db", "only a ledger on PostgreSQL"),
    ):  # fmt: skip
        told = program("open", "z", "--join", "--database", address, code=None)
        assert told.code in {2, 3}
        assert word in told.err
        assert len(told.err.splitlines()) == 2
    told = program("open", "z", "--join", "--old", OLD, "--database", database, code=2)
    assert "--join goes with --database" in told.err
    assert not (tmp_path / "z").exists()
