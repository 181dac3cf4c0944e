"""Parameters that choose a page, those that do not, and settings that say so."""

from __future__ import annotations

import re

import pytest

from conftest import OLD, Program


def test_what_chooses_the_page_is_not_folded_by_its_name(museum: Program) -> None:
    rows = [f"{OLD}/article.php?sid={n},Story {n},{n}" for n in (101, 102, 103)]
    rows.append(f"{OLD}/article.php?sid=9f8e7d6c5b4a39281706f5e4,Story 101,1")
    museum.write("pages.csv", "url,title,clicks\n" + "\n".join(rows) + "\n")
    line = (
        '203.0.113.9 - - [10/Mar/2026:10:00:00 +0000] "GET /article.php?sid={} HTTP/1.1" 200 5 "-" '
        '"Mozilla/5.0"\n'
    )
    museum.write(
        "access.log",
        "".join(line.format(v) for v in (101, 102, 102, "a1b2c3d4e5f60718", "b2c3d4e5f6071829")),
    )
    museum("gather", "pages.csv", "access.log")
    found = {
        e["legacy_url"].removeprefix(OLD): e["hits"] for e in museum.json("entries")["entries"]
    }
    assert found == {
        "/article.php?sid=101": 1,
        "/article.php?sid=102": 2,
        "/article.php?sid=103": 0,
        "/article.php": 2,
    }


def test_what_is_named_like_a_session_is_told_with_what_is_known_of_it(museum: Program) -> None:
    rows = [
        f"{OLD}/programme?session_id={n},Talk {n},1" for n in (12, 13, 14, "8f7e6d5c4b3a29180f")
    ]
    rows += [f"{OLD}/shop?id=4&sid={n},The shop,1" for n in range(101, 111)]
    museum.write("pages.csv", "url,title,clicks\n" + "\n".join(rows) + "\n")
    museum("gather", "pages.csv")
    told = museum.json("fold")
    kept = {
        (d["path"], d["parameter"]): (d["chooses_page"], d["why"])
        for d in told["named_like_sessions"]
    }
    assert kept["/programme", "session_id"] == (
        True,
        "another value shows another page in 2 of 2 comparisons",
    )
    assert kept["/shop", "sid"] == (False, "the page stays the same in 9 of 9 comparisons")
    assert [(s["path"], s["significant"]) for s in told["suggestions"]] == [("/shop", ["id"])]
    assert "/programme" in museum("fold").out
    museum("fold", "--accept")
    found = {e["legacy_url"].removeprefix(OLD) for e in museum.json("entries")["entries"]}
    assert found == {
        "/programme",
        "/shop?id=4",
        *(f"/programme?session_id={n}" for n in (12, 13, 14)),
    }


def test_a_page_that_a_parameter_chooses_is_not_folded_with_its_folder(museum: Program) -> None:
    """What does nothing at most paths of a folder and chooses the page at one of them chooses it
    there.
    """
    rows = [
        f"{OLD}/shows/{p}?part={n},{p} {n if p == 'opera' else ''},1"
        for p in ("jazz", "folk", "opera", "film")
        for n in (1, 2, 3)
    ]
    museum.write("pages.csv", "url,title,clicks\n" + "\n".join(rows) + "\n")
    museum("gather", "pages.csv")
    museum("fold", "--accept")
    found = {e["legacy_url"].removeprefix(OLD) for e in museum.json("entries")["entries"]}
    assert {f"/shows/opera?part={n}" for n in (1, 2, 3)} <= found


@pytest.mark.parametrize(
    "line", ['secret = "token"', "session = 7", 'significant = { "/a" = "id" }']
)
def test_a_list_in_the_settings_that_is_none_is_named(museum: Program, line: str) -> None:
    name = line.partition(" ")[0]
    settings = museum.folder / "upright.toml"
    text = re.sub(
        rf"^{name} = (?:\[[^\]]*\]|\{{[^}}]*\}})$|^\[folding\.significant\]$",
        "",
        settings.read_text(),
        flags=re.MULTILINE,
    )
    settings.write_text(text.replace("[folding]\n", f"[folding]\n{line}\n"))
    told = museum("entries", code=3).err
    assert "must be a list" in told
    assert name in told


def test_one_name_with_several_values_names_a_page_of_its_own_that_no_rule_can_tell(
    museum: Program,
) -> None:
    museum.write(
        "urls.txt",
        f"{OLD}/list?tag[]=red&tag[]=blue\n{OLD}/list?tag[]=red\n{OLD}/list?tag[]=red&tag[]=red\n",
    )
    museum("gather", "urls.txt")
    keys = {e["legacy_url"].removeprefix(OLD) for e in museum.json("entries")["entries"]}
    assert keys == {"/list?tag[]=red&tag[]=blue", "/list?tag[]=red"}
    museum("decide", "/list?tag[]=red", "--to", "/red/")
    museum("decide", "/list?tag[]=red&tag[]=blue", "--to", "/both/")
    manifest = museum.json("build", "--for", "nginx", "--out", "rules", code=None)
    assert ["several values" in h["reason"] for h in manifest["held_back"]] == [True]
