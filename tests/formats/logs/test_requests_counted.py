"""Requests in are requests accounted for: each with its status, day, visitor and referrer, in every
format, in blocks of every size, whole and in pieces.
"""

from __future__ import annotations

import gzip
from collections import Counter
from collections.abc import Sequence
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from counting import LISTS, WHO, WRITERS, Asked, write_log
from log_reading import Told, led, read, small, told
from properties import in_brief
from upright_ledger.core.inventory.packed import unpack_days
from upright_ledger.formats.files.text import MAX_LINE
from upright_ledger.formats.logs.access_log import read_access_log
from upright_ledger.formats.records import Aside, Item, ReadOptions, Record, Reject

KINDS = st.sampled_from(sorted(WRITERS))


def meant_to_lead(asked: Sequence[Asked], kind: str) -> Counter[tuple[str, str, str]]:
    return Counter(
        (host_in(kind, a), a.target, a.referrer)
        for a in asked
        if a.referrer != "-" and kind != "common"
    )


def host_in(kind: str, asked: Asked) -> str:
    """The host that a log of a kind names."""
    if kind in {"combined", "common"}:
        return ""
    return asked.host or ("www.quillhaven.example" if kind == "by host" else "")


def meant(asked: Sequence[Asked], kind: str) -> Told:
    """The same from the requests themselves."""
    found: Told = Counter()
    for a in asked:
        host = host_in(kind, a)
        agent = "people" if kind == "common" else WHO[a.agent]
        name = str(a.status) if a.status in {404, 410} else f"{a.status // 100}xx"
        found[host, a.target, f"2026-05-{a.day:02}", name, agent] += 1
    return found


@in_brief
@given(LISTS, KINDS, st.sampled_from([64, 300, 1 << 20]), st.sampled_from([3, 1_000_000]),
    st.sampled_from(["\n", "\r\n", "\r"]))  # fmt: skip
def test_what_was_asked_is_what_is_told(
    tmp_path_factory: pytest.TempPathFactory, asked: list[Asked], kind: str, block: int, most: int,
    end: str,
) -> None:  # fmt: skip
    path = write_log(tmp_path_factory.mktemp("log") / "a.log", kind, WRITERS[kind](asked), end)
    with small(block, most):
        items, lines = read(path)
    assert told(items) == meant(asked, kind)
    assert sum(len(d) for d in lines.found.values()) == 8 * len(asked)
    assert set(lines.found) == {f"2026-05-{a.day:02}" for a in asked}
    records = [i for i in items if isinstance(i, Record)]
    assert led(records) == meant_to_lead(asked, kind)
    first, good = dict[tuple[str, str], int](), set[tuple[str, str]]()
    for n, a in enumerate(asked, 2 if kind == "w3c" else 1):
        where = (host_in(kind, a), a.target)
        first.setdefault(where, n)
        good |= {where} if a.status < 400 else set()
    if most > 3:
        assert {(r.host, r.url): r.line for r in records} == first
    assert {(r.host, r.url) for r in records if r.real} == good


@in_brief
@given(LISTS, st.integers(0, 40), st.integers(0, 40), KINDS, st.sampled_from(["\n", "\r\n"]))
def test_a_log_in_pieces_that_overlap_is_the_log(
    tmp_path_factory: pytest.TempPathFactory, asked: list[Asked], cut: int, back: int, kind: str,
    end: str,
) -> None:  # fmt: skip
    """The lines of the second piece that the first one holds do not count again, whatever lines end
    in.
    """
    folder = tmp_path_factory.mktemp("log")
    lines = WRITERS[kind](asked)
    cut = cut % len(lines)
    first = write_log(folder / "1.log", kind, lines[: max(cut + back, 1)])
    second = write_log(folder / "2.log", kind, lines[cut:], end)
    items, held = read(first)
    known = {day: [digests] for day, digests in held.found.items()}
    more, rest = read(second, known_lines=lambda method: known if method == held.method else {})
    if len(set(lines)) == len(lines):
        assert told([*items, *more]) == meant(asked, kind)
        assert rest.repeated == len(lines[cut : max(cut + back, 1)])
        told_aside = sum(
            i.lines for i in more if isinstance(i, Aside) and i.kind == "counted before"
        )
        assert told_aside == rest.repeated
        kept = (*held.found.values(), *rest.found.values())
        assert sum(map(len, kept)) == 8 * len(lines)


@in_brief
@given(LISTS, KINDS)
def test_the_hour_of_a_build_is_known_in_every_format_that_tells_the_hour(
    tmp_path_factory: pytest.TempPathFactory, asked: list[Asked], kind: str
) -> None:
    """Requests are a second apart, from ten o'clock on."""
    live = "2026-05-03T10:00:20Z"
    path = write_log(tmp_path_factory.mktemp("log") / "a.log", kind, WRITERS[kind](asked))
    items, _ = read(path, live=(live,))
    days = Counter[str]()
    for n, a in enumerate(asked):
        name = f"2026-05-{a.day:02}"
        apart = a.day == 3 and kind != "json"
        days[f"{name}{'B' if n < 20 else 'A'}{live}" if apart else name] += 1
    found = Counter[str]()
    for (_, _, day, _, _), n in told(items).items():
        found[day] += n
    assert found == days


def write(folder: Path, *lines: str) -> Path:
    path = folder / "a.log"
    path.write_text("\n".join(lines) + "\n")
    return path


def line(target: str = "/a", clock: str = "10:00:00", day: int = 3, status: int = 404,
    referrer: str = "-", agent: str = "Mozilla/5.0") -> str:  # fmt: skip
    return (
        f'192.0.2.1 - - [{day:02}/May/2026:{clock} +0200] "GET {target} HTTP/1.1" {status} 5 '
        f'"{referrer}" "{agent}"'
    )


def record(items: Sequence[Item]) -> Record:
    (found,) = (i for i in items if isinstance(i, Record))
    return found


@pytest.mark.parametrize("odd", [False, True])
def test_a_day_on_which_a_build_went_live_is_taken_apart(tmp_path: Path, odd: bool) -> None:
    """By the log's own clock, in columns and, where a quote is escaped, line by line alike."""
    live = "2026-05-03T08:30:00Z"  # 10:30 there
    agent = 'Mozilla \\" b' if odd else "Mozilla"
    clocks = ("10:29:59", "10:30:00", "23:59:59", "00:00:00")
    path = write(tmp_path, *(line(clock=c, agent=agent) for c in clocks), line(day=4, agent=agent))
    items, _ = read(path, live=(live,))
    days = dict(unpack_days(record(items).figures[0].days))
    assert days == {
        f"2026-05-03B{live}": 2, f"2026-05-03A{live}": 2, "2026-05-04": 1,
    }  # fmt: skip
    two = "2026-05-03T20:00:00Z"
    items, _ = read(path, live=(two, live))
    days = dict(unpack_days(record(items).figures[0].days))
    assert days == {
        f"2026-05-03B{live}": 2, f"2026-05-03A{live}": 1, f"2026-05-03A{two}": 1, "2026-05-04": 1,
    }  # fmt: skip


def test_referrers_are_counted_without_queries_and_the_rest_goes_together(tmp_path: Path) -> None:
    many = [line(referrer=f"http://{n:02}.example/?q={n}") for n in reversed(range(22))]
    rows = [*many, line(referrer="http://01.example/"), line(), line(referrer="")]
    items, _ = read(write(tmp_path, *rows))
    found = record(items).referrers
    assert found["http://01.example/"] == 2
    assert found["http://19.example/"] == 1
    assert found[""] == 2
    assert len(found) == 21
    assert sum(found.values()) == 23


@pytest.mark.parametrize("block", [100, 1 << 20])
def test_campaigns_say_more_than_the_page_that_bore_them(tmp_path: Path, block: int) -> None:
    noise = {"session parameter": "sid", "tracking parameter": "utm_source|gclid"}
    rows = [
        line("/a?utm_source=x", referrer="http://b.example/"),
        line("/a?b=1&gclid=2&sid=3&utm_source=4"),
        line("/a?sid=3&b=1", referrer="http://b.example/"),
        line("/a", referrer="http://b.example/"),
    ]
    with small(block):
        reading = read_access_log(write(tmp_path, *rows), ReadOptions(noise=noise))
        found = {i.url: dict(i.referrers) for i in reading.items if isinstance(i, Record)}
    assert found == {
        "/a": {"campaign:x": 1, "http://b.example/": 1},
        "/a?b=1": {"campaign:4": 1, "http://b.example/": 1},
    }
    assert reading.folded == {"session parameter": 2, "tracking parameter": 2}


@pytest.mark.parametrize("block", [100, 1 << 20])
def test_what_asks_for_no_page_is_set_aside_and_what_is_damaged_is_named(
    tmp_path: Path, block: int
) -> None:
    rows = [
        line().replace("GET /a HTTP/1.1", request)
        for request in ("POST /f?x=1 HTTP/1.1", "POST /f?x=2 HTTP/1.1", "OPTIONS * HTTP/1.1",
            "GET ftp://x HTTP/1.1", "-", "", "GET /a", "GET /a b HTTP/1.1", "GET /a SPDY")
    ]  # fmt: skip
    rows += [
        line().replace(" 404 ", " 099 "), line(status=600), line().replace("May", "Mai"),
            line(day=32),
        line(status=599), "free words",
    ]  # fmt: skip
    with small(block):
        items, _ = read(write(tmp_path, *rows))
    asides = Counter[tuple[str, str]]()
    for item in items:
        if isinstance(item, Aside):
            asides[item.text, item.kind] += item.lines
    assert asides == {
        ("POST /f", "not a page request"): 2,
        ("OPTIONS *", "not a page request"): 1,
        ("GET ftp://x", "not a page request"): 1,
        ("-", "not a page request"): 1,
        ("", "not a page request"): 1,
    }
    damaged = {i.line: i.reason for i in items if isinstance(i, Reject)}
    broken = "its request or status is damaged"
    assert damaged == {
        7: broken, 8: broken, 9: broken, 10: broken, 11: broken,
        12: "there is no such day: 03/Mai/2026", 13: "there is no such day: 32/May/2026",
        15: "not a line of the Common or Combined Log Format",
    }  # fmt: skip
    text = next(i.text for i in items if isinstance(i, Reject) and i.line == 10)
    assert text == "03/May/2026 'GET /a HTTP/1.1' 99"
    assert "192.0.2.1" not in "".join(i.text for i in items if isinstance(i, Reject))
    assert told(items) == {("", "/a", "2026-05-03", "5xx", "people"): 1}


@pytest.mark.parametrize("block", [100, 1 << 20])
def test_lines_of_days_that_are_not_kept_any_more_are_left_out_and_said(
    tmp_path: Path, block: int
) -> None:
    with small(block):
        reading = read_access_log(
            write(tmp_path, line(), line("/b"), line(day=4)),
            ReadOptions(known_lines=lambda _: {"2026-05-03": [b""]}),
        )
        items = list(reading.items)
    assert told(items) == {("", "/a", "2026-05-04", "404", "people"): 1}
    assert reading.lines is not None
    assert reading.lines.let_go == {"2026-05-03": 2}
    assert reading.lines.repeated == 2
    assert reading.notes == [
        (
            "2 lines are of days of which logs were read before and whose lines are not kept any "
            "more "
            "(2026-05-03): left out, since nobody could tell which of them count already"
        )
    ]
    assert reading.days == ("2026-05-04", "2026-05-04")


@pytest.mark.parametrize(
    ("years", "words"),
    [
        ((2001,), "1 line is dated 2001-05-03"),
        ((2001, 2002, 2003), "3 lines are dated 2001-05-03, 2002-05-03, 2003-05-03"),
        ((2001, 2002, 2003, 2004), "4 lines are dated 2001-05-03 to 2004-05-03"),
    ],
)
def test_days_far_from_all_others_count_and_are_no_days_of_the_log(
    tmp_path: Path, years: tuple[int, ...], words: str
) -> None:
    rows = [line(day=d) for d in (3, 4, 5)] * 1400
    rows += [line().replace("/2026", f"/{year}") for year in years]
    reading = read_access_log(write(tmp_path, *rows), ReadOptions())
    assert len(told(list(reading.items))) == 3 + len(years)
    assert reading.days == ("2026-05-03", "2026-05-05")
    assert reading.notes == [
        (
            f"{words}, far from all others: the requests count, these days are not taken for days "
            "of the log"
        )
    ]


def test_a_line_that_is_too_long_is_rejected_by_itself(tmp_path: Path) -> None:
    longest = "/" + "y" * (MAX_LINE - len(line("/")))
    odd = line("/c", agent='a \\" b')
    rows = [line(), line("/" + "x" * 1_100_000), odd, line("/b"), line(longest)]
    items, _ = read(write(tmp_path, *rows))
    (long,) = (i for i in items if isinstance(i, Reject))
    assert (long.line, long.reason) == (2, f"longer than {MAX_LINE:,} characters")
    assert len(long.text) < 250
    assert {key[1] for key in told(items)} == {"/a", "/b", "/c", longest}


@pytest.mark.parametrize(
    "rows",
    [
        [line(f"/{n % 60}") for n in range(600)],
        [line(referrer=f"http://{n}.example/") for n in range(600)],
        [line(agent=f"Mozilla {n}") for n in range(600)],
        [line(status=400 + n, day=d) for n in range(25) for d in range(3, 28)],
    ],
    ids=["requests", "referrers", "agents", "days and statuses"],
)
def test_a_log_of_more_than_fits_into_memory_comes_in_parts(
    tmp_path: Path, rows: list[str]
) -> None:
    path = write(tmp_path, *rows)
    whole, _ = read(path)
    with small(300, 5):
        parts, _ = read(path)
    assert told(parts) == told(whole)
    counted = [led([i for i in items if isinstance(i, Record)]) for items in (parts, whole)]
    assert counted[0].total() == counted[1].total()
    assert len(parts) >= 4 * len(whole)


def test_pages_are_asked_for_by_get_and_head_and_by_whole_addresses(tmp_path: Path) -> None:
    asked = ("HEAD /a", "GET http://a.example/b", "GET https://a.example/c", "PUT /d")
    items, _ = read(write(tmp_path, *(line().replace("GET /a", a) for a in asked)))
    assert sorted(key[1] for key in told(items)) == [
        "/a", "http://a.example/b", "https://a.example/c",
    ]  # fmt: skip


def test_packed_logs_and_strange_bytes_are_read_as_servers_write_them(tmp_path: Path) -> None:
    path = tmp_path / "a.log.gz"
    raw = line("/caf\xe9").encode("latin-1") + b"\n" + line("/\x01").encode() + b"\n"
    path.write_bytes(gzip.compress(raw))
    items, _ = read(path)
    assert {key[1] for key in told(items)} == {"/caf\udce9", "/\x01"}
