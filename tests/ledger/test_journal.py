"""The journal: every change is a step, steps are whole, and undo puts back exactly what was."""

from __future__ import annotations

import signal
import sqlite3
import subprocess
import time

import pytest

from conftest import OLD, PROGRAM, Program


def state(program: Program) -> object:
    """All that a user sees of the answers."""
    balance = program.json("balance")
    balance.pop("next")
    return balance, program.json("check", code=None)


def test_every_change_is_one_step_with_time_author_and_reason(museum: Program) -> None:
    museum.write("urls.txt", "/a\n/b\n")
    museum("gather", "urls.txt")
    museum("decide", "/a", "--to", "/new/", "--reason", "asked the curator")
    museum("decide", "--from", museum.pairs("/b,,410", "/c,/d/,"))
    steps = museum.json("history")["steps"]
    assert [s["command"] for s in steps] == ["decide", "decide", "gather", "open"]
    assert steps[1]["reason"] == "asked the curator"
    assert {s["author"] for s in steps} == {"tester"}
    assert all(s["time"].endswith("Z") for s in steps)
    assert "asked the curator" in museum("history").out


def test_undo_takes_back_step_after_step_and_can_be_undone(museum: Program) -> None:
    museum.write("urls.txt", "/a\n/b\n")
    states = [state(museum)]
    for arguments in (
        ("gather", "urls.txt"),
        ("decide", "/a", "--to", "/one/"),
        ("decide", "/a", "--gone"),
        ("decide", "--from", museum.pairs("/a,/two/,", "/a,/three/,", "/new,/x/,")),
    ):
        museum(*arguments, code=None)
        states.append(state(museum))
    for wanted in reversed(states[:-1]):
        museum("undo")
        assert state(museum) == wanted
    assert "no step to undo" in museum("undo", code=2).err
    undo_of_gather = next(s["step"] for s in museum.json("history")["steps"] if s["undoes"] == 2)
    museum("undo", "--step", undo_of_gather)
    assert state(museum) == states[1]


def test_several_steps_at_once(museum: Program) -> None:
    before = state(museum)
    for path in ("/a", "/b", "/c"):
        museum("decide", path, "--gone")
    assert len(museum.json("undo", 3)["undone"]) == 3
    assert state(museum) == before


def test_undo_is_refused_where_a_row_was_changed_since(museum: Program) -> None:
    museum("decide", "/a", "--to", "/one/")
    museum("decide", "/a", "--gone")
    refused = museum("undo", "--step", 2, code=2)
    assert "step 3" in refused.err
    museum("undo", "--step", 3)
    museum("undo", "--step", 2)
    assert museum.json("balance")["answered"] == 0
    assert "was undone already" in museum("undo", "--step", 2, code=2).err
    assert "no step 99" in museum("undo", "--step", 99, code=2).err
    assert "cannot be undone" in museum("undo", "--step", 1, code=2).err


def test_a_withdrawn_source_can_be_gathered_again(museum: Program) -> None:
    museum.write("urls.txt", "/a\n/b\n")
    museum("gather", "urls.txt")
    museum("undo")
    assert museum.json("balance")["entries"] == 0
    assert museum.json("gather", "urls.txt")["entries"] == 2


def test_deciding_settles_a_conflict(museum: Program) -> None:
    museum("decide", "--from", museum.pairs("/a,/one/,", "/a,/two/,"), code=1)
    assert museum.json("check", code=1)["counts"] == {"conflict": 1}
    assert museum.json("decide", "/a", "--to", "/two/")["replaced"] == 1
    assert museum.json("check")["counts"] == {}
    museum("undo")
    assert museum.json("check", code=1)["counts"] == {"conflict": 1}


def test_posting_the_same_again_changes_nothing(museum: Program) -> None:
    museum("decide", "/a", "--to", "/one/")
    again = museum.json("decide", "--from", museum.pairs("/a,/one/,"))
    assert (again["posted"], again["unchanged"], again["replaced"], again["made"]) == (0, 1, 0, 0)


def test_pairs_are_mended_and_refused_row_by_row(museum: Program) -> None:
    museum.write("urls.txt", "/known\n")
    museum("gather", "urls.txt")
    text = (
        f"Old;New;Status\nknown;/new/;\n{OLD}/b;new/b/;308\n/c;https://elsewhere.example/;301\n/d;/"
        "e/;teapot\nhttp://other.example/;/f/;\n;/g/;\n/h;;keep\n/i;;ignore\n"
    )
    museum.write("pairs.csv", text)
    result = museum.json("decide", "--from", "pairs.csv", code=1)
    assert (result["posted"], result["made"], result["mended"]) == (4, 3, 2)
    assert {r["row"] for r in result["refused"]} == {4, 5, 6, 7}
    lines = {x["answer"]: x["entries"] for x in museum.json("balance")["lines"]}
    assert (lines["move"], lines["keep"], lines["ignore"]) == (2, 1, 1)
    shown = museum("decide", "--from", "pairs.csv", code=1).out
    assert "row 5: 'teapot' is no status" in shown


@pytest.mark.parametrize(
    ("arguments", "words"),
    [
        (["/a"], "one answer is needed"),
        (["/a", "--to", "/b", "--gone"], "one answer is needed"),
        (["/a", "--from", "x.csv", "--gone"], "not said what is to be answered"),
        (["/a", "--to", "https://elsewhere.example/"], "no declared new origin"),
        (["https://elsewhere.example/a", "--gone"], "belongs to no old site"),
        (["/a%2fb", "--gone"], "escaped slash"),
        (["/a", "--to", "javascript:alert(1)"], "no web address"),
    ],
)
def test_decisions_that_cannot_be_are_refused(
    museum: Program, arguments: list[str], words: str
) -> None:
    assert words in museum("decide", *arguments, code=2).err
    assert museum.json("balance")["entries"] == 0


def test_a_killed_command_leaves_the_last_complete_step(museum: Program) -> None:
    log = "".join(
        f'192.0.2.1 - - [03/May/2026:10:00:00 +0000] "GET /page/{n} HTTP/1.1" 200 1 "-" '
        '"Mozilla/5.0"\n'
        for n in range(15_000)
    )
    museum.write("access.log", log)
    museum.write("urls.txt", "/a\n")
    museum("gather", "urls.txt")
    outcomes = set()
    for tenths in (4, 8, 14, 20, 26):
        process = subprocess.Popen(
            [PROGRAM, "gather", "access.log"],
            cwd=museum.folder,
            stdout=subprocess.DEVNULL,
            stderr=subprocess.DEVNULL,
        )
        time.sleep(tenths / 10)
        process.send_signal(signal.SIGKILL)
        process.wait()
        balance = museum.json("balance")
        steps = [s["command"] for s in museum.json("history")["steps"]]
        outcomes.add((balance["entries"], tuple(steps)))
        check = (
            sqlite3.connect(museum.folder / "ledger.db")
            .execute("PRAGMA integrity_check")
            .fetchone()
        )
        assert check == ("ok",)
        if balance["entries"] > 1:
            break
    assert outcomes <= {(1, ("gather", "open")), (15_001, ("gather", "gather", "open"))}


def test_two_people_at_once_lose_nothing(museum: Program) -> None:
    for who in ("one", "two"):
        museum.write(f"{who}.txt", "".join(f"/{who}/{n}\n" for n in range(3000)) + "/both\n")
    both = [
        subprocess.Popen(
            [PROGRAM, "gather", f"{who}.txt"], cwd=museum.folder, stdout=subprocess.DEVNULL
        )
        for who in ("one", "two")
    ]
    assert [p.wait() for p in both] == [0, 0]
    assert museum.json("balance")["entries"] == 6001


def test_a_ledger_of_a_newer_program_is_not_touched(museum: Program) -> None:
    with sqlite3.connect(museum.folder / "ledger.db") as connection:
        connection.execute(
            "INSERT INTO migrations (number, name, applied) VALUES (99, 'future', '2030')"
        )
    assert "schema 99" in museum("balance", code=3).err


def test_a_damaged_database_is_one_sentence(museum: Program) -> None:
    for path in museum.folder.glob("ledger.db*"):
        path.unlink()
    museum.write("ledger.db", b"this is no database at all, it only says so" * 100)
    assert "the ledger's database" in museum("balance", code=3).err


def test_bad_settings_are_one_sentence(museum: Program) -> None:
    path = museum.folder / "upright.toml"
    path.write_text("[ledger\n")
    assert "not valid TOML" in museum("balance", code=3).err
    path.write_text("[ledger]\nname = 'x'\n")
    assert "[new] is not there" in museum("balance", code=3).err


def test_open_refuses_what_cannot_be(bare: Program) -> None:
    assert "too much" in bare("open", "m", "--old", f"{OLD}/path", "--new", OLD, code=2).err
    assert (
        "no web address" in bare("open", "m", "--old", "ftp://x.example", "--new", OLD, code=2).err
    )
    assert (
        "no database address"
        in bare("open", "m", "--old", OLD, "--new", OLD, "--database", "nonsense", code=2).err
    )
    assert not (bare.folder / "m").exists()
    bare(
        "open",
        "m",
        "--old",
        OLD,
        "--new",
        OLD,
        "--database",
        f"sqlite:///{bare.folder}/elsewhere.db",
    )
    assert (bare.folder / "elsewhere.db").exists()
    assert not (bare.folder / "m/ledger.db").exists()
    assert Program(bare.folder / "m").json("balance")["entries"] == 0


@pytest.mark.parametrize(
    "first",
    [["decide", "/QH17", "--gone"], ["decide", "--from", "pairs.csv"], ["gather", "list.txt"]],
)
def test_the_first_command_after_the_settings_were_edited_does_not_wait_for_itself(
    museum: Program, first: list[str]
) -> None:
    file = museum.folder / "upright.toml"
    file.write_text(file.read_text().replace('case = "fold"', 'case = "exact"'))
    museum.pairs("/QH17,,410")
    museum.write("list.txt", "/QH17\n")
    began = time.monotonic()
    museum(*first)
    assert time.monotonic() - began < 60  # not the five minutes for which others are waited for
    museum("gather", museum.write("more.txt", "/qh17\n"))
    assert len(museum.json("entries")["entries"]) == 2


@pytest.mark.parametrize(
    ("database", "words"),
    [
        ("postgresql+psycopg://u@h:abc/x", "is no database address"),
        ("nonsense", "is no database address"),
        ("mysql://u@h/x", "mysql is no database that a ledger can be in"),
        ("sqlite://", "in memory is lost"),
        ("sqlite:///:memory:", "in memory is lost"),
    ],
)
def test_a_database_that_cannot_be_is_one_sentence(
    bare: Program, database: str, words: str
) -> None:
    told = bare(
        "open", "one", "--old", OLD, "--new", "https://new.example", "--database", database, code=2
    )
    assert words in told.err
    assert not (bare.folder / "one").exists()
