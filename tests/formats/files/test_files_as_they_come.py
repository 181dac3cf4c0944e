"""Files as they come: packed, in another encoding, filled up with what is no text, with other line
ends, behind words that a program put before each line, with columns and rows around what is told.
Each tells what it tells without.
"""

from __future__ import annotations

import bz2
import csv
import gzip
import io
import lzma
import random
import re
from collections.abc import Callable
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from test_any_file import told

from conftest import NEW, OLD, Program
from log_samples import SAMPLES as LOGS
from other_samples import SAMPLES, Sample
from upright_ledger.formats.files import padding
from varied_lines import ONCE, in_two, varied

Rows = list[list[str]]
EACH = 8  # samples of each change
NO_TEXTS = ("packed", "property list")
PARTS = {"table: another table below", "table: short days below", "table: several languages a row"}
"""Of which empty rows tell where something else begins, or few rows which columns there are."""
NO_HEADING = {"table: old and new without a heading", "table: no heading, figures and words"}


FILES: dict[str, Callable[[str], str | bytes]] = {
    "gzip": lambda text: gzip.compress(text.encode()),
    "bzip2": lambda text: bz2.compress(text.encode()),
    "xz": lambda text: lzma.compress(text.encode()),
    "a mark of its order": lambda text: f"\ufeff{text}",
    "UTF-16": lambda text: f"\ufeff{text}".encode("utf-16-be"),
    "returns before line feeds": lambda text: text.replace("\r", "").replace("\n", "\r\n"),
    "no last line end": lambda text: text.rstrip("\r\n"),
    "empty lines behind": lambda text: f"{text}\n\n\n",
    "NUL bytes before": lambda text: "\0" * 300 + text,
    "NUL bytes behind": lambda text: text + "\0" * 300,
    "NUL bytes, packed": lambda text: gzip.compress(b"\0" * 1_200_000 + text.encode() + b"\0"),
    "the old sign for its end": lambda text: f"{text}\x1a",
}
ROWS: dict[str, Callable[[Rows], Rows]] = {
    "columns the other way round": lambda rows: [row[::-1] for row in rows],
    "a column of numbers": lambda rows: [["#", *rows[0]]] + [
        [str(n), *row] for n, row in enumerate(rows[1:], 1)],
    "an empty column": lambda rows: [[*row, ""] for row in rows],
    "blanks around cells": lambda rows: [[f" {cell} " for cell in row] for row in rows],
    "capitals": lambda rows: [[cell.upper() for cell in rows[0]], *rows[1:]],
    "marks behind headings": lambda rows: [[f"{cell} *" for cell in rows[0]], *rows[1:]],
    "remarks behind headings": lambda rows: [[f"{cell} (n)" for cell in rows[0]], *rows[1:]],
    "a title above": lambda rows: [["Report of May"] + [""] * (len(rows[0]) - 1), *rows],
    "the heading once more": lambda rows: [*rows, rows[0]],
}  # fmt: skip
LINES: dict[str, Callable[[str], str | bytes]] = FILES | {
    "NUL bytes amid": lambda text: text.replace("\n", "\n" + "\0" * 9, 3),
    "words amid": lambda text: text.replace("\n", "\nServer restarted by hand\n", 1),
    "syslog": lambda text: re.sub("(?m)^(?=.)", "May  1 10:00:00 web1 app[12]: ", text),
    "a container": lambda text: re.sub("(?m)^(?=.)", "web-1  | ", text),
    "a container's stream": lambda text: re.sub(
        "(?m)^(?=.)", "2026-05-01T10:00:00.123456789Z stdout F ", text
    ),
    "a search": lambda text: re.sub("(?m)^(?=.)", "access.log:", text),
}
APART = {
    "two objects", "lines within a table", "lines within a table, other time",
    "another host second",
    "a request and its answer, by a correlation", "a level glued to it", "a table in a frame",
    "a table drawn by a database", "an object of JavaScript", "server: cells in quotes",
    "server: the whole line in quotes", "commas without a heading", "words whose request is apart",
    "server: a heading among comments", "server: types behind the names", "a table of microseconds",
}  # fmt: skip
"""Logs that are read by where their lines begin or end."""
HEADED = [name for name in ONCE if "#Fields" in LOGS[name][0]]


def drawn(names: list[str], change: str) -> list[str]:
    """Some of these, others for each change."""
    return sorted(random.Random(change).sample(sorted(names), min(EACH, len(names))))


def as_bytes(text: str | bytes) -> bytes:
    return text if isinstance(text, bytes) else text.encode()


def text_of(sample: Sample) -> str:
    """The text of a sample; empty where it is none, or of such as its bytes count in."""
    try:
        return sample.data.decode()
    except UnicodeDecodeError:
        return ""


def figures(sample: Sample, folder: Path) -> dict[str, float]:
    """Path → what is told of it, all figures together."""
    return {path.rstrip("/"): sum(f.values()) for path, f in told(sample, folder).items()}


def wanted(sample: Sample) -> dict[str, float]:
    """The same, as the sample has it."""
    return {path.rstrip("/"): figure or 0.0 for path, figure in sample.pages.items()}


TEXTS = [n for n in SAMPLES if text_of(SAMPLES[n]) and not n.startswith(NO_TEXTS)]


@pytest.mark.parametrize("change", FILES)
def test_a_file_tells_what_it_tells_however_it_comes(change: str, tmp_path: Path) -> None:
    for n, name in enumerate(drawn(TEXTS, change)):
        sample = SAMPLES[name]
        (folder := tmp_path / str(n)).mkdir()
        data = as_bytes(FILES[change](text_of(sample)))
        assert figures(sample._replace(data=data), folder) == wanted(sample), name


def rows_of(sample: Sample) -> tuple[str, Rows] | None:
    """The delimiter and rows of a table in lines of equally many cells."""
    for delimiter in ",;\t":
        text = io.StringIO(text_of(sample))
        rows = [row for row in csv.reader(text, delimiter=delimiter) if row]
        if len(rows) > 3 and {len(row) for row in rows} == {len(rows[0])} != {1}:
            return delimiter, rows
    return None


TABLES = [
    name
    for name in TEXTS
    if name.startswith("table") and name not in PARTS | NO_HEADING and rows_of(SAMPLES[name])
]


@pytest.mark.parametrize("change", ROWS)
def test_a_table_tells_what_it_tells_whatever_stands_around(change: str, tmp_path: Path) -> None:
    for n, name in enumerate(drawn(TABLES, change)):
        sample, told_rows = SAMPLES[name], rows_of(SAMPLES[name])
        assert told_rows is not None
        (folder := tmp_path / str(n)).mkdir()
        out = io.StringIO()
        writer = csv.writer(out, delimiter=told_rows[0], lineterminator="\n")
        writer.writerows(ROWS[change](told_rows[1]))
        data = out.getvalue().encode()
        assert figures(sample._replace(data=data), folder) == wanted(sample), name


@pytest.mark.parametrize("change", LINES)
def test_a_log_tells_what_it_tells_however_it_comes(change: str, tmp_path: Path) -> None:
    names = [*drawn([name for name in ONCE if name not in APART], change), *HEADED[:2], "LTSV"]
    for n, name in enumerate(names):
        text, (asked,) = LOGS[name]
        heading, line = in_two(text)
        draw = random.Random(name)
        lines = [line, *(varied(line, asked, draw)[0] for _ in range(13))]
        whole = heading + "".join(f"{line}\n" for line in lines)
        (plain := tmp_path / f"{n}a").mkdir()
        (changed := tmp_path / f"{n}b").mkdir()
        data = as_bytes(LINES[change](whole))
        log = Sample("a.log", data, {})
        unchanged = log._replace(data=whole.encode())
        assert told(log, changed) == told(unchanged, plain), name


@settings(max_examples=60)
@given(
    st.lists(st.tuples(st.binary(max_size=6), st.integers(0, 9)), max_size=9),
    st.binary(max_size=12),
)
def test_nothing_but_what_fills_a_text_up_is_left_out(
    told: list[tuple[bytes, int]], end: bytes
) -> None:
    """Whatever lies where in blocks, and however often."""
    lines = [bytes(b"abc\n"[byte % 4] for byte in text) for text, _ in told]
    data = b"".join(line + b"\0" * n * (n > 3) for line, (_, n) in zip(lines, told, strict=True))
    data += bytes(b"\0\x1a"[byte % 2] for byte in end)
    held, padding._BLOCK = padding._BLOCK, 16
    try:
        found = io.BufferedReader(padding.Unpadded(io.BytesIO(data)), 7).read()
    finally:
        padding._BLOCK = held
    assert found.replace(b"\n", b"") == b"".join(lines).replace(b"\n", b"")
    assert [line for line in found.split(b"\n") if line] == [
        line
        for text in re.split(rb"\0+", data.rstrip(b"\0\x1a"))
        for line in text.split(b"\n")
        if line
    ]


def test_what_fills_a_file_up_is_told_and_no_picture_is_a_text(museum: Program) -> None:
    museum.write("a.log", b"\0" * 5000 + b"/visit/a\n/visit/b\n")
    out = museum("gather", "a.log", "--kind", "text").out
    assert "a.log: NUL bytes that fill it up, or a sign for its end, are left out" in out
    museum.write("a.png", b"\x89PNG\r\n\x1a\n" + b"\0" * 90 + b"/visit/c\n")
    assert "is" in museum("gather", "a.png", code=3).err
    assert len(museum.json("entries")["entries"]) == 2


def test_a_heading_that_comes_again_is_set_aside(museum: Program) -> None:
    museum.write("a.csv", f"Sayfa,Tıklamalar\n{OLD}/a,3\nSayfa,Tıklamalar\n{OLD}/b,4\n")
    told = museum.json("gather", "a.csv")["sources"][0]
    assert (told["accepted"], told["set_aside"], told["rejected"]) == (2, 1, 0)
    assert {e["legacy_url"] for e in museum.json("entries")["entries"]} == {f"{OLD}/a", f"{OLD}/b"}


def test_a_heading_that_comes_again_is_no_page_and_no_pair(museum: Program) -> None:
    museum.write("old.csv", f"Sayfa,Başlık\n{NEW}/a,A\nSayfa,Başlık\n{NEW}/b,B\n")
    assert "The stock holds 2 pages" in museum("stock", "old.csv").out
    again = f"Ancienne,Nouvelle\n/a,{NEW}/a\nAncienne,Nouvelle\n/b,{NEW}/b\n"
    museum.write("pairs.csv", again)
    out = museum("decide", "--from", "pairs.csv", code=1).out
    assert "2 answers posted" in out
    assert "row 3: it is the heading once more" in out
    assert len(museum.json("entries")["entries"]) == 2


def test_of_two_headings_with_remarks_neither_is_guessed(museum: Program) -> None:
    museum.write("a.csv", f"Strona,Kliknięcia (1),Kliknięcia (2)\n{OLD}/a,3,5\n{OLD}/b,4,6\n")
    told = museum.json("gather", "a.csv")["sources"][0]
    assert "Kliknięcia (1), Kliknięcia (2)" in " ".join(told["notes"])
    museum("gather", "a.csv", "--column", "clicks=Kliknięcia (2)")
    assert {e["clicks"] for e in museum.json("entries")["entries"]} == {5, 6}
