"""Hostile files: their size decides how long they take, and none ends in a traceback or an
abort.
"""

from __future__ import annotations

import random
import time
from collections.abc import Callable
from io import BytesIO
from pathlib import Path
from tempfile import TemporaryDirectory
from zipfile import ZipFile

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from conftest import NEW, OLD, Program
from hostile import PIECES, WRITERS, mutated, mutated_workbook, workbook, write
from ledgers import fresh_ledger
from properties import in_brief
from upright_ledger.app.collect.gather import gather
from upright_ledger.app.collect.stock import stock
from upright_ledger.app.decide.sheets.decide_list import decide_from
from upright_ledger.app.move_state import MoveState
from upright_ledger.app.prove.request_files import read_requests
from upright_ledger.errors import UprightError
from upright_ledger.formats.from_to import are_pairs, is_frame
from upright_ledger.formats.html.content import read_facts
from upright_ledger.formats.html.page_head import read_page
from upright_ledger.formats.logs.forms.line_fields import fields_of, plain_line
from upright_ledger.formats.logs.forms.line_objects import is_object
from upright_ledger.formats.logs.log_formats import is_log
from upright_ledger.formats.logs.record_texts import reader_of
from upright_ledger.formats.tables.lines.drawn_tables import is_drawn
from upright_ledger.formats.tables.meanings.address_cells import linked_address
from upright_ledger.formats.tables.rows.named_rows import are_named_rows
from upright_ledger.ledger.store import Ledger

SIZE = 6_000
TIMES = 4
SQUARE = TIMES * TIMES
"""How many times as long a work takes for so many times the size, if it grows with its square."""
NO_MATTER = 0.8
"""Seconds of this process for the larger size that are no matter, whatever the smaller one took."""


def try_all(ledger: Ledger, file: Path) -> None:
    """Give a file to every task that reads files. Only errors in words may come of it."""
    tasks: tuple[Callable[[], object], ...] = (
        lambda: gather(ledger, [str(file)]),
        lambda: stock(ledger, [file]),
        lambda: decide_from(ledger, file),
        lambda: read_requests(MoveState(ledger), [str(file)]),
    )
    for task in tasks:
        try:
            task()
        except UprightError:
            continue


def grows_evenly(work: Callable[[int], None]) -> None:
    """What grows with the square of a size, or faster, fails. Counted is this process's own time,
    in ratios far from each other (4 and 16), and thrice: a busy machine decides nothing.
    """
    ratios = []
    for _ in range(3):
        took = []
        for size in (SIZE, TIMES * SIZE):
            begun = time.process_time()
            work(size)
            took.append(time.process_time() - begun)
        ratios.append(took[1] / took[0])
        if took[1] < NO_MATTER or ratios[-1] < SQUARE / 2:
            return
    raise AssertionError(ratios)


@settings(in_brief, max_examples=max(12, in_brief.max_examples // 3))
@given(piece=st.sampled_from(PIECES), name=st.sampled_from(sorted(WRITERS)))
def test_time_grows_with_the_size(piece: str, name: str) -> None:
    def work(size: int) -> None:
        with TemporaryDirectory() as held:
            text = WRITERS[name](piece * (size // len(piece)))
            file = write(Path(held), name, text.encode("utf-8", "replace"))
            try_all(fresh_ledger([OLD], [NEW]), file)

    grows_evenly(work)


@pytest.mark.parametrize("before", ["", "a.log", "{ a: 1, ", "a: b, ", "[", "`"])
def test_what_takes_lines_apart_takes_a_time_that_grows_with_them(before: str) -> None:
    """Whatever comes again and again in a line, such as figures behind the name of a log."""
    takes: tuple[Callable[..., object], ...] = (
        plain_line, fields_of, is_frame, is_drawn, is_object, are_pairs, is_log, reader_of,
        are_named_rows, linked_address,
    )  # fmt: skip

    for piece in (*"1 -|,.:={[", ".1", ", a: ", "- a: ", "'a': ", "/a = "):

        def work(size: int, piece: str = piece) -> None:
            line = before + piece * (size // len(piece)) + "x"
            for take in takes:
                take([line] if take in {are_pairs, is_log} else line)

        grows_evenly(work)


@settings(in_brief, max_examples=max(12, in_brief.max_examples // 3))
@given(piece=st.sampled_from(PIECES))
def test_time_grows_with_the_size_of_a_page(piece: str) -> None:
    def work(size: int) -> None:
        s = piece * (size // len(piece))
        body = (
            f'<!doctype html><html><head><title>{s}</title><meta name="description" '
            f'content="{s}"><meta http-equiv="refresh" content="0;url={s}">'
            f'<link rel="canonical" href="{s}"><style>{s}</style></head><body style="{s}"><a '
            f'href="{s}">{s}</a><img srcset="{s}"><script>{s}</script>{s}'
        ).encode("utf-8", "replace")
        read_facts(body, f"text/html; charset={s[:4000]}", f"{OLD}/x")
        read_facts(s.encode("utf-8", "replace"), "text/css", f"{OLD}/x")
        read_page(body, "text/html", s)

    grows_evenly(work)


@settings(in_brief, suppress_health_check=list(HealthCheck))
@given(seed=st.integers(0, 1 << 30))
def test_no_mutation_of_a_file_ends_in_a_traceback(seed: int) -> None:
    rng = random.Random(seed)
    text = rng.choice(("plain/page.html", "caf\u00e9", rng.choice(PIECES) * rng.randint(1, 40)))
    with TemporaryDirectory() as held:
        if rng.random() < 0.1:
            file = write(Path(held), "sheet.xlsx", mutated_workbook(rng, workbook(text)))
        else:
            name = rng.choice(sorted(WRITERS))
            file = write(
                Path(held), name, mutated(rng, WRITERS[name](text).encode("utf-8", "replace"))
            )
        try_all(fresh_ledger([OLD], [NEW]), file)


def test_a_workbook_whose_cells_lie_far_apart_is_refused_before_it_is_laid_out(
    museum: Program,
) -> None:
    whole = workbook("x")
    out = BytesIO()
    with ZipFile(BytesIO(whole)) as before, ZipFile(out, "w") as after:
        for name in before.namelist():
            part = before.read(name)
            if name.endswith("sheet1.xml"):
                part = part.replace(
                    b"</sheetData>",
                    b'<row r="1048576"><c r="XFD1048576"><v>1</v></c></row></sheetData>',
                )
            after.writestr(name, part)
    museum.write("far.xlsx", out.getvalue())
    for command in (
        ("gather", "far.xlsx"),
        ("stock", "far.xlsx"),
        ("check", "far.xlsx"),
        ("decide", "--from", "far.xlsx"),
    ):
        assert "17,179,869,184" in museum(*command, code=3).err.replace(
            "1,048,576 rows and 16,384 columns", "17,179,869,184"
        )


def test_a_line_of_a_thousand_cells_is_no_table(museum: Program) -> None:
    museum.write(
        "wide.csv",
        "url," + ",".join(f"c{n}" for n in range(2000)) + f"\n{OLD}/a" + ",1" * 2000 + "\n",
    )
    assert "columns" in museum("gather", "wide.csv", "--kind", "table", code=3).err


def test_names_that_no_file_can_have(museum: Program) -> None:
    museum.write("robots.txt", f"User-agent: *\nDisallow: /x\nSitemap: {OLD}/{'a' * 300}\n")
    museum("gather", "robots.txt", code=None)
    for command in ("gather", "stock", "check", "rehearse", "triage"):
        told = museum(command, "a" * 300, code=3).err
        assert "name" in told


def test_tags_that_never_end_are_text_and_what_stands_before_them_is_read(tmp_path: Path) -> None:
    """The parser looks for the end of each of them up to the end of the file."""
    head = '<rss version="2.0"><channel><item><link>http://www.quillhaven.example/a</link></item>'
    file = tmp_path / "feed.xml"
    file.write_text(f"{head}<item><title>{'<a ' * 200_000}</title></item></channel></rss>")
    result = gather(fresh_ledger([OLD], [NEW]), [str(file)]).sources[0]
    assert (result.accepted, result.new_entries) == (1, 1)
    assert any("tags begin and never end" in note for note in result.notes)
