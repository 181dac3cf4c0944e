"""Lines of entries: whatever is done, in whatever order, they are what the facts amount to, and
what is worked out step by step is what is worked out at once.
"""

from __future__ import annotations

import sqlite3
from collections.abc import Iterator
from contextlib import closing, contextmanager, suppress
from fnmatch import fnmatchcase
from itertools import count
from pathlib import Path
from tempfile import TemporaryDirectory

from hypothesis import given
from hypothesis import strategies as st

from conftest import OLD, Program
from ledgers import fresh_ledger
from properties import in_brief
from slow_lines import lines_stand
from upright_ledger.app.collect.fold import folding
from upright_ledger.app.collect.gather import gather
from upright_ledger.app.collect.stock import stock
from upright_ledger.app.decide.decide import decide_one
from upright_ledger.app.decide.decide_template import decide_template
from upright_ledger.app.decide.sheets.decide_list import decide_from
from upright_ledger.app.journal import undo
from upright_ledger.core.inventory.answer import AnswerKind, usual
from upright_ledger.errors import UprightError
from upright_ledger.ledger.lines import working_out
from upright_ledger.ledger.lines.keeping import restate
from upright_ledger.ledger.lines.listing import Filters, count_fitting, find_entries
from upright_ledger.ledger.lines.state import days_of_lines
from upright_ledger.ledger.store import Ledger
from upright_ledger.ledger.tables.entries import load_entries

PATHS = ("/a", "/A", "/a/", "/b/1.html", "/b/2.html", "/b/3.html", "/b/4.html", "/c", "/index.html")
UNITS = ("hits", "visits", "clicks", "impressions", "referring domains", "backlinks")
PERIODS = (("", ""), ("2026-05-01", "2026-05-31"), ("2026-05-20", "2026-06-03"))
AGENTS = ("Mozilla/5.0 (X11; Linux x86_64; rv:140.0) Gecko/20100101 Firefox/140.0", "curl/8")
SHARED = ["https://new.example", OLD]


def table(seed: list[tuple[str, int]], units: tuple[str, ...]) -> str:
    rows = (
        f"{OLD}{path},{','.join(str(n + k) for k in range(len(units)))},T{n}" for path, n in seed
    )
    return "\n".join((f"url,{','.join(units)},title", *rows)) + "\n"


def log(seed: list[tuple[str, int]]) -> str:
    return "".join(
        f'192.0.2.{n} - - [{n % 20 + 1:02}/May/2026:10:00:{k:02} +0000] "GET {path} HTTP/1.1" '
        f'{(200, 404, 301, 410)[n % 4]} 1 "-" "{AGENTS[n % 7 == 0]}"\n'
        for k, (path, n) in enumerate(seed)
    )


ROWS = st.lists(st.tuples(st.sampled_from(PATHS), st.integers(1, 60)), min_size=1, max_size=8)
DEEDS = st.lists(
    st.one_of(
        st.tuples(st.just("table"), ROWS, st.sampled_from(UNITS), st.sampled_from(PERIODS)),
        st.tuples(st.just("log"), ROWS),
        st.tuples(st.just("stock"), ROWS),
        st.tuples(st.just("pairs"), ROWS),
        st.tuples(st.just("list"), ROWS),
        st.tuples(st.just("decide"), st.sampled_from(PATHS), st.sampled_from(["gone", "ignore"])),
        st.tuples(st.just("template"), st.sampled_from(["/b/{n}.html", "/{x}"])),
        st.tuples(st.just("fold"), st.sampled_from(["fold", "exact"])),
        st.tuples(st.just("undo"), st.integers(1, 2)),
    ),
    min_size=1,
    max_size=7,
)


def do(ledger: Ledger, folder: Path, number: int, deed: tuple[object, ...]) -> None:
    """One command."""
    match deed:
        case ("table", rows, unit, period):
            file = folder / f"{number}.csv"
            file.write_text(table(rows, (unit, "visits") if unit != "visits" else (unit,)))
            gather(ledger, [str(file)], period=period)
        case ("log", rows):
            (folder / f"{number}.log").write_text(log(rows))
            gather(ledger, [str(folder / f"{number}.log")])
        case ("stock", rows):
            (folder / f"{number}.csv").write_text(
                "url,status\n" + "".join(f"{OLD}{path},{200 + n % 2 * 204}\n" for path, n in rows)
            )
            stock(ledger, [folder / f"{number}.csv"])
        case ("pairs", rows):
            (folder / f"{number}.csv").write_text(
                "old,new\n"
                + "".join(f"{OLD}{path},https://new.example/{n % 3}/\n" for path, n in rows)
            )
            decide_from(ledger, folder / f"{number}.csv")
        case ("list", rows):
            (folder / f"{number}.txt").write_text("".join(f"{OLD}{path}\n" for path, _ in rows))
            gather(ledger, [str(folder / f"{number}.txt")])
        case ("decide", path, kind):
            decide_one(ledger, str(path), usual(AnswerKind(str(kind))))
        case ("template", source):
            decide_template(ledger, str(source), usual(AnswerKind.GONE))
        case ("fold", case):
            folding(ledger, case=str(case))
        case ("undo", times):
            undo(ledger, int(str(times)))


def kept(ledger: Ledger) -> list[str]:
    """All that is worked out and kept, but for when."""
    with ledger.reading() as connection:
        rows = [
            row
            for statement in ("SELECT * FROM entry_lines", "SELECT name, value FROM kept")
            for row in connection.rows(statement)
        ]
    return sorted(map(repr, rows))


@contextmanager
def in_portions() -> Iterator[None]:
    """Few entries are worked out as many are: in columns, portion by portion."""
    usual = working_out.FEW, working_out.PORTION
    working_out.FEW, working_out.PORTION = 0, 2
    try:
        yield
    finally:
        working_out.FEW, working_out.PORTION = usual


@in_brief
@given(deeds=DEEDS, shared=st.booleans())
def test_lines_are_what_the_facts_amount_to_however_they_came(
    deeds: list[tuple[object, ...]], shared: bool
) -> None:
    ledger = fresh_ledger([OLD], SHARED if shared else SHARED[:1])
    numbers = count()
    with TemporaryDirectory() as held:
        for deed in deeds:
            with suppress(UprightError):
                do(ledger, Path(held), next(numbers), deed)
            lines_stand(f"sqlite:///{ledger.own_file}")
            step_by_step = kept(ledger)
            with ledger.writing() as connection:
                restate(connection, ledger.settings)
            assert kept(ledger) == step_by_step, deed
            with in_portions(), ledger.writing() as connection:
                restate(connection, ledger.settings)
            assert kept(ledger) == step_by_step, deed


def test_what_a_log_said_counts_for_an_entry_that_a_list_lets_it_belong_to() -> None:
    """Nobody but a bot asked for an address that was answered, until a list names it."""
    ledger = fresh_ledger([OLD], SHARED[:1])
    deeds = (("log", [("/b", 21), ("/a", 1)]), ("decide", "/b", "gone"), ("list", [("/b", 1)]))
    with TemporaryDirectory() as held:
        for number, deed in enumerate(deeds):
            do(ledger, Path(held), number, deed)
            lines_stand(f"sqlite:///{ledger.own_file}")
    with ledger.reading() as connection:
        (b,) = (e for e in load_entries(connection) if e.key == "/b")
    assert (b.evidence.bot_requests, b.sources, b.variants) == (1, (1, 2), ("/b",))


def test_a_log_counts_as_soon_as_a_list_lets_it_name_an_entry() -> None:
    ledger = fresh_ledger([OLD], SHARED[:1])
    with TemporaryDirectory() as held:
        for number, deed in enumerate((("log", [("/b", 21)]), ("list", [("/b", 1)]))):
            do(ledger, Path(held), number, deed)
    with ledger.writing() as connection:
        assert days_of_lines(connection) == 1
        restate(connection, ledger.settings)
        assert days_of_lines(connection) == 1


def test_other_weights_and_sections_count_at_once(museum: Program) -> None:
    museum.write("old.csv", "url,hits,linking domains\n/a/1,10,0\n/b/1,1,3\n")
    museum("gather", "old.csv")
    first = lambda: museum.json("entries", "--limit", "1")["entries"][0]  # noqa: E731
    assert first()["legacy_url"].endswith("/b/1")
    settings = museum.folder / "upright.toml"
    settings.write_text(
        settings.read_text()
        .replace("linking_domains = 5.0", "linking_domains = 0.5")
        .replace("[sections]", '[sections]\narchive = "/a/*"')
    )
    assert (first()["section"], first()["value"]) == ("archive", 10.0)
    assert museum.json("entries", "--section", "archive")["matching"] == 1
    settings.write_text(settings.read_text().replace("traffic = 1.0", "traffic = 7.0"))
    with closing(sqlite3.connect(museum.folder / "ledger.db", isolation_level=None)) as busy:
        busy.execute("BEGIN IMMEDIATE")  # who reads does not wait for who writes
        assert first()["value"] == 70.0


PATTERNS = (
    "%41", "*%4*", "a_b", "*a_b*", "/a?b*", "*[ab].html", "*[!a].html", "É", "*caf%c3*", "*A_*",
    "\\", "*\\*", "*100%*", "http*", "*", "quillhaven",
)  # fmt: skip


def test_patterns_find_what_they_name_whatever_signs_they_hold() -> None:
    ledger = fresh_ledger([OLD], SHARED[:1])
    paths = (
        "/a_b", "/axb", "/a%25b", "/100%25", "/x/a.html", "/x/b.html", "/x/c.html", "/caf%C3%A9",
        "/%41bc", "/ab", "/p.php?q=a_b",
    )  # fmt: skip
    with TemporaryDirectory() as held:
        (Path(held) / "list.txt").write_text("".join(f"{OLD}{path}\n" for path in paths))
        gather(ledger, [str(Path(held) / "list.txt")])
    with ledger.reading() as connection:
        entries = load_entries(connection)
        for pattern in PATTERNS:
            low = pattern.lower()
            due = {
                e.id
                for e in entries
                if (
                    fnmatchcase(e.legacy_url.lower(), low) or fnmatchcase(e.key.lower(), low)
                    if "*" in low
                    else low in e.legacy_url.lower()
                )
            }
            assert set(find_entries(connection, Filters(pattern))) == due, pattern
            assert count_fitting(connection, Filters(pattern)) == len(due), pattern
