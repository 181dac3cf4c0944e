"""Texts that no encoding can hold, nested without end, or of other shapes than their standard says:
each is one sentence, and nothing around it is lost.
"""

from __future__ import annotations

import json
import os
import subprocess

import pytest

from conftest import NEW, OLD, PROGRAM, Program

HALF = "\\ud800"
LINE = (
    '{"time":"2026-03-01T10:00:00Z","request":"GET %s '
    'HTTP/1.1","status":404,"agent":"%s","host":"www.quillhaven.example"%s}\n'
)
GOOD = "".join(LINE % (f"/p{n}", "Mozilla", "") for n in range(5))
DEEP = "[" * 100_000 + "]" * 100_000


def keys(program: Program) -> set[str]:
    return {e["legacy_url"].removeprefix(OLD) for e in program.json("entries")["entries"]}


@pytest.mark.parametrize(
    "line",
    [
        LINE % ("/odd", f"Mozilla {HALF}", ""),
        LINE % ("/odd", "Mozilla", f',"referrer":"http://elsewhere.example/{HALF}"'),
        LINE % ("/odd", "Mozilla", f',"{HALF}":"\\udfff"'),
        LINE % ("/odd", "Mozilla", f',"x":["{HALF}",{{"y":"{HALF}"}}]'),
    ],
)
def test_half_a_character_in_a_log_loses_no_line(museum: Program, line: str) -> None:
    museum.write("access.log", GOOD + line)
    found = museum.json("gather", "access.log")["sources"][0]
    assert (found["lines"], found["accepted"]) == (6, 6)
    assert keys(museum) == {*(f"/p{n}" for n in range(5)), "/odd"}
    for command in ("rehearse", "triage"):
        museum(command, "access.log", code=1)


def test_a_line_that_is_nested_without_end_is_rejected_by_itself(museum: Program) -> None:
    museum.write("access.log", GOOD + LINE % ("/odd", "Mozilla", f',"x":{DEEP}'))
    found = museum.json("gather", "access.log")["sources"][0]
    assert (found["lines"], found["accepted"], found["rejected"]) == (6, 5, 1)


@pytest.mark.parametrize(
    ("name", "text", "words"),
    [
        ("deep.json", DEEP, "nested too deeply"),
        ("objects.json", f'[{{"url":"{OLD}/a","x":{DEEP}}}]', "nested too deeply"),
        ("deep.har", f'{{"log":{{"entries":{DEEP}}}}}', "holds no URL"),
        ("number.json", f'[{{"url":"{OLD}/a","x":{"9" * 5000}}}]', "damaged JSON"),
    ],
)
def test_what_is_nested_without_end_is_one_sentence(
    museum: Program, name: str, text: str, words: str
) -> None:
    museum.write(name, text)
    told = museum("gather", name, code=3).err
    assert words in told
    assert len(told.strip().splitlines()) == 2


@pytest.mark.parametrize(
    "part",
    [
        5,
        "x",
        None,
        [1],
        {"request": 7},
        {"request": {"url": 9}},
        {"request": {"url": {}}},
        {"request": {"url": None}},
    ],
)
def test_entries_of_a_recording_that_are_none_are_rejected_one_by_one(
    museum: Program, part: object
) -> None:
    good = {"request": {"url": f"{OLD}/good"}, "response": 3, "startedDateTime": 7}
    odd = {"request": {"url": f"{OLD}/odd"}, "response": {"status": "²"}}
    museum.write("seen.har", json.dumps({"log": {"entries": [part, good, part, odd]}}))
    found = museum.json("gather", "seen.har")["sources"][0]
    assert (found["lines"], found["accepted"], found["rejected"]) == (4, 2, 2)
    for log in ([], {"log": 5}, {"log": {"entries": {"a": 1}}}):
        museum.write("none.har", f'{{"log":{json.dumps(log)}}}')
        assert "holds no URL" in museum("gather", "none.har", "--kind", "har", code=3).err


def test_half_a_character_in_the_stock_is_no_end_of_it(museum: Program) -> None:
    museum.write(
        "pages.jsonl",
        f'{{"url":"{NEW}/a","title":"A{HALF}","{HALF}x":"1"}}\n{{"url":"{NEW}/b","title":"B"}}\n',
    )
    assert museum.json("stock", "pages.jsonl")["pages"] == 2


def test_a_file_may_have_any_name(museum: Program) -> None:
    """Names of files are bytes; these are none in UTF-8."""
    for name, text in ((b"l\xe9.log", GOOD), (b"caf\xe9.txt", f"{OLD}/cafe\n")):
        path = os.path.join(os.fsencode(museum.folder), name)  # noqa: PTH118
        with open(path, "w") as file:  # noqa: PTH123
            file.write(text)
    museum.write("after.txt", f"{OLD}/after\n")

    def run(*arguments: bytes | str) -> tuple[int, str]:
        done = subprocess.run(
            [PROGRAM, *arguments], cwd=museum.folder, capture_output=True, check=False
        )
        assert b"Traceback" not in done.stderr, done.stderr
        return done.returncode, (done.stdout + done.stderr).decode()

    code, told = run("gather", b"caf\xe9.txt", "after.txt")
    assert (code, "caf\\xe9.txt" in told) == (0, True)
    assert keys(museum) == {"/cafe", "/after"}
    assert run("triage", "--new", b"l\xe9.log")[0] in {0, 1}
    assert "/p0" in keys(museum)
    assert run("check", b"caf\xe9.txt")[0] == 3
    assert run("rehearse", b"l\xe9.log")[0] == 1
    code, told = run("decide", "/cafe", "--gone", "--reason", b"clos\xe9")
    assert (code, "no UTF-8" in told) == (2, True)
    assert museum.json("entries", "/cafe")["answer"] == "open"


@pytest.mark.parametrize(
    ("encoding", "heading", "figure"),
    [("utf-8", "url,title,clicks", "clicks"), ("cp932", "ページ,title,クリック数", "clicks")],
)
def test_a_file_that_ends_within_a_character_keeps_its_encoding(
    museum: Program, encoding: str, heading: str, figure: str
) -> None:
    """As downloads do that broke off: all but the last character is as it was."""
    rows = "".join(f"{OLD}/p{n},館{n},{n + 3}\n" for n in range(5))
    museum.write("a.csv", f"{heading}\n{rows}{OLD}/last,館".encode(encoding)[:-1])
    told = museum.json("gather", "a.csv")["sources"][0]
    assert (told["accepted"], told["rejected"]) == (6, 0)
    found = {e["legacy_url"]: e for e in museum.json("entries", "--limit", 0)["entries"]}
    for n in range(5):
        entry = found[f"{OLD}/p{n}"]
        assert (entry["title"], entry[figure]) == (f"館{n}", n + 3)
