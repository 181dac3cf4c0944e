"""Rehearse as people use it: large files, days, and ways shown hop by hop."""

from __future__ import annotations

import csv

from conftest import OLD, Program
from raw_http import serve_pages


def test_a_large_file_is_read_meanwhile(answered: Program) -> None:
    """Files of many megabytes are read in another process; what comes of them is the same."""
    filler = "x" * 900
    small = [
        f"{OLD}/a",
        f"{OLD}/none?{filler}",
        "https://elsewhere.example/x",
        f"{OLD}/gone",
        f"{OLD}/a",
    ]
    large = [f"{OLD}/none/{n}/{filler}" for n in range(10_000)]
    answered.write("small.txt", "\n".join(small) + "\n")
    answered.write("large.txt", "\n".join([*small, *large]) + "\n")
    told = answered.json("rehearse", "small.txt", code=1)
    much = answered.json("rehearse", "large.txt", "--out", "rows.csv", code=1)
    assert much["counts"] == told["counts"] | {
        "unanswered": told["counts"]["unanswered"] + len(large)
    }
    assert (much["left_out"], much["hits"]) == (told["left_out"], told["hits"])
    assert answered.json("runs", "last")["counts"] == much["counts"]
    with (answered.folder / "rows.csv").open() as file:
        assert [row["url"] for row in csv.DictReader(file)][3:] == large
    answered.write("broken.txt", b"\xff\xfe\xff" * (3 << 20))
    assert "Traceback" not in answered("rehearse", "broken.txt", code=3).err


def test_coverage_by_day_follows_the_log(answered: Program) -> None:
    line = (
        '192.0.2.1 - - [0{}/May/2026:10:00:00 +0000] "GET {} HTTP/1.1" 200 1 "-" "Mozilla/5.0 '
        '(X11)"\n'
    )
    asked = [(3, "/a"), (3, "/none"), (4, "/a"), (4, "/a?utm_source=x"), (4, "/gone")]
    answered.write("access.log", "".join(line.format(*a) for a in asked))
    found = answered.json("rehearse", "access.log", "--by", "day", code=1)["coverage"]
    assert found == [
        {"name": "2026-05-03", "urls": 2, "ok": 1, "hits": 2, "ok_hits": 1},
        {"name": "2026-05-04", "urls": 2, "ok": 2, "hits": 3, "ok_hits": 3},
    ]
    assert "2026-05-04" in answered("rehearse", "access.log", "--by", "day", code=1).out


def test_hops_are_shown_one_a_line(answered: Program) -> None:
    answered.write("urls.txt", f"{OLD}/c\n{OLD}/none\n")
    told = answered("rehearse", "urls.txt", "--hops", "-", code=1).out
    assert "hop   status   address, and what the hop changes" in told
    lines = told.splitlines()
    chain = next(n for n, line in enumerate(lines) if line.startswith("chain") and "/c" in line)
    assert lines[chain].split()[1:] == ["1", "301", "/c", "0"]
    assert "by the rule of /c" in lines[chain + 1]
    assert lines[chain + 2].split()[:2] == ["2", "301"]
    assert "by the rule of /c" in answered("runs", "last", "--hops", "-").out
    assert not (answered.folder / "-").exists()


def test_a_page_in_another_language_is_said(museum: Program) -> None:
    museum(
        "decide",
        "--from",
        museum.pairs(
            "/de/turm.html,/en/tower/,", "/de/uhr.html,/de/clock/,", "/hours.html,/en/hours/,"
        ),
    )
    museum("decide", "/de/shop.html", "--to", "/en/shop/")  # a person's own choice
    museum.write("old.csv", f"url,language\n{OLD}/hours.html,de\n{OLD}/visit.html,en-GB\n")
    museum("gather", "old.csv")
    museum("decide", "--from", museum.pairs("/visit.html,/en/visit/,"))
    found = museum.json("rehearse", code=1)
    assert [(r["url"].removeprefix(OLD), r["verdict"]) for r in found["rows"]] == [
        ("/de/turm.html", "wrong-language")
    ]
    assert "in its own language" in found["rows"][0]["mend"]

    museum.write("urls.txt", f"{OLD}/hours.html\n{OLD}/visit.html\n")
    english = '<!doctype html><html lang="en-US"><title>Page</title>'
    moves = {"/hours.html": "/en/hours/", "/visit.html": "/en/visit/"}
    with serve_pages(dict.fromkeys(moves.values(), english), moves) as address:
        found = museum.json("replay", "urls.txt", "--at", address, code=1)
    assert [(r["url"].removeprefix(OLD), r["verdict"]) for r in found["rows"]] == [
        ("/hours.html", "wrong-language")
    ]
