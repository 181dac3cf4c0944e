"""Logs of every kind whose lines differ as those of real ones do: in client, agent, referrer,
target, method and status. What is read is what was put in.
"""

from __future__ import annotations

import random
from pathlib import Path

import pytest

from asked import HOST, PATH, Asked
from conftest import Program
from log_samples import SAMPLES
from upright_ledger.formats.detection import FileKind, recognise
from upright_ledger.formats.logs.log_formats import format_of
from upright_ledger.formats.logs.log_line import LogLine
from varied_lines import ONCE, in_two, varied

HOSTS = frozenset([HOST, "quillhaven.example"])


def told_by(text: str) -> list[Asked]:
    """What a log tells; without days, which are the same all over it."""
    lines = [line for line in text.split("\n") if line.strip()]
    parse = format_of(lines, HOSTS).new_parser(lines, HOSTS)
    found = []
    for line in lines:
        told = parse(line)
        if isinstance(told, LogLine):
            method, target, _ = told.request.split(" ")
            agent = told.agent if told.agent is None else told.agent or "-"
            led = "" if told.referrer == "-" else told.referrer
            found.append(Asked(told.status, agent, led, told.host, target, method, ""))
    return found


@pytest.mark.parametrize("name", ONCE)
def test_lines_that_differ_are_read_alike(name: str, tmp_path: Path) -> None:
    text, (asked,) = SAMPLES[name]
    heading, line = in_two(text)
    draw = random.Random(name)
    lines = [(line, asked), *(varied(line, asked, draw) for _ in range(13))]
    whole = heading + "".join(f"{text}\n" for text, _ in lines)
    path = tmp_path / "a.log"
    path.write_text(whole, encoding="utf-8")
    assert recognise(path) == FileKind.ACCESS_LOG
    assert told_by(whole) == [told._replace(day="") for _, told in lines]


def test_a_log_without_days_counts_once_and_as_of_its_period(museum: Program) -> None:
    museum.write("a.log", f"GET {PATH} 404 3.214 ms - 145\n" * 3)
    told = museum.json("gather", "a.log", "--period", "2026-05-01..2026-05-10")["sources"][0]
    assert (told["accepted"], told["period"]) == (3, ["2026-05-01", "2026-05-10"])
    assert "3 lines tell no day" in " ".join(told["notes"])
    (entry,) = museum.json("entries")["entries"]
    assert (entry["hits"], entry["value"]) == (3, 9.0)
    again = museum.json("gather", "a.log")["sources"][0]
    assert again["known"]
    assert museum.json("entries")["entries"][0]["hits"] == 3


def test_a_line_without_its_day_among_others_is_named(museum: Program) -> None:
    dated = f"2026-05-01T10:00:00Z GET {PATH} 404 3 ms\n"
    museum.write("a.log", dated * 3 + f"GET {PATH} 404 3 ms\n")
    told = museum.json("gather", "a.log")["sources"][0]
    assert (told["accepted"], told["rejected"]) == (3, 1)
    assert told["rejects"][0]["reason"] == "it tells no day"


def test_requests_under_way_at_once_are_told_apart(museum: Program) -> None:
    """Each answer goes to the request of its number; one that never comes leaves nothing."""
    begun = "2026-05-01T10:00:00Z request_id=r{} [info] GET /p{}"
    lines = [begun.format(n, n) for n in range(4)]
    lines += [
        f"2026-05-01T10:00:01Z request_id=r{n} [info] Sent {200 + n} in 1ms" for n in (2, 0, 1)
    ]
    museum.write("a.log", "\n".join(lines) + "\n")
    told = museum.json("gather", "a.log")["sources"][0]
    assert (told["lines"], told["accepted"]) == (7, 3)
    assert told["set_aside_by_class"] == {"answered below": 4}
    assert {e["legacy_url"][-3:] for e in museum.json("entries")["entries"]} == {
        "/p0",
        "/p1",
        "/p2",
    }
