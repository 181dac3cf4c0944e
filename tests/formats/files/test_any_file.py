"""Files of all kinds but logs: each tells the pages it names, with their figures, and no others."""

from __future__ import annotations

import plistlib
from pathlib import Path

import pytest

from conftest import NEW, OLD, Program
from document_samples import document
from ledgers import fresh_ledger
from other_samples import HOST, SAMPLES, Sample
from packed_samples import packed
from upright_ledger.app.collect.gather import gather
from upright_ledger.core.inventory.units import CLICKS, HITS, IMPRESSIONS, VISITS
from upright_ledger.ledger.tables.entries import load_entries

OTHERS = (
    "packed: zip of many", "packed: a mail with an export", "rules: an arrow",
    "table: addresses and counts",
)  # fmt: skip


def told(sample: Sample, folder: Path) -> dict[str, dict[str, float]]:
    """Path → figures of every entry."""
    file = folder / sample.name
    file.write_bytes(sample.data)
    ledger = fresh_ledger([OLD], [NEW])
    gather(ledger, [str(file)])
    with ledger.reading() as connection:
        found = load_entries(connection)
    return {
        e.legacy_url.partition(HOST)[2]: {
            HITS: e.evidence.hits, CLICKS: e.evidence.clicks, VISITS: e.evidence.visits,
            IMPRESSIONS: e.evidence.impressions,
        }
        for e in found
    }  # fmt: skip


@pytest.mark.parametrize("name", SAMPLES)
def test_each_kind_of_file_tells_its_pages(name: str, tmp_path: Path) -> None:
    sample = SAMPLES[name]
    found = told(sample, tmp_path)
    wanted = {path.rstrip("/") for path in sample.pages}
    assert {path.rstrip("/") for path in found} == wanted
    for path, figure in sample.pages.items():
        figures = found[path]
        assert figures[sample.unit] == (figure or 0.0), path
        assert sum(figures.values()) == (figure or 0.0), path


@pytest.mark.parametrize("name", OTHERS)
def test_the_program_says_what_it_read(name: str, museum: Program) -> None:
    sample = SAMPLES[name]
    (museum.folder / sample.name).write_bytes(sample.data)
    out = museum("gather", sample.name).out
    assert sample.name in out
    if "many" in name:
        assert "a.zip: d/Pages.csv" in out
        assert "left out: Queries.csv, a.bin" in out
    assert ("its figures are taken for hits" in out) == ("counts" in name)
    known = museum.json("gather", sample.name)["sources"]
    assert all(source["known"] for source in known)


def test_an_archive_without_addresses_is_refused_by_its_name(museum: Program) -> None:
    sample = SAMPLES["packed: zip of many"]
    (museum.folder / "a.zip").write_bytes(sample.data.replace(b"http://www", b"nothing,ww"))
    assert "a.zip" in museum("gather", "a.zip", code=3).err


@pytest.mark.parametrize(
    "row", [f"{OLD}/a,1,234", f"{OLD}/a,Hello,World", f"{OLD}/a, b,5", f"5,{OLD}/a,b c"]
)
def test_a_torn_row_is_rejected_where_more_than_its_address_may_be_torn(
    row: str, museum: Program
) -> None:
    museum.write("a.csv", f"url,hits\n{OLD}/sound,1\n{OLD}/well,2\n{row}\n")
    told = museum.json("gather", "a.csv")["sources"][0]
    assert (told["accepted"], told["rejected"]) == (2, 1)


def test_members_are_read_whatever_they_are_called_and_none_leaves_its_folder(
    museum: Program,
) -> None:
    names = ("../../out.csv", "-rf.csv", "a\nb.csv", "%s?.csv", "C:\\x.csv", ".hidden.csv")
    files = {name: f"url\n{OLD}/m{n}-1\n{OLD}/m{n}-2\n" for n, name in enumerate(names)}
    (museum.folder / "a.zip").write_bytes(packed(**files))
    told = museum.json("gather", "a.zip")["sources"]
    assert [source["accepted"] for source in told] == [2] * 5
    assert not list(museum.folder.parent.parent.glob("out.csv"))
    assert len(museum.json("entries")["entries"]) == 10


DOUBTFUL = "".join(f"{OLD}/a{n}{{sign}}{n}\n" for n in range(5))


@pytest.mark.parametrize("sign", [",", ";"])
def test_a_list_that_may_be_a_table_is_asked_for(sign: str, museum: Program) -> None:
    """With what each would read; the user's word settles it, and nothing is posted before."""
    museum.write("a.txt", DOUBTFUL.format(sign=sign))
    refused = museum("gather", "a.txt", code=3)
    assert f"begins with {OLD}/a0{sign}0, as a table with {OLD}/a0 and a figure" in refused.err
    assert "--kind text or --kind table" in refused.err
    assert museum.json("entries")["entries"] == []
    museum("gather", "a.txt", "--kind", "table")
    found = {e["legacy_url"] for e in museum.json("entries")["entries"]}
    assert found == {f"{OLD}/a{n}" for n in range(5)}


@pytest.mark.parametrize(
    "text",
    [
        "".join(f"{OLD}/news,{n},{n}.html\n" for n in range(5)),
        "".join(f"{OLD}/news{n};id={n}\n" for n in range(5)),
        "".join(f"{OLD}/news,{n}\n{OLD}/a{n}\n" for n in range(5)),
    ],
)
def test_addresses_that_hold_commas_are_no_table(text: str, museum: Program) -> None:
    museum.write("a.txt", text)
    museum("gather", "a.txt")
    found = {e["legacy_url"] for e in museum.json("entries")["entries"]}
    assert found == set(text.split())


def test_what_stands_where_figures_do_is_said_and_no_sum_overflows(museum: Program) -> None:
    absurd, much = 1 << 62, 999_999_999_999
    museum.write("a.csv", f"url,hits\n/a,5\n/b,many\n/c,-\n/d,{absurd}\n/e,6\n/g,7\n/h,8\n")
    out = museum("gather", "a.csv", COLUMNS="200").out
    assert "2 cells of hits are nothing that counts, such as 'many' (row 3): taken as 0" in out
    museum.write("b.csv", "url,hits\n" + f"/e,{much}\n" * 30 + f"/f,{much}\n")
    museum("gather", "b.csv")
    out = museum("balance").out
    assert "30,999,999,999,989" in out, out


def test_files_of_a_server_are_no_addresses(museum: Program) -> None:
    root = "/var/www/html"
    museum.write(
        "a.txt",
        f"{root}/visit/room.html\n{root}/a b.html\n{root}/100%.html\n/var/log/x.log\n{root}/x/\n"
        * 2,
    )
    refused = museum("gather", "a.txt", code=3)
    assert "a.txt lists files of a server" in refused.err
    out = museum("gather", "a.txt", "--document-root", root).out
    assert "its file does not lie below the site's root: /var/log/x.log" in out
    told = museum.json("entries")["entries"]
    assert {e["legacy_url"].removeprefix(OLD) for e in told} == {
        "/visit/room.html",
        "/a%20b.html",
        "/100%25.html",
        "/x/",
    }


def test_a_property_list_that_holds_itself_is_refused(museum: Program) -> None:
    told: list[object] = ["http://www.quillhaven.example/a"]
    for _ in range(12):
        told = [told] * 20
    museum.write("a.plist", plistlib.dumps(told, fmt=plistlib.FMT_BINARY))
    assert "over 2,000,000 values" in museum("gather", "a.plist", code=3).err
    museum.write("b.plist", plistlib.dumps([OLD])[:-30])
    assert "b.plist is a damaged property list" in museum("gather", "b.plist", code=3).err


def test_documents_without_text_or_in_ruins_are_refused_in_a_sentence(museum: Program) -> None:
    museum.write("a.docx", document(""))
    assert "a.docx is a document without text" in museum("gather", "a.docx", code=3).err
    museum.write("b.docx", document("<w:p>"))
    assert "b.docx is a damaged document" in museum("gather", "b.docx", code=3).err
