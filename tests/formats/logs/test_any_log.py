"""Logs of many servers, frameworks, clouds and collectors, each told by what stands in it."""

from __future__ import annotations

import json
import random
from collections import Counter
from collections.abc import Iterator
from contextlib import suppress
from pathlib import Path

import pytest

from asked import AGENT, FROM, HOST, OTHER, PATH, Asked
from conftest import OLD, Program
from log_samples import SAMPLES
from printed_samples import RECORDS
from upright_ledger.formats.detection import FileKind, recognise
from upright_ledger.formats.logs.access_log import read_access_log
from upright_ledger.formats.logs.forms.any_line import is_request_line, learned
from upright_ledger.formats.logs.log_formats import format_of, is_log
from upright_ledger.formats.logs.log_line import LogLine, NotALineError
from upright_ledger.formats.logs.meanings.log_times import day_of, moment_of, times_in
from upright_ledger.formats.records import ReadOptions

HOSTS = frozenset([HOST, "quillhaven.example"])


def requests_of(text: str) -> Iterator[Asked]:
    """What the lines of a log tell, read by the format that they show."""
    lines = [line for line in text.split("\n") if line.strip()]
    parse = format_of(lines, HOSTS).new_parser(lines, HOSTS)
    for line in lines:
        told = parse(line)
        if isinstance(told, LogLine):
            method, target, _ = told.request.split(" ")
            referrer = "" if told.referrer == "-" else told.referrer
            day = "2026-05-01" if told.day == "01/May/2026" else told.day
            yield Asked(told.status, told.agent, referrer, told.host, target, method, day)


@pytest.mark.parametrize("name", SAMPLES)
def test_each_kind_of_log_tells_its_requests(name: str, tmp_path: Path) -> None:
    text, asked = SAMPLES[name]
    path = tmp_path / "a.log"
    path.write_text(text, encoding="utf-8")
    assert recognise(path) == FileKind.ACCESS_LOG
    assert list(requests_of(text)) == asked


def test_all_kinds_of_logs_are_gathered(museum: Program) -> None:
    """By the program, each with a page of its own: every line counts, on the host that it names,
    and people as people.
    """
    names = {f"{n:03}.log": name for n, name in enumerate(SAMPLES)}
    for file, name in names.items():
        museum.write(file, SAMPLES[name][0].replace("room.html", f"room{file[:3]}.html"))
    told = {Path(s["name"]).name: s for s in museum.json("gather", *names)["sources"]}
    hits = {e["legacy_url"]: e["hits"] for e in museum.json("entries", "--limit", 0)["entries"]}
    for file, name in names.items():
        source, asked = told[file], SAMPLES[name][1]
        left = source["lines"] - source["set_aside"] - source["rejected"]
        assert (name, left) == (name, source["accepted"])
        page = f"{OLD}/visit/room{file[:3]}.html?id=3"
        wanted = None if asked[0].host == OTHER else len(asked)
        assert (name, hits.pop(page, None)) == (name, wanted)
    assert not hits


@pytest.mark.parametrize("name", RECORDS)
def test_records_over_several_lines_are_one_request_each(name: str, tmp_path: Path) -> None:
    path = tmp_path / "a.txt"
    once = RECORDS[name]
    path.write_text(once + once.replace("room.html", "hall.html"), encoding="utf-8")
    assert recognise(path) == FileKind.ACCESS_LOG
    found = list(read_access_log(path, ReadOptions(hosts=HOSTS)).items)
    assert [(type(i).__name__, i.url) for i in found] == [
        ("Record", f"/visit/{page}.html?id=3") for page in ("room", "hall")
    ]
    for item in found:
        (figure,) = item.figures
        assert (figure.days, figure.agent) == ("2026-05-01:1", "people")


def test_records_that_are_torn_are_rejected_and_the_others_count(tmp_path: Path) -> None:
    for name in ("an object of JavaScript", "YAML", "messages as they were sent"):
        whole, path = RECORDS[name], tmp_path / "a.txt"
        torn = whole.replace("status: 404", "").replace("HTTP/1.1 404", "").replace("}", "")
        path.write_text(whole + torn + whole, encoding="utf-8")
        found = [type(i).__name__ for i in read_access_log(path, ReadOptions(hosts=HOSTS)).items]
        assert sorted(found)[:2] == ["Record", "Reject"], name


def test_days_stand_before_months_where_a_log_would_take_months_otherwise(museum: Program) -> None:
    lines = [f"{d:02}/05/2026 10:00:00 192.0.2.1 GET /a{d} 404" for d in (1, 2, 3)]
    museum.write("a.log", "\n".join(lines))
    museum("gather", "a.log")
    assert museum.json("entries", "/a3")["last_seen"] == "2026-05-03"


def test_the_hits_of_a_search_are_requests(museum: Program) -> None:
    """As a search engine for logs answers: objects in a list below what is told of them."""
    hit = {"@timestamp": "2026-05-01T10:00:00.123Z", "client": "192.0.2.1", "vhost": HOST,
        "verb": "GET", "request": PATH, "response": "404", "agent": AGENT}  # fmt: skip
    hits = [{"_id": n, "_source": hit | {"client": f"192.0.2.{n}"}} for n in range(3)]
    told = {"took": 1, "hits": {"total": {"value": 3}, "hits": hits}}
    for number, indent in enumerate((None, 1)):
        museum.write(f"{number}.json", json.dumps(told, indent=indent))
        assert museum.json("gather", f"{number}.json")["sources"][0]["kind"] == "access-log"
    (entry,) = museum.json("entries")["entries"]
    assert (entry["hits"], entry["last_seen"]) == (3, "2026-05-01")


def test_a_table_of_requests_with_days_in_words(museum: Program) -> None:
    heading = "@timestamp,source.ip,url.domain,url.original,http.response.status_code,agent"
    rows = [
        f'"May 1, 2026 @ 10:00:0{n}.000",192.0.2.{n},{HOST},{PATH},404,"{AGENT}"' for n in range(3)
    ]
    museum.write("export.csv", "\n".join([heading, *rows]) + "\n")
    museum("gather", "export.csv")
    (entry,) = museum.json("entries")["entries"]
    assert (entry["hits"], entry["last_seen"]) == (3, "2026-05-01")


def test_the_place_of_a_status_is_learned_from_many_lines() -> None:
    """Bytes stand before it, and are sometimes as large as a status."""
    draw = random.Random(3)
    lines = [
        f'192.0.2.{n} - - [01/May/2026:10:00:00 +0000] "GET /a{n} HTTP/1.1" {size} {status}'
        for n, (size, status) in enumerate(
            (draw.randrange(100, 599), draw.choice((200, 404, 301))) for _ in range(200)
        )
    ]
    parse = learned(lines, HOSTS)
    told = [parse(line) for line in lines]
    assert Counter(t.status for t in told if isinstance(t, LogLine)).keys() == {"200", "404", "301"}


def test_a_backend_is_no_referrer_where_nobody_says_who_asks() -> None:
    line = (
        '192.0.2.1 - - [01/May/2026:10:00:00 +0000] "GET /a HTTP/1.1" 404 12 "-" "-" 1 '
        '"web@docker" "http://10.0.0.2:80" 1ms'
    )
    told = learned([line], HOSTS)(line)
    assert isinstance(told, LogLine)
    assert (told.referrer, told.agent) == ("", "-")


def test_other_sites_of_one_server_do_not_count(museum: Program) -> None:
    line = '192.0.2.1 {} - [01/May/2026:10:00:00 +0000] "GET {} HTTP/1.1" 404 12 "-" "Mozilla/5.0"'
    hosts = [HOST, OTHER, HOST, "blog.fern.example"]
    museum.write("a.log", "".join(line.format(h, f"/p{n}") + "\n" for n, h in enumerate(hosts)))
    told = museum.json("gather", "a.log")["sources"][0]
    assert (told["accepted"], told["set_aside"]) == (2, 2)
    assert {e["legacy_url"] for e in museum.json("entries")["entries"]} == {
        f"{OLD}/p0",
        f"{OLD}/p2",
    }


def test_torn_and_foreign_lines_among_good_ones_are_named(museum: Program) -> None:
    good = (
        "2026-05-01T10:00:00Z stdout F 192.0.2.1 - - [01/May/2026:10:00:00 +0000] "
        f'"GET {PATH} HTTP/1.1" 404 9 "{FROM}" "{AGENT}"'
    )
    museum.write(
        "a.log", "\n".join([good, good[:70], "Traceback (most recent call last):", good]) + "\n"
    )
    told = museum.json("gather", "a.log")["sources"][0]
    assert (told["lines"], told["accepted"], told["rejected"], told["set_aside"]) == (4, 2, 1, 1)


@pytest.mark.parametrize(
    "text",
    [
        "old,new,status\n/a,/b,301\n/c,/d,301\n",
        "url,status,last crawled\nhttp://www.quillhaven.example/a,404,2026-05-01\n" * 2,
        "/a\n/b\n/404\n",
        "URL,Status,Crawl date,Indexing method\n/a,404,2026-05-01,sitemap\n/b,404,2026-05-02,x\n",
        "address,status code,last seen,user agent group\n/a,404,2026-05-01,desktop\n",
        '{"url": "/a", "status": 404, "time": "2026-05-01", "method": "sitemap"}\n',
        "See http://www.quillhaven.example/a for GET requests.\n",
        '{"url": "/a", "status": 404, "title": "A"}\n',
        "Clicks;Impressions;Page\n3;4;http://www.quillhaven.example/a\n",
        "method one: GET to the museum by tram 404, leave at 10:00:00\n",
    ],
)  # fmt: skip
def test_lists_and_tables_are_no_logs(text: str) -> None:
    assert not is_log([line for line in text.split("\n") if line])


@pytest.mark.parametrize(("pages", "kind"), [(4, FileKind.ACCESS_LOG), (30, FileKind.TABLE)])
@pytest.mark.parametrize("day", ["2026-05-01T10:{:02}:07Z", "01.05.2026 10:{:02}:07"])
def test_addresses_that_come_again_at_other_times_are_requests(
    pages: int, kind: str, day: str, museum: Program
) -> None:
    """A heading that names no method: told from a list by what comes again."""
    rows = [f"{day.format(n)};/p{n % pages}.html;404" for n in range(30)]
    museum.write("a.csv", "time;uri;code\n" + "\n".join(rows) + "\n")
    told = museum.json("gather", "a.csv")["sources"][0]
    assert (told["kind"], told["accepted"]) == (kind, 30)
    hits = sum(e["hits"] for e in museum.json("entries")["entries"])
    assert hits == (30 if kind == FileKind.ACCESS_LOG else 0)


def test_text_that_holds_a_request_line_is_never_read_as_a_list() -> None:
    lines = ["http://www.quillhaven.example/a", 'seen: "GET /x HTTP/1.1" and more', "/b", "/c"]
    assert is_log(lines)


@pytest.mark.parametrize(
    ("text", "day", "clock"),
    [
        ("2026-05-01T10:00:00Z", "2026-05-01", "10:00:00"), ("2026-05-01", "2026-05-01", ""),
        ("01/May/2026:10:00:00 +0000", "2026-05-01", "10:00:00"),
        ("2026/05/01 - 10:00:00", "2026-05-01", "10:00:00"),
        ("Fri May  1 10:00:00 2026", "2026-05-01", "10:00:00"),
        ("Fri May 01 10:00:00.123456 2026", "2026-05-01", "10:00:00"),
        ("Fri, 01 May 2026 10:00:00 GMT", "2026-05-01", "10:00:00"),
        ("1777629600", "2026-05-01", "10:00:00"), ("1777629600123", "2026-05-01", "10:00:00"),
        ("1777629600123456", "2026-05-01", "10:00:00"), ("0.003", "", ""), ("404", "", ""),
        ("", "", ""),
        ("12345", "", ""), ("x", "", ""), ("1e30", "", ""), ("nan", "", ""),
    ],
)  # fmt: skip
def test_times_in_many_forms(text: str, day: str, clock: str) -> None:
    assert moment_of(text)[:2] == (day, clock)
    assert day_of(text) == day


def test_a_day_without_a_year_is_the_last_one() -> None:
    (moment,) = times_in("Jan  1 00:00:00 web1 x: y")
    assert moment.day[4:] == "-01-01"
    assert times_in("May  1 10:00:00 lb: [01/May/2019:10:00:00]")[0].day == "2019-05-01"


@pytest.mark.parametrize(
    "sign", ['"', '["', "{", "\\", '"\\', "[[]", 'a="', "GET ", "GET /a ", "|"]
)
def test_lines_that_are_made_to_be_slow_are_not(sign: str) -> None:
    line = sign * (60_000 // len(sign))
    assert not is_request_line(line)
    with suppress(NotALineError):
        assert isinstance(learned([line], HOSTS)(line), str)


_ONE = {
    "time": "2026-05-01T10:00:00Z",
    "method": "GET",
    "uri": "/d",
    "status": 404,
    "user_agent": AGENT,
}


@pytest.mark.parametrize(
    "text",
    [
        json.dumps([_ONE] * 2), json.dumps([_ONE] * 2, indent=2), json.dumps({"logs": [_ONE] * 2}),
        json.dumps(_ONE, indent=1) + "\n" + json.dumps(_ONE, indent=1) + "\n",
        json.dumps({"count": 2, "hits": [_ONE] * 2, "took": 3}, indent=2),
    ],
    ids=["array", "indented array", "below a name", "indented objects", "below a name, indented"],
)  # fmt: skip
def test_objects_count_however_they_are_laid_out(text: str, museum: Program) -> None:
    museum.write("a.json", text)
    told = museum.json("gather", "a.json")["sources"][0]
    assert (told["kind"], told["lines"], told["accepted"]) == ("access-log", 2, 2)
    assert [e["hits"] for e in museum.json("entries")["entries"]] == [2]


def test_a_large_array_that_is_cut_off_in_its_head_is_a_log(museum: Program) -> None:
    many = [_ONE | {"uri": f"/d{n}"} for n in range(3000)]
    museum.write("a.json", json.dumps({"hits": many}))
    told = museum.json("gather", "a.json")["sources"][0]
    assert (told["kind"], told["accepted"]) == ("access-log", 3000)


@pytest.mark.parametrize("encoding", ["utf-16", "utf-16-le", "utf-16-be", "utf-8-sig"])
@pytest.mark.parametrize("end", ["\n", "\r\n"])
def test_logs_in_other_encodings(encoding: str, end: str, museum: Program) -> None:
    text = "".join(f"{SAMPLES['combined'][0].strip()}{end}" for _ in range(3))
    mark = "\ufeff" if encoding.startswith("utf-16-") else ""
    museum.write("a.log", (mark + text).encode(encoding))
    assert museum.json("gather", "a.log")["sources"][0]["accepted"] == 3


@pytest.mark.parametrize("name", ["combined", "json", "w3c"])
@pytest.mark.parametrize("encoding", ["utf-8", "cp1252"])
def test_letters_of_a_path_are_those_that_were_escaped(
    name: str, encoding: str, museum: Program
) -> None:
    """As servers write them that decode what they were sent; in whatever encoding."""
    lines = {
        "combined": '10.0.0.1 - - [03/May/2026:10:00:00 +0000] "GET {} HTTP/1.1" 404 1 "-" "A/1"',
        "json": '{{"time":"2026-05-03","method":"GET","uri":"{}","status":404}}',
        "w3c": "2026-05-03 GET {} 404",
    }
    head = "#Fields: date cs-method cs-uri-stem sc-status\n" if name == "w3c" else ""
    targets = ["/gr\u00f6\u00dfe", "/plain"]
    if name == "combined":
        targets.append(f"{OLD}/\u00e4lter")
    text = head + "".join(f"{lines[name].format(target)}\n" for target in targets)
    museum.write("a.log", text.encode(encoding))
    if encoding != "utf-8":  # what it is nobody can know
        assert museum.json("gather", "a.log")["sources"][0]["accepted"] == 1
        museum("undo")
    named = ("--encoding", encoding) if encoding != "utf-8" else ()
    assert museum.json("gather", "a.log", *named)["sources"][0]["accepted"] == len(targets)
    wanted = {f"{OLD}/gr%C3%B6%C3%9Fe", f"{OLD}/plain", f"{OLD}/%C3%A4lter"}
    found = {e["legacy_url"] for e in museum.json("balance")["top_open"]}
    assert found == {u for u in wanted if u != f"{OLD}/%C3%A4lter" or len(targets) > 2}


def test_what_a_program_says_between_its_requests_is_set_aside(museum: Program) -> None:
    request = (
        "2026-05-01T10:00:00.1Z INFO request completed method=GET path=/f status=404 "
        f'user_agent="{AGENT}" time=2026-05-01T10:00:00Z'
    )
    chatter = ["Listening on port 80", " at Object.<anonymous> (/app/x.js:1:2)", "All is done."]
    museum.write("a.log", "\n".join([*chatter, request] * 3) + "\n")
    told = museum.json("gather", "a.log")["sources"][0]
    assert (told["kind"], told["accepted"], told["set_aside"]) == ("access-log", 3, 9)


def test_a_log_that_begins_with_a_scan_is_read_as_any_other(museum: Program) -> None:
    """Nothing that a scanner sent is a request, so that it tells nothing of the fields."""
    scan = '192.0.2.1 - - [01/May/2026:10:00:00 +0000] "\\x16\\x03\\x01" 400 0 "-" "-"\n' * 400
    bot = SAMPLES["combined"][0].replace(AGENT, "FernCrawler/1.0 (+https://fern.example/bot)")
    museum.write("a.log", scan + SAMPLES["combined"][0] + bot)
    told = museum.json("gather", "a.log")["sources"][0]
    assert (told["accepted"], told["rejected"]) == (2, 400)
    assert [e["hits"] for e in museum.json("entries")["entries"]] == [1]


@pytest.mark.parametrize(
    ("text", "accepted", "rejected"),
    [
        (json.dumps([_ONE] * 2, indent=1)[:-60], 1, 1),
        (json.dumps([_ONE] * 2, indent=1) + "\nand more", 2, 1),
        (json.dumps(_ONE) + "\rx\r", 1, 1),
        (json.dumps([_ONE, _ONE | {"uri": "/e"}])[:-1] + ', {"broken": ', 2, 1),
    ],
    ids=["cut off", "something behind", "lone returns", "broken at its end"],
)  # fmt: skip
def test_what_is_damaged_in_a_document_is_named(
    text: str, accepted: int, rejected: int, museum: Program
) -> None:
    museum.write("a.json", text)
    told = museum.json("gather", "a.json")["sources"][0]
    assert (told["accepted"], told["rejected"]) == (accepted, rejected)
