"""Lines that end as they did on old machines."""

from __future__ import annotations

import pytest

from conftest import NEW, Program
from counting import WRITERS, Asked, write_log


@pytest.mark.parametrize("kind", sorted(WRITERS))
def test_lines_that_end_in_returns_alone_are_lines(museum: Program, kind: str) -> None:
    asked = [Asked(f"/page/{n}", status=404) for n in range(5)]
    file = write_log(museum.folder / "a.log", kind, WRITERS[kind](asked), "\r")
    source = museum.json("gather", file)["sources"][0]
    assert source["accepted"] == 5
    assert len(museum.json("entries")["entries"]) == 5
    again = write_log(museum.folder / "b.log", kind, WRITERS[kind](asked))
    museum("gather", again)
    assert sum(e["hits"] for e in museum.json("entries")["entries"]) == 5


def test_rules_in_lines_that_end_in_returns_alone_are_read(museum: Program) -> None:
    museum.write(".htaccess", "".join(f"Redirect 301 /h{n} {NEW}/h{n}\r" for n in range(5)))
    assert museum.json("gather", ".htaccess")["sources"][0]["accepted"] == 5


def test_a_heading_above_the_fields_hides_no_log_whose_lines_end_in_returns_alone(
    museum: Program,
) -> None:
    asked = [Asked(f"/page/{n}", status=404) for n in range(5)]
    file = write_log(museum.folder / "a.log", "w3c", WRITERS["w3c"](asked), "\r")
    file.write_bytes(b"#Version: 1.0\r" + file.read_bytes())
    assert museum.json("gather", file)["sources"][0]["accepted"] == 5
