"""Tables in whatever other programs write tables into: each tells what it tells as CSV."""

from __future__ import annotations

import csv
import io
import random
from pathlib import Path

import pytest

from conftest import NEW, OLD, Program
from containers import CONTAINERS, delimited
from ledgers import fresh_ledger
from other_samples import SAMPLES
from upright_ledger.app.collect.gather import gather
from upright_ledger.app.collect.stock import stock
from upright_ledger.app.decide.sheets.decide_list import decide_from
from upright_ledger.core.inventory.answer import Decision
from upright_ledger.ledger.tables.entries import load_entries
from upright_ledger.ledger.tables.stock import Destination, load_stock

EACH = 4  # tables of each container
ALL_SORTS = [
    ["Page URL", "Page title", "Clicks", "Status code", "Last seen", "Responsible person"],
    [f"{OLD}/visit/room.html", "Guide: the tower", "1204", "200", "2026-05-01", "Ann"],
    [f"{OLD}/shop/bell?id=7", "Bells and whistles, big", "12", "404", "2026-05-02", ""],
    [f"{OLD}/a-b/c~d", 'He said "no"', "0", "301", "2026-05-03", "Bo"],
    [f"{OLD}/u/%C3%BC", "\u00dcber-Uhr = gut", "7", "404", "2026-05-04", "Ann"],
    [f"{OLD}/it/", "It is 50 % off; or more", "31", "200", "2026-05-05", "Cy D."],
    [f"{OLD}/no-title", "", "3", "200", "2026-05-06", "Bo"],
]

PERSON = "Mozilla/5.0 (X11; Linux x86_64; rv:140.0) Gecko/20100101 Firefox/140.0"
BOT = "Mozilla/5.0 (compatible; FernBot/2.1; +http://fern.example/bot)"
REQUESTS = [
    ["Time", "Client IP", "Method", "URL", "Status", "Bytes", "User agent", "Referrer"],
    ["2026-05-01 10:00:00", "192.0.2.1", "GET", "/visit/room.html", "404", "512", PERSON,
        "https://fern.example/a"],
    ["2026-05-01 10:00:01", "192.0.2.2", "GET", "/shop/bell", "404", "512", PERSON, ""],
    ["2026-05-01 10:00:02", "192.0.2.3", "GET", "/shop/bell", "404", "512", BOT, ""],
    ["2026-05-02 11:00:00", "192.0.2.1", "GET", "/guide/7", "200", "99", PERSON, ""],
    ["2026-05-02 11:00:05", "192.0.2.9", "POST", "/visit/room.html", "404", "0", PERSON, ""],
]  # fmt: skip
PAIRS = [
    ["Old URL", "New URL", "Status"],
    [f"{OLD}/visit/room.html", f"{NEW}/rooms/", "301"],
    [f"{OLD}/shop/bell?id=7", f"{NEW}/bells/7", "302"],
    ["/a-b/c", f"{NEW}/c/", "301"],
    [f"{OLD}/gone", "", "410"],
]
PAGES = [
    ["Address", "Title", "Status Code", "Canonical"],
    [f"{NEW}/rooms/", "Rooms: all", "200", ""],
    [f"{NEW}/bells/7", "Bell, no. 7", "200", f"{NEW}/bells/7"],
    [f"{NEW}/c/", "C", "301", ""],
]


def rows_of(name: str) -> list[list[str]]:
    """The rows of a sample that is a table of words over figures; none of others."""
    sample = SAMPLES[name]
    if not sample.name.endswith(".csv") or not name.startswith("table: "):
        return []
    try:
        rows = list(csv.reader(io.StringIO(sample.data.decode()), delimiter=";"))
    except UnicodeDecodeError:
        return []
    whole = all(len(row) == len(rows[0]) > 1 for row in rows)
    return rows if whole and all(row[-1].isdigit() for row in rows[1:]) else []


TABLES = {name: rows for name in SAMPLES if (rows := rows_of(name))}


def laid(data: str | bytes, file: Path) -> Path:
    """A file with these data, in a folder of its own."""
    file.parent.mkdir()
    file.write_bytes(data if isinstance(data, bytes) else data.encode())
    return file


def told(data: str | bytes, name: str, folder: Path) -> dict[str, tuple[object, ...]]:
    """Address → all that is told of it."""
    file, ledger = laid(data, folder / name), fresh_ledger([OLD], [NEW])
    gather(ledger, [str(file)])
    with ledger.reading() as connection:
        found = load_entries(connection)
    return {e.legacy_url: (e.evidence, list(e.titles), e.last_seen) for e in found}


@pytest.mark.parametrize("container", CONTAINERS)
def test_a_table_tells_the_same_in_whatever_it_is_written(container: str, tmp_path: Path) -> None:
    name, write = CONTAINERS[container]
    drawn = random.Random(container).sample(sorted(TABLES), EACH)
    for n, rows in enumerate([ALL_SORTS, *(TABLES[one] for one in drawn)]):
        wanted = told(delimited(",")(rows), "a.csv", tmp_path / f"csv{n}")
        assert told(write(rows), name, tmp_path / f"{n}") == wanted, rows
        assert len(wanted) == sum(row[0].startswith("http") for row in rows)


def decided(data: str | bytes, name: str, folder: Path) -> dict[str, Decision]:
    """Address → its answer by a sheet of pairs."""
    file, ledger = laid(data, folder / name), fresh_ledger([OLD], [NEW])
    decide_from(ledger, file)
    with ledger.reading() as connection:
        return {e.legacy_url: e.answer for e in load_entries(connection)}


def stocked(data: str | bytes, name: str, folder: Path) -> dict[str, Destination]:
    """Page → what is told of it by an inventory of the new site."""
    file, ledger = laid(data, folder / name), fresh_ledger([OLD], [NEW])
    stock(ledger, [file])
    with ledger.reading() as connection:
        return dict(load_stock(connection))


@pytest.mark.parametrize("container", [name for name in CONTAINERS if name != "columns"])
def test_requests_are_counted_alike_in_whatever_they_are_written(
    container: str, tmp_path: Path
) -> None:
    name, write = CONTAINERS[container]
    wanted = told(delimited(",")(REQUESTS), "a.csv", tmp_path / "csv")
    assert told(write(REQUESTS), name, tmp_path / "other") == wanted
    hits = {url: (e.hits, e.bot_requests) for url, (e, *_) in wanted.items()}
    assert hits == {
        f"{OLD}/visit/room.html": (1, 0), f"{OLD}/shop/bell": (1, 1), f"{OLD}/guide/7": (1, 0),
    }  # fmt: skip


def test_requests_in_a_sheet_are_replayed_and_rejects_name_their_row(museum: Program) -> None:
    name, write = CONTAINERS["a workbook, second sheet"]
    torn = [*REQUESTS, ["2026-05-03 11:00:05", "192.0.2.9", "GET", "", "404", "0", PERSON, ""]]
    data = write(torn)
    assert isinstance(data, bytes)
    (museum.folder / name).write_bytes(data)
    gathered = museum("gather", name, "--json").json["sources"][0]
    assert (gathered["kind"], gathered["accepted"], gathered["rejected"]) == ("access-log", 4, 1)
    assert f"{name} was gathered before" in museum("gather", name).out
    rehearsed = museum("rehearse", name, "--json", code=None).json
    assert (rehearsed["urls"], rehearsed["hits"]) == (3, 3)


@pytest.mark.parametrize("container", CONTAINERS)
def test_pairs_and_pages_are_the_same_in_whatever_they_are_written(
    container: str, tmp_path: Path
) -> None:
    name, write = CONTAINERS[container]
    for n, (rows, read) in enumerate(((PAIRS, decided), (PAGES, stocked))):
        wanted = read(delimited(",")(rows), "a.csv", tmp_path / f"csv{n}")
        assert read(write(rows), name, tmp_path / str(n)) == wanted
        assert len(wanted) == len(rows) - 1


def test_a_ledger_is_not_read_as_a_list(museum: Program) -> None:
    out = museum("gather", "ledger.db", code=3).err
    assert "ledger.db is a ledger" in out
    assert "upright entries --csv" in out


def test_a_database_that_is_damaged_or_still_written_is_told(museum: Program) -> None:
    data = CONTAINERS["a database"][1](ALL_SORTS)
    assert isinstance(data, bytes)
    (museum.folder / "a.db").write_bytes(data)
    (museum.folder / "a.db-wal").write_bytes(b"not yet")
    (museum.folder / "b.db").write_bytes(data[:100] + bytes(len(data) - 100))
    done = museum("gather", "a.db", "b.db", code=3)
    assert "into a.db-wal only is not read" in " ".join(done.out.split())
    assert "b.db is a damaged database" in " ".join(done.err.split())
    assert (museum.folder / "a.db").read_bytes() == data


def test_addresses_amid_the_words_of_records_are_all_taken(museum: Program) -> None:
    """Several in one value: the file is no table of one address a record."""
    aliases = "".join(f"- title: Room {n}\n  from: [/a{n}, /b{n}]\n  to: /c{n}\n" for n in range(3))
    museum.write("aliases.yml", aliases)
    museum("gather", "aliases.yml")
    found = {e["legacy_url"].rpartition("/")[2] for e in museum.json("balance")["top_open"]}
    assert {f"{side}{n}" for side in "ab" for n in range(3)} <= found
    told = "".join(f"- url: /d{n}\n  hits: {n + 2}\n  text: see /e{n} on it\n" for n in range(3))
    museum.write("told.yml", told)
    assert museum.json("gather", "told.yml")["sources"][0]["kind"] == "records"
    hits = {e["legacy_url"][-3:]: e["hits"] for e in museum.json("entries")["entries"]}
    assert {path: hits[path] for path in hits if "d" in path} == {"/d0": 2, "/d1": 3, "/d2": 4}
