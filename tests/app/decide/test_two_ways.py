"""One work done in two ways: by options and by sheets, in any order, out of a ledger and into
another, and on either database.
"""

from __future__ import annotations

import csv
import io
import random
from collections.abc import Iterator
from pathlib import Path

import openpyxl
import pytest
from hypothesis import given
from hypothesis import strategies as st

from conftest import OLD, Program, opened
from properties import thorough
from upright_ledger.core.matching import MatchPage, propose

NEW = "https://new.example"
PATHS = ["/a", "/b/x", "/caf%C3%A9", "/p.php?i=1", "/p.php?i=2", "/q?x=a%20b", "/long-name", "/z"]
ANSWERS = [("move", "/n", "301"), ("temporary", "/m/?y=1", "302"), ("gone", "", "410"),
    ("keep", "", "keep"), ("ignore", "", "ignore"), ("wanted", "", "wanted")]  # fmt: skip


def shown(program: Program) -> dict[str, tuple[str, int, str]]:
    return {
        e["legacy_url"]: (e["answer"], e["status"], e["destination"])
        for e in program.json("entries", "--limit", "0")["entries"]
    }


def by_options(program: Program, rows: list[tuple[str, tuple[str, str, str]]]) -> None:
    for path, (kind, goal, status) in rows:
        words = ("--to", goal, "--status", status) if goal else (f"--{kind}",)
        program("decide", path, *words)


def by_csv(program: Program, rows: list[tuple[str, tuple[str, str, str]]]) -> None:
    out = io.StringIO()
    csv.writer(out, delimiter=";").writerows([["old", "new", "status"]] + [
        [OLD + path, goal and NEW + goal, status] for path, (_, goal, status) in rows])  # fmt: skip
    program.write("pairs.csv", out.getvalue())
    program("decide", "--from", "pairs.csv")


def by_workbook(program: Program, rows: list[tuple[str, tuple[str, str, str]]]) -> None:
    book = openpyxl.Workbook()
    sheet = book.active
    assert sheet is not None
    sheet.append(["Status", "Old URL", "New URL"])
    for path, (_, goal, status) in rows:
        sheet.append([status, path, goal])
    book.save(program.folder / "pairs.xlsx")
    program("decide", "--from", "pairs.xlsx", "--column", "old=Old URL", "--column", "new=New URL")


def by_review(program: Program, rows: list[tuple[str, tuple[str, str, str]]]) -> None:
    program.write("urls.txt", "".join(f"{OLD}{path}\n" for path, _ in rows))
    program("gather", "urls.txt")
    program("review", "--out", "sheet.csv")
    with (program.folder / "sheet.csv").open(newline="", encoding="utf-8-sig") as file:
        reader = csv.DictReader(file)
        cards = list(reader)
        names = list(reader.fieldnames or ())
    told = {OLD + path: answer for path, answer in rows}
    for card in cards:
        kind, goal, status = told[card["legacy_url"]]
        card["answer"], card["destination"] = kind, goal and NEW + goal
        card["status"] = status if goal else ""
    with (program.folder / "sheet.csv").open("w", newline="", encoding="utf-8") as file:
        writer = csv.DictWriter(file, names)
        writer.writeheader()
        writer.writerows(cards)
    program("review", "--in", "sheet.csv")


@pytest.mark.parametrize("seed", range(3))
def test_options_sheets_workbooks_and_reviews_post_the_same_answers(
    seed: int, tmp_path: Path
) -> None:
    rng = random.Random(seed)
    rows = [(path, rng.choice(ANSWERS)) for path in rng.sample(PATHS, 5)]
    ways = (by_options, by_csv, by_workbook, by_review)
    found = []
    for n, way in enumerate(ways):
        program = opened(tmp_path / str(n) / "own", "--old", OLD, "--new", NEW)
        way(program, rows if n % 2 else rows[::-1])
        found.append(shown(program))
    assert found[1:] == found[:1] * 3
    assert len(found[0]) == 5


def test_what_is_built_for_one_ledger_is_what_another_takes_in(
    tmp_path: Path,
) -> None:
    """Export, then import: the same rules, to the byte."""
    first, second = (
        opened(tmp_path / n / "own", "--old", OLD, "--new", NEW) for n in ("one", "two")
    )
    by_options(first, [(p, ANSWERS[n % 3]) for n, p in enumerate(PATHS)])
    first("decide", "/t/{x|digits}/{+rest}", "--to", "/n/{rest}?x={x}", "--query", "carry")
    first("decide", "/u/{y}", "--gone", "--query", "drop")
    for server in ("nginx", "apache", "haproxy"):
        first("build", "--for", server, "--out", server)
    second("decide", "--from", first.folder / "nginx/redirects.csv")
    for server in ("nginx", "apache", "haproxy"):
        second("build", "--for", server, "--out", server)
        for path in (first.folder / server).rglob("*"):
            if path.is_file() and path.name not in {"manifest.json", "changes.csv"}:
                other = second.folder / server / path.relative_to(first.folder / server)
                assert other.read_bytes() == path.read_bytes(), path


def lists(folder: Path, seed: int) -> Iterator[Path]:
    """Lists of several kinds that name the same addresses, spelled in several ways."""
    rng = random.Random(seed)
    for n in range(4):
        urls = [OLD + rng.choice((p, p.upper() if "?" not in p else p, p + "#x")) for p in PATHS]
        rng.shuffle(urls)
        path = folder / f"{n}.{('txt', 'csv', 'txt', 'xml')[n]}"
        if path.suffix == ".csv":
            path.write_text("url,clicks\n" + "".join(f"{u},{n + 1}\n" for u in urls))
        elif path.suffix == ".xml":
            body = "".join(f"<url><loc>{u.replace('&', '&amp;')}</loc></url>" for u in urls)
            path.write_text(
                f'<urlset xmlns="http://www.sitemaps.org/schemas/sitemap/0.9">{body}</urlset>'
            )
        else:
            path.write_text(f"# {n}\n" + "\n".join(urls) + "\n")
        yield path


@pytest.mark.parametrize("seed", range(3))
def test_gathered_in_any_order_or_all_at_once_the_ledger_is_the_same(
    seed: int, tmp_path: Path
) -> None:
    files = list(lists(tmp_path, seed))
    found = []
    for n, order in enumerate((files, files[::-1], random.Random(seed).sample(files, len(files)))):
        program = opened(tmp_path / str(n) / "own", "--old", OLD, "--new", NEW)
        if n == 2:
            program("gather", *order)
        for path in order if n < 2 else ():
            program("gather", path)
        entries = program.json("entries", "--limit", "0")["entries"]
        for entry in entries:
            entry["sources"] = sorted(entry["sources"])
        found.append(
            (entries, {k: v for k, v in program.json("balance").items() if k != "sources"})
        )
    assert found[1:] == found[:1] * 2


WORDS = st.lists(
    st.sampled_from(["tower", "clock", "bell", "oak", "dial", "case", "hour"]), min_size=2,
    max_size=3, unique=True,
)  # fmt: skip


@thorough
@given(st.lists(WORDS, min_size=4, max_size=8, unique_by=tuple), st.integers(0, 3))
def test_the_same_title_on_both_sides_takes_no_confidence_away(
    names: list[list[str]], at: int
) -> None:
    """Evidence that speaks for a page never speaks against it."""

    def pages(title: str) -> tuple[list[MatchPage], list[MatchPage]]:
        old = [
            MatchPage(f"o{n}", f"/old/{'-'.join(words)}.html", title if n == at else "")
            for n, words in enumerate(names)
        ]
        new = [
            MatchPage(f"n{n}", f"/new/{'-'.join(words)}/", title if n == at else "")
            for n, words in enumerate(names)
        ]
        return old, new

    def confidence(title: str) -> float:
        found = propose(*pages(title)).found.get(f"o{at}", [])
        return next((p.confidence for p in found if p.name == f"n{at}"), 0.0)

    assert confidence(" ".join(names[at])) >= confidence("") - 1e-9
