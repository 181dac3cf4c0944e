"""Files in whatever encoding they are."""

from __future__ import annotations

import pytest

from conftest import OLD, Program


def test_an_encoding_can_be_named(museum: Program) -> None:
    museum.write("latin.csv", "url,title\n/a,Caf\u00e9\n".encode("latin-1"))
    museum.write("utf16.txt", "/b\n/c\n".encode("utf-16"))
    assert "read as Windows-1252" in museum("gather", "latin.csv").out
    refused = museum(
        "gather",
        museum.write("wrong.csv", "url,title\n/b,Caf\u00e9\n".encode("latin-1")),
        "--encoding",
        "utf-8",
        code=3,
    )
    assert "line 2 holds the byte 0xE9" in refused.err
    museum("gather", "utf16.txt")
    assert museum.json("balance")["entries"] == 3
    museum.write("x.csv", "url,title\n/a,b\n")
    line = '10.0.0.1 - - [03/May/2026:10:00:00 +0000] "GET /a HTTP/1.1" 404 1 "-" "A/1"'
    museum.write("x.log", f"{line}\n" * 3)
    for file in ("x.csv", "x.log"):
        for name in ("klingon", "hex", "undefined"):  # two of them are none of texts
            refused = museum("gather", file, "--encoding", name, code=3)
            assert f"no encoding is called '{name}'" in refused.err


@pytest.mark.parametrize("end", [b"\r\n", b"\r"], ids=["crlf", "cr"])
@pytest.mark.parametrize("spoilt", [b"\xc3", b"f\xfcr", b"\xe2\x82", b"\x81\xff"])
def test_one_spoilt_row_spoils_no_other(museum: Program, spoilt: bytes, end: bytes) -> None:
    """A title cut within a character, or a row that another program wrote, amid UTF-8."""
    rows = [f"/t%C3%BCrme/{n},Türme und Glöckchen für {n}".encode() for n in range(20)]
    rows[7] = b"/t%C3%BCrme/7,T\xc3\xbcrme " + spoilt
    lines = [b"url,title", *rows]
    (museum.folder / "titles.csv").write_bytes(b"\xef\xbb\xbf" + end.join(lines))
    (museum.folder / "list.txt").write_bytes(
        b"\n".join([b"/gl\xc3\xb6ckchen"] * 9 + [b"/m\xfchle"])
    )
    told = museum("gather", "titles.csv", "list.txt").out
    assert "line 9 is the first" in " ".join(told.split())
    found = {
        e["legacy_url"].removeprefix(OLD): e["title"]
        for e in museum.json("entries", "--limit", "0")["entries"]
    }
    assert len(found) == 22
    assert found["/t%C3%BCrme/6"] == "Türme und Glöckchen für 6"
    assert found["/t%C3%BCrme/7"].startswith("Türme ")
    assert {"/gl%C3%B6ckchen", "/m%C3%BChle"} <= found.keys()
