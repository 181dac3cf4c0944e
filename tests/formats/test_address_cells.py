"""Cells of addresses with something around them: words, remarks, further addresses, line breaks."""

from __future__ import annotations

import csv
import io
from collections.abc import Sequence

import pytest

from conftest import OLD, Program
from upright_ledger.formats.tables.meanings.address_cells import told_address


def written(rows: Sequence[Sequence[object]]) -> str:
    """Rows as CSV."""
    text = io.StringIO()
    csv.writer(text).writerows(rows)
    return text.getvalue()


def hits(museum: Program) -> dict[str, float]:
    """Legacy address → hits."""
    return {e["legacy_url"]: e["hits"] for e in museum.json("entries")["entries"]}


BEHIND_WORDS = [
    (f"\u2022 {OLD}/a", f"{OLD}/a"),
    (f"1. {OLD}/a", f"{OLD}/a"),
    (f"Clock room | {OLD}/a?b=1", f"{OLD}/a?b=1"),
    (f"Clock room ({OLD}/a)", f"{OLD}/a"),
    (f"URL: {OLD}/a", f"{OLD}/a"),
    (f"GET {OLD}/a", f"{OLD}/a"),
    ("GET /a HTTP/1.1", "/a"),
    ("HEAD /a", "/a"),
    ("get /a", "/a"),
    ("GET /a?q=b c HTTP/2", "/a?q=b c"),
    (f"{OLD}/a \u2192 404", f"{OLD}/a"),
    ("/a => gone", "/a"),
    (f"{OLD}/a (404)", f"{OLD}/a"),
    (f"{OLD}/a (opens in a new tab)", f"{OLD}/a"),
    ("url('/a')", "/a"),
    (f"[{OLD}/a]({OLD}/a)", f"{OLD}/a"),
]
AS_THEY_ARE = [
    f"{OLD}/two words",
    "/two words",
    f"/the road to {OLD}/a",
    f"Total for {OLD}/",
    f"one {OLD}/a two {OLD}/b",
    f"see {OLD}/a for more",
    "GET well soon",
    "Clock room",
    "GET *",
    f"{OLD}/clock (1)",
    f"{OLD}/annual report (last edition)",
    "/clocks (in German)",
    "10 -> 12",
]


@pytest.mark.parametrize(
    ("cell", "address"), [*BEHIND_WORDS, *((cell, cell) for cell in AS_THEY_ARE)]
)
def test_an_address_stands_behind_words(cell: str, address: str) -> None:
    assert told_address(cell) == address


def test_rows_whose_address_has_words_around_it_keep_their_figures(museum: Program) -> None:
    cells = [cell.replace("/a", f"/p{n}") for n, (cell, _) in enumerate(BEHIND_WORDS)]
    rows = [["Page", "Hits"], [f"{OLD}/plain", 90], *([c, n + 1] for n, c in enumerate(cells))]
    museum.write("pages.csv", written(rows))
    museum("gather", "pages.csv")
    ends = [address.partition("?")[2] for _, address in BEHIND_WORDS]
    told = [f"{OLD}/p{n}" + (f"?{end}" if end else "") for n, end in enumerate(ends)]
    told = [address.replace(" ", "%20") for address in told]
    assert hits(museum) == {
        f"{OLD}/plain": 90,
        **{address: n + 1 for n, address in enumerate(told)},
    }


def test_a_note_below_a_table_is_no_page(museum: Program) -> None:
    museum.write("pages.csv", f"Page,Hits\n{OLD}/plain,9\nSource: {OLD}/report,\n")
    museum("gather", "pages.csv")
    assert [e["legacy_url"] for e in museum.json("entries")["entries"]] == [f"{OLD}/plain"]


@pytest.mark.parametrize("between", [" ", "; ", "\n", " \u2192 ", " and ", ",", ";", " | ", "|"])
def test_whose_figures_are_those_of_several_addresses_is_not_known(
    between: str, museum: Program
) -> None:
    cell = f"{OLD}/a{between}{OLD}/b"
    museum.write("pages.csv", written([["Page", "Hits"], [f"{OLD}/plain", 9], [cell, 7]]))
    said = museum("gather", "pages.csv")
    assert "line 3: its URL cell holds several addresses" in said.out + said.err
    assert hits(museum) == {f"{OLD}/plain": 9}


@pytest.mark.parametrize("end", [" (opens in a new tab)", " [extern]", " \u2013 neu", " - (kopia)"])
def test_what_stands_behind_every_address_is_no_part_of_it(end: str, museum: Program) -> None:
    rows = [["Page", "Hits"], *([f"/visit/{n} hours{end}" if n == 5 else f"/{n}{end}", n + 1]
        for n in range(6))]  # fmt: skip
    museum.write("pages.csv", written(rows))
    museum("gather", "pages.csv")
    assert hits(museum) == {
        f"{OLD}/visit/5%20hours" if n == 5 else f"{OLD}/{n}": n + 1 for n in range(6)
    }


def test_names_with_blanks_that_end_alike_stay_as_they_are(museum: Program) -> None:
    names = [f"/{season} hours" for season in ("summer", "winter", "easter", "advent")]
    museum.write("pages.csv", written([["Page", "Hits"], *([name, 1] for name in names)]))
    museum("gather", "pages.csv")
    assert set(hits(museum)) == {f"{OLD}{name.replace(' ', '%20')}" for name in names}


@pytest.mark.parametrize(
    ("cell", "address"),
    [
        (f"{OLD}/\nclocks/tall.html", f"{OLD}/clocks/tall.html"),
        (f"{OLD}/shop?b=7&\nc=2", f"{OLD}/shop?b=7&c=2"),
        (f"{OLD}/clocks\nThe clock room", f"{OLD}/clocks"),
        (f"{OLD}/clocks\n404", f"{OLD}/clocks"),
        (f"The clock room\n{OLD}/clocks", f"{OLD}/clocks"),
        (f"{OLD}/visit/open\ning.html", ""),
        (f"{OLD}/clocks\n/tall.html", ""),
        ("/clocks/\n/bells/", ""),
    ],
)
def test_a_line_break_in_a_cell_ends_an_address_only_where_that_is_sure(
    cell: str, address: str, museum: Program
) -> None:
    museum.write("pages.csv", written([["Page", "Hits"], [f"{OLD}/plain", 9], [cell, 7]]))
    said = museum("gather", "pages.csv")
    assert hits(museum) == {f"{OLD}/plain": 9} | ({address: 7} if address else {})
    assert ("a line break in its URL cell" in said.out + said.err) == (not address)


def test_rows_of_words_and_addresses_are_a_table_though_no_heading_is_known(
    museum: Program,
) -> None:
    rows = [f"Side {n} \u2013 {OLD}/{n},{n + 1}" for n in range(4)]
    museum.write("pages.csv", "\n".join(["Sidenavn,Antal", *rows]))
    museum("gather", "pages.csv")
    assert hits(museum) == {f"{OLD}/{n}": n + 1 for n in range(4)}


def test_figures_below_a_heading_that_nobody_knows_are_said_to_be_left_out(museum: Program) -> None:
    rows = [f"\u30da\u30fc\u30b8 {OLD}/{n},{n + 1}" for n in range(4)]
    museum.write("pages.csv", "\n".join(["\u30da\u30fc\u30b8,\u56de\u6570", *rows]))
    assert "columns that are not used: \u56de\u6570" in museum("gather", "pages.csv").out
    assert hits(museum) == {f"{OLD}/{n}": 0 for n in range(4)}


def test_sentences_with_commas_stay_sentences(museum: Program) -> None:
    lines = [f"We moved {OLD}/{n}, and {n} more" for n in range(4)]
    museum.write("note.txt", "\n".join(lines))
    museum("gather", "note.txt")
    assert set(hits(museum)) == {f"{OLD}/{n}" for n in range(4)}


def test_pairs_and_pages_with_something_around_their_addresses(museum: Program) -> None:
    new = "https://www.quillhaven.example/new"
    museum.write("old.csv", written([["Page"], [f"{OLD}/a"], [f"{OLD}/b"]]))
    museum("gather", "old.csv")
    museum.write("pages.csv", written([["URL", "Title"], [f"\u2022 {new}/a", "A"],
        [f"Page ({new}/b)", "B"], [f"{new}/c,{new}/d", "C"]]))  # fmt: skip
    said = museum("stock", "pages.csv")
    assert "its URL cell holds several addresses" in said.out + said.err
    museum.write("pairs.csv", written([["Old", "New"], [f"\u2022 {OLD}/a",
        f"{new}/a (checked by us)"],
        [f"GET {OLD}/b", f"Page: {new}/b"], [f"{OLD}/a", f"{new}/a, {new}/b"]]))  # fmt: skip
    museum("decide", "--from", "pairs.csv", code=1)
    told = {e["legacy_url"]: e["destination"] for e in museum.json("entries")["entries"]}
    assert told == {f"{OLD}/a": f"{new}/a", f"{OLD}/b": f"{new}/b"}
