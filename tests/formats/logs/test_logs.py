"""Logs: every line accounted for, a line counted once, and the quick reading equal to the careful
one.
"""

from __future__ import annotations

import gzip
import re
from collections import Counter
from pathlib import Path
from urllib.parse import quote

import pytest
from hypothesis import assume, given, settings
from hypothesis import strategies as st

from conftest import OLD, Program
from upright_ledger.core.inventory.agents import is_declared_bot
from upright_ledger.core.inventory.evidence import Asker, status_class
from upright_ledger.core.inventory.noise import set_aside_class
from upright_ledger.core.inventory.normalisation import FoldingPolicy
from upright_ledger.formats.logs import line_blocks
from upright_ledger.formats.logs.access_log import read_access_log
from upright_ledger.formats.logs.forms.combined import COMBINED, parse_combined
from upright_ledger.formats.logs.log_formats import format_of
from upright_ledger.formats.logs.log_line import NotALineError, unescape
from upright_ledger.formats.records import Aside, ReadOptions, Record, Reject


def line(
    target: str = "/a",
    *,
    second: int = 0,
    day: int = 3,
    status: int = 200,
    agent: str = "Mozilla/5.0",
    ref: str = "-",
) -> str:
    minute, second = divmod(second, 60)
    return (
        f'192.0.2.7 - - [{day:02}/May/2026:10:{minute:02}:{second:02} +0000] "GET {target} '
        f'HTTP/1.1" {status} 512 "{ref}" "{agent}"'
    )


STREAM = [
    line(f"/page-{n % 7}", second=n, day=3 + n // 60, status=404 if n % 3 else 200)
    for n in range(120)
]


def text(lines: list[str]) -> str:
    return "\n".join(lines) + "\n"


def hits(program: Program) -> dict[str, float]:
    return {
        e["legacy_url"].removeprefix(OLD): e["hits"]
        for e in program.json("entries", "--limit", 0)["entries"]
    }


@pytest.mark.parametrize(
    ("first", "second"),
    [
        (STREAM[:80], STREAM[40:]),  # rotated in between
        (STREAM[:70], STREAM),  # grown
        (STREAM, STREAM[30:50]),  # a piece of it
        (STREAM, [x for x in STREAM if " 404 " in x]),  # what somebody searched out
        (STREAM[::2], STREAM),  # one node's log, and both together
    ],
    ids=["rotated", "grown", "piece", "searched", "merged"],
)
def test_a_line_that_stands_in_two_logs_counts_once(
    museum: Program, first: list[str], second: list[str]
) -> None:
    museum.write("one.log", text(first))
    museum.write("two.log", text(second))
    museum("gather", "one.log", "two.log")
    union = Counter(re.findall(r"GET (\S+) ", text(sorted({*first, *second}))))
    assert hits(museum) == dict(union)
    again = museum.json("gather", museum.write("one.log.gz", gzip.compress(text(first).encode())))[
        "sources"
    ][0]
    assert again["known"]
    assert hits(museum) == dict(union)


def test_repeated_lines_are_accounted_for_and_count_again_after_an_undo(museum: Program) -> None:
    museum.write("one.log", text(STREAM[:80]))
    museum.write("two.log", text(STREAM[40:]))
    museum("gather", "one.log")
    source = museum.json("gather", "two.log")["sources"][0]
    assert (source["lines"], source["accepted"], source["set_aside_by_class"]) == (
        80,
        40,
        {"counted before": 40},
    )
    assert source["period"] == ["2026-05-04", "2026-05-04"]
    museum("undo", 2)
    assert museum.json("gather", "two.log")["sources"][0]["accepted"] == 80


def test_two_equal_lines_of_one_log_are_two_requests(museum: Program) -> None:
    museum.write("one.log", text([line(), line(), line("/b")]))
    museum("gather", "one.log")
    assert hits(museum) == {"/a": 2, "/b": 1}


def test_what_is_kept_of_each_request(museum: Program) -> None:
    lines = [
        line("/a?utm_source=x&gclid=1", ref="http://blog.example/post?q=secret"),
        line("/a", day=9, agent="FernCrawler/1"),
    ]
    lines += [
        line("/a/", day=5, status=404, ref="http://blog.example/post"),
        line("/old.css"),
        line("/b", status=301),
    ]
    museum.write("one.log", text(lines))
    source = museum.json("gather", "one.log")["sources"][0]
    assert source["folded"] == {"tracking parameter": 1, "trailing slash": 1}
    entry = museum.json("entries", "/a")
    assert (entry["hits"], entry["bots"], entry["first_seen"], entry["last_seen"]) == (
        2,
        1,
        "2026-05-03",
        "2026-05-09",
    )
    assert entry["statuses"] == {"2xx": 2, "404": 1}
    assert entry["referrers"] == [
        {"address": "http://blog.example/post", "amount": 1.0},
        {"address": "x", "amount": 1.0},
    ]
    assert {e["legacy_url"] for e in museum.json("entries", "--status", "404")["entries"]} == {
        f"{OLD}/a"
    }
    shown = museum("entries", "/a").out
    assert "people" in shown
    assert "bots" in shown
    assert "secret" not in shown


def test_scanners_and_bots_are_set_aside_but_never_what_the_site_answered(museum: Program) -> None:
    asked = [
        ("/wp-login.php", 404, "Mozilla/5.0"), ("/backup.tar.gz", 404, "Mozilla/5.0"),
        ("/data.tar.gz", 200, "Mozilla/5.0"),
        ("/xK9q2ZpL7v", 404, "Mozilla/5.0"), ("/qwrtpsdfgh", 404, "Mozilla/5.0"),
        ("/Xk9Q2zPl7w", 200, "Mozilla/5.0"),
        ("/jenkins", 404, "Mozilla/5.0"), ("/jenkins-family", 404, "Mozilla/5.0"),
        ("/crawled", 404, "FernCrawler/1"),
        ("/wp-content/uploads/2019/plan.pdf", 404, "Mozilla/5.0"),
        ("/plan.pdf", 404, "Mozilla/5.0"), ("/feed", 404, "Mozilla/5.0"),
    ]  # fmt: skip
    museum.write(
        "one.log", text([line(t, status=s, agent=a, second=n) for n, (t, s, a) in enumerate(asked)])
    )
    source = museum.json("gather", "one.log")["sources"][0]
    assert source["set_aside_by_class"] == {"probe": 3, "random": 2, "bots only": 1}
    wanted = {
        "/data.tar.gz",
        "/Xk9Q2zPl7w",
        "/jenkins-family",
        "/wp-content/uploads/2019/plan.pdf",
        "/plan.pdf",
        "/feed",
    }
    assert set(hits(museum)) == wanted
    aside = {
        u["url"].removeprefix(OLD): u["class"]
        for u in museum.json("entries", "--aside", "all")["set_aside"]
    }
    assert aside["/crawled"] == "bots only"
    assert aside["/jenkins"] == "probe"
    museum.write("list.txt", "/crawled\n/xK9q2ZpL7v\n")
    museum("gather", "list.txt")
    assert set(hits(museum)) == wanted | {"/crawled", "/xK9q2ZpL7v"}


QUOTABLE = st.text(st.sampled_from('abzGET/?&=% HTTP1.0-"\\x[]:é\x01\t'), max_size=24)
ODD_LINES = st.one_of(
    st.builds(
        lambda head, req, st_, ref, agent, tail: (
            f'{head}[03/May/2026:10:00:00 +0000] "{req}" {st_} 5 "{ref}" "{agent}"{tail}'
        ),
        st.sampled_from(["192.0.2.1 - - ", (
            "www.quillhaven.example 192.0.2.1 - ada "
        ), "192.0.2.1 - two words ", "- ", ""]),
        st.one_of(QUOTABLE, st.builds("GET /{} HTTP/1.1".format, QUOTABLE)),
        st.sampled_from(["200", "404", "999", "20", "-"]),
        QUOTABLE,
        QUOTABLE,
        st.sampled_from(["", ' "extra"', " 0.05", ' "a\\"b"', "\r"]),
    ),
    st.sampled_from([line(), line("/b", status=404), "", "   ", (
        '192.0.2.1 - - [03/May/2026:10:00:00 +0000] "GET /c HTTP/1.1" 200 -'
    )]),
    QUOTABLE,
)  # fmt: skip


def careful(lines: list[str]) -> tuple[Counter[tuple[str, str, str]], int, int]:
    """What reading line by line gives: requests by target, status class and visitor; lines set
    aside, and rejected.
    """
    found: Counter[tuple[str, str, str]] = Counter()
    aside = rejected = 0
    for one in lines:
        try:
            parsed = parse_combined(one.rstrip("\r"))
        except NotALineError:
            rejected += 1
            continue
        if isinstance(parsed, str):
            aside += 1
            continue
        if not 100 <= int(parsed.status) < 600:
            rejected += 1
            continue
        if parsed.request in {"", "-"}:
            aside += 1
            continue
        parts = parsed.request.split(" ")
        if len(parts) != 3 or not parts[2].startswith("HTTP/"):
            rejected += 1
            continue
        target = unescape("".join(c if c.isascii() else quote(c) for c in parts[1]))
        if parts[0] not in {"GET", "HEAD"} or not target.startswith(("/", "http://", "https://")):
            aside += 1
            continue
        bot = parsed.agent is not None and is_declared_bot(parsed.agent)
        found[target, status_class(int(parsed.status)), Asker.BOTS if bot else Asker.PEOPLE] += 1
    return found, aside, rejected


@settings(max_examples=50)
@given(
    lines=st.lists(ODD_LINES, min_size=1, max_size=30), block=st.sampled_from([64, 200, 1 << 16])
)
def test_reading_in_columns_is_the_same_as_reading_line_by_line(
    lines: list[str], block: int, tmp_path_factory: pytest.TempPathFactory
) -> None:
    path: Path = tmp_path_factory.mktemp("log") / "access.log"
    lines = [line("/sure"), *(x.replace("\n", "") for x in lines)]
    assume(format_of([x for x in lines if x.strip()][:200]) is COMBINED)
    path.write_bytes(text(lines).encode())
    before, line_blocks.BLOCK = line_blocks.BLOCK, block
    try:
        items = list(read_access_log(path, ReadOptions()).items)
    finally:
        line_blocks.BLOCK = before
    records = [i for i in items if isinstance(i, Record)]
    rejects = [i for i in items if isinstance(i, Reject)]
    aside = sum(i.lines for i in items if isinstance(i, Aside))
    assert sum(r.lines for r in records) + len(rejects) + aside == len(lines)
    told = Counter(
        {(r.url, f.status_class, f.agent): int(f.amount) for r in records for f in r.figures}
    )
    assert (told, aside, len(rejects)) == careful(lines)
    for reject in rejects:
        assert "192.0.2.1" not in reject.text
        assert 1 <= reject.line <= len(lines)


PARTS = st.sampled_from(
    [
        "item=1",
        "item=2",
        "utm_source=a",
        "utm_x=?",
        "UTM_medium=",
        "gclid=z%20&",
        "sid=7",
        "PHPSESSID=q",
        "xgclid=1",
        "sid",
        "",
    ]
)


@settings(max_examples=30)
@given(
    queries=st.lists(st.lists(PARTS, max_size=5), min_size=1, max_size=12),
    ends=st.sampled_from(["", "&utm_id=in-path"]),
)
def test_campaigns_are_left_out_of_requests_and_counted(
    tmp_path_factory: pytest.TempPathFactory, queries: list[list[str]], ends: str
) -> None:
    policy = FoldingPolicy()
    targets = [f"/a{ends}?" + "&".join(parts) if parts else f"/a{ends}" for parts in queries]
    log = tmp_path_factory.mktemp("noise") / "a.log"
    log.write_text(text([line(t, second=n) for n, t in enumerate(targets)]))
    reading = read_access_log(log, ReadOptions(noise=policy.noise_names))
    found: Counter[str] = Counter()
    for item in reading.items:
        assert isinstance(item, Record)
        found[canonical(item.url)] += item.lines
    expected: Counter[str] = Counter()
    left_out: Counter[str] = Counter()
    for target in targets:
        parts = [p for p in target.partition("?")[2].split("&") if p]
        # With "&" in its path nothing is left out here, but where the request is placed.
        noise = [policy.noise(p.partition("=")[0]) if "=" in p and not ends else "" for p in parts]
        kept = [p for p, kind in zip(parts, noise, strict=True) if not kind]
        expected[f"/a{ends}" + ("?" + "&".join(kept) if kept else "")] += 1
        left_out.update({*noise} - {""})
    assert found == expected
    assert +reading.folded == left_out


def canonical(target: str) -> str:
    path, _, query = target.partition("?")
    kept = "&".join(p for p in query.split("&") if p)
    return f"{path}?{kept}" if kept else path


def test_a_control_byte_in_a_log_is_no_sign_of_anything(museum: Program) -> None:
    raw = [line("/a\x01b"), line("/a?x=1\x01&utm_source=n", second=1), line("/a\x02&b=1", second=2)]
    museum.write("raw.log", text([*raw, line("/sound", second=3)]))
    source = museum.json("gather", "raw.log")["sources"][0]
    assert (source["accepted"], source["set_aside_by_class"]) == (1, {"unanswerable": 3})
    assert hits(museum) == {"/sound": 1}


def test_a_parameter_that_is_significant_somewhere_is_kept_in_logs(museum: Program) -> None:
    museum.write("first.txt", f"{OLD}/story.php?oscsid=1\n")
    museum("gather", "first.txt")
    museum("fold", "--significant", "/story.php=oscsid")
    museum.write(
        "a.log", text([line("/story.php?oscsid=7&utm_source=x"), line("/a?oscsid=8", second=1)])
    )
    museum("gather", "a.log")
    assert {k: v for k, v in hits(museum).items() if v} == {"/story.php?oscsid=7": 1, "/a": 1}
    museum("fold", "--case", "exact")  # derived anew from what is stored
    assert "/story.php?oscsid=7" in hits(museum)


def test_every_line_of_a_long_log_is_accounted_for(museum: Program) -> None:
    odd = [
        "198.51.100.7 - - [cut",
        "",
        line("/caf\\xc3\\xa9"),
        line("/q", agent='say \\"hi\\"'),
        "x" * 1_100_000,
    ]
    lines = [
        x
        for n in range(4000)
        for x in [line(f"/p{n % 50}", second=n % 3600), *([odd[n % 5]] if n % 400 < 5 else [])]
    ]
    museum.write("access.log", b"\xe9 broken bytes\n" + text(lines).encode())
    source = museum.json("gather", "access.log")["sources"][0]
    assert source["lines"] == len(lines) + 1
    assert source["accepted"] + source["set_aside"] + source["rejected"] == source["lines"]
    assert source["rejected"] == 1 + 2 * 10
    kept = (museum.folder / source["rejects_file"]).read_text()
    assert kept.splitlines()[1].startswith("1\t")
    assert set_aside_class("/p1") == ""
