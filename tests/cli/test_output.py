"""What people see: right at 80 and 200 columns, the same in a pipe, and always with a next step."""

from __future__ import annotations

import pytest

from conftest import NEW, OLD, Program
from upright_ledger.cli.terminal import output


@pytest.fixture
def busy(museum: Program) -> Program:
    """A ledger with something to show for every command."""
    long = (
        "/journal/2011/03/"
        + "-".join(["a", "very", "long", "story", "of", "the", "harbour", "tower", "clock"] * 2)
        + ".html"
    )
    museum.write("urls.txt", f"{long}\n/visit/hours.html\n/about/\nnot a url\n")
    museum.write(
        "stock.csv",
        f"url,title,status\n{NEW}/about/,About,200\n{NEW}/visit/hours/,Hours,200\n{NEW}/x/,X,200\n",
    )
    museum("gather", "urls.txt")
    museum("stock", "stock.csv")
    museum(
        "decide",
        "--from",
        museum.pairs(
            f"{long},/x/,",
            "/l1,/l2,",
            "/l2,/l1,",
            "/late,/visit/hours.html,",
            "/visit/hours.html,/visit/hours,",
        ),
        code=None,
    )
    museum("build", "--for", "nginx", "--out", "rules", code=1)
    return museum


REPORTS = [
    ["balance"],
    ["check"],
    ["match"],
    ["build", "--for", "nginx", "--out", "again"],
    ["rehearse", "urls.txt"],
    ["history"],
    ["gather", "urls.txt"],
    ["stock", "stock.csv"],
    [],
]


@pytest.mark.parametrize("columns", ["80", "200"])
def test_reports_keep_within_the_window_and_are_plain_in_a_pipe(
    busy: Program, columns: str
) -> None:
    for arguments in REPORTS:
        text = busy(*arguments, code=None, COLUMNS=columns).out
        assert "\x1b" not in text, arguments
        lines = text.splitlines()
        assert all(line == line.rstrip() for line in lines), arguments
        for line in lines:
            # Addresses in a command to type are never broken: they must be copied whole.
            assert len(line) <= int(columns) or line.lstrip().startswith(("upright ", "http")), (
                arguments,
                line,
            )
        assert any(line.startswith("Next: ") for line in lines), arguments


def test_the_next_step_follows_the_work(museum: Program) -> None:
    seen = [museum.json()["next"]["command"].split()[1]]
    museum.write("urls.txt", "/a\n/b\n")
    museum("gather", "urls.txt")
    seen.append(museum.json()["next"]["command"].split()[1])
    museum.write("stock.csv", f"url,status\n{NEW}/a/,200\n{NEW}/c/,200\n")
    museum("stock", "stock.csv")
    seen.append(museum.json()["next"]["command"].split()[1])
    museum("match")
    seen.append(museum.json()["next"]["command"].split()[1])
    museum("decide", "/b", "--to", "/nowhere/", "--as-given")
    seen.append(museum.json()["next"]["command"].split()[1])
    museum("check", code=1)
    assert "fault" in museum.json()["next"]["why"]
    museum("decide", "/b", "--to", "/c/")
    seen.append(museum.json()["next"]["command"].split()[1])
    museum("check")
    seen.append(museum.json()["next"]["command"].split()[1])
    museum("build", "--for", "nginx", "--out", "rules")
    seen.append(museum.json()["next"]["command"].split()[1])
    assert seen == ["gather", "stock", "match", "review", "check", "check", "build", "replay"]


def test_the_overview_tells_what_was_done(busy: Program) -> None:
    found = busy.json()
    assert found["old"] == {"quillhaven.example": [OLD, "http://quillhaven.example"]}
    assert found["new"] == [NEW]
    assert found["pages"] == 3
    assert found["build"]["server"] == "nginx"
    assert found["replay"] is None
    assert {s["purpose"] for s in found["sources"]} == {"gather", "stock", "pairs"}
    text = busy().out
    assert "in stock   3 pages" in text
    assert "replayed   not yet" in text


def test_the_ledger_can_be_named_from_elsewhere(busy: Program) -> None:
    outside = Program(busy.folder.parent)
    assert outside.json("--ledger", busy.folder, "balance") == busy.json("balance")
    assert outside("balance", UPRIGHT_LEDGER=str(busy.folder)).out == busy("balance").out
    assert "there is no ledger" in outside("--ledger", "nowhere", "balance", code=2).err


@pytest.mark.parametrize("command", ["gather", "stock", "build"])
def test_wrong_use_is_exit_code_2(bare: Program, command: str) -> None:
    assert "Usage:" in bare(command, code=2).err


@pytest.mark.parametrize(
    ("text", "shown"),
    [
        ("/plain", "/plain"),
        ("/café", "/café"),
        ("a\x1b[31mb", "a\\x1b[31mb"),
        ("a\nb\tc\x00", "a\\nb\\tc\\x00"),
        ("a\u202eb", "a\\u202eb"),
        ("a\udce9b", "a\\xe9b"),
    ],
)
def test_nothing_steers_a_terminal(text: str, shown: str) -> None:
    assert output.clean(text) == shown


def test_figures_and_words() -> None:
    assert [output.number(n) for n in (0, 3, 1234, 5.25, 1234.5)] == [
        "0",
        "3",
        "1,234",
        "5.2",
        "1,234",
    ]
    assert output.plural(1, "entry", "entries") == "1 entry"
    assert output.plural(1940, "page") == "1,940 pages"
    assert output.path(f"{NEW}/a", (OLD, NEW)) == "/a"
    assert output.path("https://elsewhere.example/a", (OLD, NEW)) == "https://elsewhere.example/a"
    assert output.some_of_each([1, 2, 3, 4, 5], lambda n: str(n % 2), 2) == [1, 2, 3, 4]
