"""Hostile files: their size decides how long they take, and none ends in a traceback or an
abort.
"""

from __future__ import annotations

import random
import time
from collections.abc import Callable
from functools import partial
from io import BytesIO
from pathlib import Path
from tempfile import TemporaryDirectory
from zipfile import ZipFile

from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from conftest import NEW, OLD, Program
from hostile import PIECES, WRITERS, mutated, mutated_workbook, workbook, write
from ledgers import fresh_ledger
from properties import in_brief
from upright_ledger.app.collect.gather import gather
from upright_ledger.app.collect.stock import stock
from upright_ledger.app.decide.decide_list import decide_from
from upright_ledger.app.move_state import MoveState
from upright_ledger.app.prove.request_files import read_requests
from upright_ledger.errors import UprightError
from upright_ledger.formats.html.content import read_facts
from upright_ledger.formats.html.page_head import read_page
from upright_ledger.ledger.store import Ledger

SIZE = 10_000
ATTEMPTS = 3
"""A collector that runs at a bad moment is no fault of a file."""
NO_MATTER = 0.4
"""Seconds of CPU for some 20,000 characters that are no matter, whatever half of them takes."""


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


def seconds(work: Callable[[], object]) -> float:
    begun = time.process_time()
    work()
    return time.process_time() - begun


@settings(in_brief, max_examples=max(40, in_brief.max_examples // 3))
@given(piece=st.sampled_from(PIECES), name=st.sampled_from(sorted(WRITERS)))
def test_twice_the_size_takes_twice_as_long(piece: str, name: str) -> None:
    with TemporaryDirectory() as held:
        for attempt in range(ATTEMPTS):
            took = []
            for size in (SIZE, 2 * SIZE):
                text = WRITERS[name](piece * (size // len(piece)))
                file = write(Path(held), name, text.encode("utf-8", "replace"))
                ledger = fresh_ledger([OLD], [NEW])
                took.append(seconds(partial(try_all, ledger, file)))
            if took[1] < max(NO_MATTER, 2.3 * took[0]):
                return
            assert attempt < ATTEMPTS - 1, (piece, name, took)


@settings(in_brief, max_examples=max(40, in_brief.max_examples // 3))
@given(piece=st.sampled_from(PIECES))
def test_pages_of_twice_the_size_take_twice_as_long(piece: str) -> None:
    took = []
    for size in (SIZE, 2 * SIZE):
        s = piece * (size // len(piece))
        body = (
            f'<!doctype html><html><head><title>{s}</title><meta name="description" '
            f'content="{s}"><meta http-equiv="refresh" content="0;url={s}">'
            f'<link rel="canonical" href="{s}"><style>{s}</style></head><body style="{s}"><a '
            f'href="{s}">{s}</a><img srcset="{s}"><script>{s}</script>{s}'
        ).encode("utf-8", "replace")

        def read(body: bytes = body, s: str = s) -> None:
            read_facts(body, f"text/html; charset={s[:4000]}", f"{OLD}/x")
            read_facts(s.encode("utf-8", "replace"), "text/css", f"{OLD}/x")
            read_page(body, "text/html", s)

        took.append(seconds(read))
    assert took[1] < max(NO_MATTER, 2.3 * took[0]), (piece, took)


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
