"""Days and figures as exports of many countries, programs and people write them."""

from __future__ import annotations

from datetime import UTC, date, datetime
from email.utils import format_datetime
from time import asctime

import pytest
from hypothesis import given
from hypothesis import strategies as st

from conftest import OLD, Program
from upright_ledger.formats.tables.meanings.days import day_of, day_told
from upright_ledger.formats.tables.meanings.figures import number

DAYS = st.dates(date(1999, 1, 1), date(2039, 12, 31))
AS_WRITTEN = ["%Y-%m-%d", "%Y/%m/%d %H:%M", "%d.%m.%Y", "%d.%m.%Y, %H:%M", "%d %B %Y", "%d-%b-%Y",
    "%b %d, %Y", "%B %d, %Y %I:%M %p", "%d/%b/%Y:%H:%M:%S +0000", "%Y%m%d%H%M%S", "%Y. %m. %d.",
    "%Y\u5e74%m\u6708%d\u65e5", "%Y\ub144 %m\uc6d4 %d\uc77c", "%A, %B %d, %Y", "%A %d %B %Y",
    "%d.%m.%y", "%d-%b-%y"]  # fmt: skip


@given(day=DAYS, form=st.sampled_from(AS_WRITTEN))
def test_a_day_reads_back_however_it_was_written(day: date, form: str) -> None:
    time = datetime(day.year, day.month, day.day, 13, 5, 9, tzinfo=UTC)
    written = time.strftime(form)
    expected = day if "%y" not in form or day.year >= 2000 else day.replace(year=day.year + 100)
    assert day_told(written) == expected.isoformat()


@given(day=DAYS)
def test_programs_write_days_with_their_week(day: date) -> None:
    time = datetime(day.year, day.month, day.day, 13, 5, 9, tzinfo=UTC)
    assert day_of(format_datetime(time, usegmt=True)) == day.isoformat()
    assert day_of(asctime(time.timetuple())) == day.isoformat()
    assert day_told(str((day - date(1899, 12, 30)).days)) == day.isoformat()


# As Unicode's Common Locale Data Repository has the forms "full", "long", "medium" or "short".
BY_LANGUAGE = {
    "2026-01-23": ["venerd\u00ec 23 gennaio 2026", "fredag den 23. januar 2026", "23 ene 2026",
        "piatok 23. janu\u00e1ra 2026", "23 sty 2026", "2026. janu\u00e1r 23., p\u00e9ntek",
        "23 \u044f\u043d\u0432\u0430\u0440\u044f 2026\u202f\u0433.", "23 Ocak 2026 Cuma",
        "\u05d9\u05d5\u05dd \u05e9\u05d9\u05e9\u05d9, 23 \u05d1\u05d9\u05e0\u05d5\u05d0\u05e8 2026",
        "23\u200f/01\u200f/2026", "23 \u03b9\u03b1\u03bd 2026", "23 ian. 2026"],
    "2026-04-23": ["dijous, 23 d\u2019abril del 2026", "quinta-feira, 23 de abril de 2026",
        "\u010dtvrtek 23. dubna 2026", "torstai 23. huhtikuuta 2026", "23 apr 2026"],
    "2026-07-23": ["23 lipca 2026", "23. \u010dervence 2026", "23 Temmuz 2026", "23 juil. 2026",
        "23 \u043b\u0438\u043f\u043d\u044f 2026 \u0440."],
    "2026-11-23": ["23 listopada 2026", "23. listopadu 2026", "23 Kas\u0131m 2026"],
}  # fmt: skip


@pytest.mark.parametrize(("day", "cell"), [(d, c) for d, all_ in BY_LANGUAGE.items() for c in all_])
def test_months_are_known_in_the_languages_of_exports(day: str, cell: str) -> None:
    assert day_told(cell) == day


@pytest.mark.parametrize("cell", ["23. sije\u010dnja 2026.", "2026-W20-3", "26. 1. 23. x", "12",
    "46155 Besuche", "version 1.2.2026.4", "31.02.2026",
    "0000-05-13", "May 2026", "never"])  # fmt: skip
def test_what_is_no_day_or_may_be_two_is_none(cell: str) -> None:
    assert day_told(cell) == ""


@pytest.mark.parametrize("cell", ["46155", "13.05.26", "5/13/26", "Concert on 13 May 2026"])
def test_what_may_be_something_else_is_a_day_only_where_its_column_says_so(cell: str) -> None:
    assert day_of(cell) == ""


def test_days_of_a_column_are_read_or_said_to_be_none(museum: Program) -> None:
    rows = ["/a,3,5/13/26", "/b,4,06/05/26", "/c,5,some day", "/d,6,", "/e,7,n/a", "/f,8,soon"]
    museum.write("pages.csv", "\n".join(["Page,Hits,Last seen", *rows]))
    said = museum("gather", "pages.csv").out
    assert "2 cells of last seen are no day that can be read, such as 'some day' (row 4)" in (
        " ".join(said.split())
    )
    told = {e["legacy_url"]: e["last_seen"] for e in museum.json("entries")["entries"]}
    assert told[f"{OLD}/a"] == "2026-05-13"
    assert told[f"{OLD}/b"] == "2026-06-05"  # as the row above it has its month first
    assert not any(told[f"{OLD}/{name}"] for name in "cdef")


@pytest.mark.parametrize(
    ("cell", "figure"),
    [("+1234", 1234), ("~1,200", 1200), ("\u2248 1.200", 1200), ("ca. 50", 50), ("1234+", 1234),
        (">1000", 1000), ("\u2265 1000", 1000), ('="1234"', 1234), ("'56", 56), ("1234 hits", 1234),
        ("1.234 Aufrufe", 1234), ("56 Klicks", 56), ("1234 (12,5 %)", 1234), ("12 \u56de", 12),
        ("<10", None), ("-5", None), ("12 ms", None), ("5 MB", None), ("3 min", None),
        ("5 %", None), ("12 Monkeys", None), ("10-20", None), ("(12 %)", None)],
)  # fmt: skip
def test_figures_with_what_people_put_around_them(cell: str, figure: float | None) -> None:
    assert number(cell) == figure


@pytest.mark.parametrize("form", ["{} hits", "~{}", "{} (3 %)", "+{}"])
def test_no_column_of_figures_is_taken_for_titles(form: str, museum: Program) -> None:
    rows = [f"/{n},{form.format(n + 5)}" for n in range(4)]
    museum.write("pages.csv", "\n".join(["Page,Hits", *rows]))
    museum("gather", "pages.csv")
    told = {e["legacy_url"]: (e["hits"], e["title"]) for e in museum.json("entries")["entries"]}
    assert told == {f"{OLD}/{n}": (n + 5, "") for n in range(4)}
