"""A ledger that a team has: several in one database, and settings that hold for all."""

from __future__ import annotations

import subprocess
import time
from collections.abc import Iterator
from pathlib import Path

import pytest

from clusters import BINARIES as BIN
from clusters import PORT, cluster
from conftest import NEW, OLD, PROGRAM, Program
from upright_ledger.app.decide.review_queue import Queue
from upright_ledger.core.inventory.answer import AnswerKind
from upright_ledger.ledger import lending
from upright_ledger.ledger.lines.listing import Filters
from upright_ledger.ledger.store import open_ledger

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


@pytest.mark.parametrize(
    ("given", "said"),
    [
        (("--database", "postgresql+psycopg://bob@db.example/x", "--slash", "never"), "--slash"),
        (("--old", OLD, "--case", "exact"), "leave --old and --case out"),
        ((), "name it with --database"),
    ],
)
def test_who_joins_says_nothing_that_all_have_settled(
    bare: Program, given: tuple[str, ...], said: str
) -> None:
    assert said in bare("open", "bob", "--join", *given, code=2).err
    assert not (bare.folder / "bob").exists()


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


def shown(queue: Queue) -> str:
    """The path that somebody who reviews is shown, or nothing."""
    card = queue.card()
    return "" if card is None else card.line.entry.legacy_url.removeprefix(OLD)


def test_two_who_review_are_shown_different_cards(
    ada: Program, bob: Program, monkeypatch: pytest.MonkeyPatch
) -> None:
    """What one looks at is lent for some minutes, and given back when it is left."""
    ada.write("urls.csv", "url,hits\n" + "".join(f"/{n},{9 - n}\n" for n in range(3)))
    ada("gather", "urls.csv")
    queues = []
    for name, folder in zip(
        ("ada", "bob", "cid", "dan"), (ada.folder, bob.folder) * 2, strict=True
    ):
        monkeypatch.setenv("UPRIGHT_AUTHOR", name)
        queues.append(Queue(open_ledger(folder), Filters()))
    one, two, three, four = queues
    assert [shown(q) for q in (one, two, three)] == ["/0", "/1", "/2"]
    assert shown(one) == "/0"  # a card is drawn again after each key
    assert shown(four) == ""
    assert len(four.with_others) == 3
    one.say(AnswerKind.GONE, "entry")
    assert shown(one) == ""
    two.leave()
    assert shown(four) == "/1"
    assert shown(two) == ""
    monkeypatch.setattr(lending, "_MINUTES", -1)  # three went home without leaving
    assert shown(three) == "/2"
    assert shown(two) == "/2"
    for queue in queues:
        queue.ledger.end()


def test_who_did_what_is_the_user_of_the_database(
    ada: Program, bob: Program, database: str
) -> None:
    sql(database, "CREATE ROLE bob LOGIN", "GRANT ALL ON SCHEMA museum TO bob",
        "GRANT ALL ON ALL TABLES IN SCHEMA museum TO bob")  # fmt: skip
    path = bob.folder / "upright.toml"
    path.write_text(path.read_text().replace("//upright@", "//bob@"))
    bob.write("urls.txt", "/a\n")
    bob("gather", "urls.txt", UPRIGHT_AUTHOR="")
    bob("decide", "/a", "--gone", UPRIGHT_AUTHOR="Bob B.")
    steps = ada.json("history")["steps"]
    assert [s["author"] for s in steps[:2]] == ["Bob B.", "bob"]
    sql(database, "REASSIGN OWNED BY bob TO upright", "DROP OWNED BY bob", "DROP ROLE bob")


ROOT = Path(__file__).parents[2]


def statements(role: str) -> list[str]:
    """What docs/scale.md says to make a role."""
    text = (ROOT / "docs/scale.md").read_text(encoding="utf-8")
    block = text.partition(f"CREATE ROLE {role}")[2].partition("```")[0]
    assert block
    return [f"{s.strip()};" for s in f"CREATE ROLE {role}{block}".split(";") if s.strip()]


def test_one_role_reads_and_reports_and_one_decides(
    ada: Program, database: str, tmp_path: Path
) -> None:
    """By the statements of the manual."""
    ada.write("urls.csv", "url,hits\n/a,3\n/b,2\n")
    ada("gather", "urls.csv")
    made = [*statements("museum_readers"), *statements("museum_deciders")]
    sql(database, *made, "CREATE ROLE eve LOGIN IN ROLE museum_readers",
        "CREATE ROLE dan LOGIN IN ROLE museum_deciders")  # fmt: skip
    try:
        for name in ("eve", "dan"):
            address = database.replace("//upright@", f"//{name}@")
            Program(tmp_path)("open", name, "--join", "--database", address)
        eve, dan = Program(tmp_path / "eve"), Program(tmp_path / "dan")
        assert eve.json("balance") == ada.json("balance")
        eve("entries", "/a")
        eve("history")
        eve("check", code=None)
        refused = eve("decide", "/a", "--gone", code=3)
        assert "permission denied" in refused.err
        assert len(refused.err.splitlines()) == 2
        dan("decide", "/a", "--gone", UPRIGHT_AUTHOR="")
        dan("undo", UPRIGHT_AUTHOR="")
        dan.write("more.txt", "/c\n")
        dan("gather", "more.txt", UPRIGHT_AUTHOR="")
        dan.write("new.csv", f"url,title\n{NEW}/b,B\n")
        dan("stock", "new.csv", UPRIGHT_AUTHOR="")
        dan("match", UPRIGHT_AUTHOR="")
        dan("build", "--for", "nginx", "--out", "rules", code=None, UPRIGHT_AUTHOR="")
        steps = ada.json("history")["steps"]
        assert {s["author"] for s in steps[:4]} == {"dan"}
        assert eve.json("balance")["entries"] == 3
    finally:
        roles = ("eve", "dan", "museum_readers", "museum_deciders")
        sql(database, *(f"DROP OWNED BY {r}" for r in roles), *(f"DROP ROLE {r}" for r in roles))


def test_two_matches_wait_for_each_other(ada: Program, bob: Program, database: str) -> None:
    """The second one is told who is at it, and goes by what the first one left."""
    ada.write("urls.csv", "url,title\n" + "".join(f"/old/{n},Page {n} of it\n" for n in range(40)))
    ada.write(
        "new.csv", "url,title\n" + "".join(f"{NEW}/n/{n}/,Page {n} of it\n" for n in range(40))
    )
    ada("gather", "urls.csv")
    ada("stock", "new.csv")
    ledger = open_ledger(bob.folder)
    with ledger.alone_at("match"):
        waiting = subprocess.Popen(
            [PROGRAM, "match"], cwd=ada.folder, stderr=subprocess.PIPE,
            stdout=subprocess.DEVNULL, text=True,
        )  # fmt: skip
        assert waiting.stderr is not None
        told = waiting.stderr.readline()
        assert "waiting for upright (127.0.0.1), who is at match on this ledger" in told
        assert waiting.poll() is None
        ada("fold", "--case", "exact")  # another sort of work does not wait
    ledger.end()
    assert waiting.wait(60) == 0
    assert ada.json("history")["steps"][0]["command"] == "match"


def test_a_lost_connection_is_tried_again_where_nothing_was_posted(
    ada: Program, database: str
) -> None:
    """The server ends it while the step is under way; the same command goes on by itself."""
    ada.write("urls.txt", "".join(f"/page/{n}\n" for n in range(30_000)))
    running = subprocess.Popen(
        [PROGRAM, "gather", "urls.txt"], cwd=ada.folder, stdout=subprocess.PIPE,
        stderr=subprocess.PIPE, text=True,
    )  # fmt: skip
    writing = "SELECT pid FROM pg_stat_activity WHERE application_name = 'upright gather'"
    while not sql(database, writing).strip():
        time.sleep(0.02)
    sql(database, f"SELECT pg_terminate_backend(pid) FROM ({writing}) w")
    out, err = running.communicate(timeout=120)
    assert running.returncode == 0, err
    assert "nothing was posted, and it is tried again" in err
    assert "30,000" in out
    assert [s["command"] for s in ada.json("history")["steps"]] == ["gather", "open"]
    assert ada.json("balance")["entries"] == 30_000


def test_a_server_that_is_not_there_is_one_sentence_in_the_end(ada: Program) -> None:
    path = ada.folder / "upright.toml"
    path.write_text(path.read_text().replace(f":{PORT}/", ":1/"))
    told = ada("balance", code=3)
    assert told.err.count("tried again") == 2
    assert "Traceback" not in told.err
    assert told.out == ""
