"""Cells of tables: addresses that were damaged, days, columns, and rows that are accounted for."""

from __future__ import annotations

import csv
import io

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from conftest import OLD, Program
from upright_ledger.app.begin.open_ledger import open_new
from upright_ledger.app.collect.gather import gather
from upright_ledger.core.url.repair import mend
from upright_ledger.errors import InputError
from upright_ledger.formats.records import ReadOptions
from upright_ledger.formats.tables.meanings.days import day_of
from upright_ledger.formats.tables.meanings.figures import number
from upright_ledger.ledger.tables.entries import count_entries


@pytest.mark.parametrize(
    ("text", "mended", "kind"),
    [
        (f"{OLD}/a.", f"{OLD}/a", "pasted punctuation"),
        (f"({OLD}/a)", f"{OLD}/a", "pasted punctuation"),
        (f"\u201c{OLD}/a\u201d,", f"{OLD}/a", "pasted punctuation"),
        (f"{OLD}/a_(b)", f"{OLD}/a_(b)", ""),
        (f"{OLD}/caf\u00c3\u00a9", f"{OLD}/caf\u00e9", "mojibake"),
        ("/caf%C3%83%C2%A9", "/caf%C3%A9", "mojibake"),
        ("/caf\u00e9", "/caf\u00e9", ""),
        ("/a?b=1&amp;c=2", "/a?b=1&c=2", "HTML entities"),
        ("/a?copy=1&copy=2", "/a?copy=1&copy=2", ""),
        ("http:/www.quillhaven.example/a", f"{OLD}/a", "damaged scheme"),
        (f"http://{OLD}/a", f"{OLD}/a", "damaged scheme"),
        ("http ://www.quillhaven.example/a", f"{OLD}/a", "damaged scheme"),
        ("HTTP : // www.quillhaven.example/a", f"{OLD}/a", "damaged scheme"),
        (f"view-source:{OLD}/a", f"{OLD}/a", "damaged scheme"),
        ("hxxp://www.quillhaven.example/a", f"{OLD}/a", "damaged scheme"),
        ("http://www[.]quillhaven[.]example/a", f"{OLD}/a", "damaged host"),
        (f"{OLD}/a[.]b", f"{OLD}/a[.]b", ""),
        ("/two words", "/two%20words", "blanks inside"),
        ("/zero\u200bwidth", "/zerowidth", "invisible characters"),
        (f"https://archive.example/web/20160312084512/{OLD}/a", f"{OLD}/a", "archive prefix"),
        (f"https://archive.example/web/2016id_/{OLD}/a", f"{OLD}/a", "archive prefix"),
    ],
)
def test_damage_is_mended_and_named(text: str, mended: str, kind: str) -> None:
    found = mend(text)
    assert found.text == mended
    assert found.mends == ((kind,) if kind else ())


def test_mending_is_reported_and_an_archives_date_is_kept(museum: Program) -> None:
    museum.write("urls.txt", f"{OLD}/a.\nhttps://archive.example/web/20160312084512/{OLD}/b\n")
    source = museum.json("gather", "urls.txt")["sources"][0]
    assert source["mended"] == {"pasted punctuation": 1, "archive prefix": 1}
    assert museum.json("entries", "/b")["last_seen"] == "2016-03-12"


@pytest.mark.parametrize(
    ("cell", "day"),
    [
        ("2026-05-03T10:00:00Z", "2026-05-03"),
        ("03.05.2026", "2026-05-03"),
        ("3/5/2026", "2026-05-03"),
        ("5/13/2026", "2026-05-13"),
        ("20260503", "2026-05-03"),
        ("May 3, 2026", "2026-05-03"),
        ("3. Mai 2026", "2026-05-03"),
        ("Tue, 05 May 2026 10:00:00 GMT", "2026-05-05"),
        ("2026-02-30", ""),
        ("soon", ""),
    ],
)
def test_days_as_exports_write_them(cell: str, day: str) -> None:
    assert day_of(cell) == day


@pytest.mark.parametrize(
    ("cell", "day"),
    [
        ("1777802400", "2026-05-03"),
        ("1777802400.25", "2026-05-03"),
        ("1777802400123", "2026-05-03"),
        ("2026-05-03", "2026-05-03"),
        ("17778024001", ""),
        ("177780240", ""),
        ("never", ""),
    ],
)
def test_a_time_may_be_told_in_seconds_since_1970(cell: str, day: str, museum: Program) -> None:
    museum.write("x.csv", f"ts,path,code\n{cell},/a,404\n")
    museum("gather", "x.csv")
    assert museum.json("entries", "/a")["last_seen"] == day


def test_a_column_must_be_one_that_means_something(museum: Program) -> None:
    museum.write("x.csv", "url,n\n/a,1\n")
    assert "no column means 'price'" in museum("gather", "x.csv", "--column", "price=n", code=2).err
    assert (
        "no column 'nowhere'" in museum("gather", "x.csv", "--column", "visits=nowhere", code=3).err
    )
    assert "no kind of file" in museum("gather", "x.csv", "--kind", "parchment", code=2).err


CELL = st.one_of(
    st.sampled_from(["/a", f"{OLD}/b?x=1", "", "Total", "12", "1.234,5", "\u201c/c\u201d",
        "two words", "=1+1", "#", "/x.css", "http://", "a\nb"]),
    st.text(st.characters(exclude_categories=("Cs", "Cc")), max_size=12),
)  # fmt: skip


@settings(max_examples=20)
@given(
    rows=st.lists(st.lists(CELL, min_size=1, max_size=4), min_size=1, max_size=12),
    width=st.integers(2, 4),
)
def test_every_row_of_a_table_is_accounted_for(
    rows: list[list[str]], width: int, tmp_path_factory: pytest.TempPathFactory
) -> None:
    folder = tmp_path_factory.mktemp("rows")
    header = ["url", "clicks", "title", "status"][:width]
    text = io.StringIO()
    csv.writer(text).writerows([header, ["/sure", *["1"] * (width - 1)], *rows])
    (folder / "export.csv").write_text(text.getvalue(), encoding="utf-8")
    ledger = open_new(folder / "ledger", [OLD], ["https://new.example"])
    try:
        (result,) = gather(ledger, [str(folder / "export.csv")], ReadOptions(kind="table")).sources
    except InputError:
        return  # refused whole: no row of the chosen column can be read
    assert result.lines == result.accepted + result.set_aside + result.rejected == len(rows) + 1
    with ledger.reading() as connection:
        assert count_entries(connection) == gather(ledger, [str(folder / "export.csv")]).entries


@pytest.mark.parametrize(
    ("cell", "value"),
    [
        ("1,234", 1234),
        ("1.234", 1234),
        ("1 234", 1234),
        ("1.234.567", 1234567),
        ("12.5", 12.5),
        ("12,5", 12.5),
        ("7", 7),
        ("", None),
        ("n/a", None),
        ("5 %", None),
        ("1 234,5", 1234.5),
        ("1.234,5", 1234.5),
        ("1,234.5", 1234.5),
        ("12,34,567", 1234567),
        ("1’234", 1234),
    ],
)
def test_figures_of_several_countries(cell: str, value: float | None) -> None:
    assert number(cell) == value


@pytest.mark.parametrize("text", ["7" * 400, " ".join(["777"] * 200), f"1,{'234,' * 150}234"])
def test_a_figure_beyond_all_counting_is_none(text: str) -> None:
    assert number(text) is None


@pytest.mark.parametrize(
    ("cell", "figure"),
    [("1.2K", 1200), ("3,4 Mio.", 3_400_000), ("12k", 12_000), ("5 Tsd.", 5000), ("2M", 2_000_000),
        ("2 MB", None), ("K", None), ("1.2.3K", None)],
)  # fmt: skip
def test_figures_as_reports_shorten_them(cell: str, figure: float | None) -> None:
    assert number(cell) == figure
