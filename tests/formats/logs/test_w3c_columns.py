"""Logs of the W3C format read as columns say what they say line by line."""

from __future__ import annotations

from hypothesis import example, given
from hypothesis import strategies as st

from log_columns import assert_alike
from properties import in_brief
from upright_ledger.core.monitoring.deploy_days import splits_of
from upright_ledger.formats.logs.columns.w3c_scanner import W3cScanner
from upright_ledger.formats.logs.forms.w3c import W3cParser

CELLS = {
    "date": st.sampled_from(["2026-05-03", "2026-05-04", "-", "soon"]),
    "time": st.sampled_from(["10:00:00", "-", "noon"]),
    "c-ip": st.sampled_from(["10.0.0.1", "::1", "-"]),
    "cs-method": st.sampled_from(["GET", "POST", "-"]),
    "cs-uri-stem": st.sampled_from(["/a", "/ä", "/%C3%A4", "-", "", "/a\\b"]),
    "cs-uri-query": st.sampled_from(["b=1", "-", "x?y"]),
    "cs-uri": st.sampled_from(["/u", "-"]),
    "sc-status": st.sampled_from(["200", "404", "-", "40", "4O4"]),
    "cs(User-Agent)": st.sampled_from(["A/1+(x)", "A%201", "-"]),
    "cs(Referer)": st.sampled_from(["http://r.example/", "-"]),
    "cs-host": st.sampled_from(["www.quillhaven.example", "-", "localhost"]),
    "X-Host-Header": st.sampled_from(["www.quillhaven.example", "-"]),
}
FIELDS = st.lists(st.sampled_from(sorted(CELLS)), min_size=1, max_size=9, unique=True)
ODD = [
    "",
    " ",
    "#",
    "#Remark: x",
    "#Date: 2026-05-04 09:00:00",
    "one",
    "a b c",
    "/a\t404",
    "\udcff x",
]


@st.composite
def logs(draw: st.DrawFn) -> list[str]:
    lines, fields = [], draw(FIELDS)
    if draw(st.booleans()):
        fields = ["date", "cs-uri-stem", "sc-status", *(f for f in fields if f not in
            {"date", "cs-uri-stem", "sc-status"})]  # fmt: skip
    lines.append(f"#Fields: {' '.join(fields)}")
    for _ in range(draw(st.integers(1, 25))):
        kind = draw(st.integers(0, 19))
        if kind == 0:
            fields = draw(FIELDS)
            lines.append(f"#Fields: {' '.join(fields)}")
        elif kind == 1:
            lines.append(draw(st.sampled_from(ODD)))
        else:
            told = " ".join(draw(CELLS[field]) for field in fields)
            lines.append(told + draw(st.sampled_from(["", "", "\r", " "])))
    return lines


@in_brief
@given(lines=logs(), split=st.booleans())
@example(lines=["#Fields: date cs-uri-stem sc-status", "2026-05-03 /a 404"] * 2, split=False)
@example(lines=["2026-05-03 /a 404", "#Fields: date cs-uri-stem sc-status"], split=False)
def test_columns_say_what_the_parser_says(lines: list[str], split: bool) -> None:
    splits = splits_of(("2026-05-03T09:00:00Z",), 0) if split else ()
    assert_alike(lines, W3cScanner(noise={}, splits=splits), W3cParser())


def test_most_lines_are_read_as_columns_but_those_of_a_day_that_is_taken_apart() -> None:
    head = "#Fields: date time cs-uri-stem sc-status cs(User-Agent)"
    rows = [f"2026-05-0{1 + n % 3} 10:00:00 /a{n} 404 A/1" for n in range(30)]
    splits = splits_of(("2026-05-03T09:00:00Z",), 0)
    assert assert_alike([head, *rows], W3cScanner(noise={}, splits=()), W3cParser()) == 30
    assert assert_alike([head, *rows], W3cScanner(noise={}, splits=splits), W3cParser()) == 20
