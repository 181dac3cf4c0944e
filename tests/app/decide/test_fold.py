"""Folding: what is one entry, what chooses a page, and changing one's mind without losing an
answer.
"""

from __future__ import annotations

import random
from pathlib import Path

import pytest

from conftest import NEW, OLD, Program
from upright_ledger.core.inventory.normalisation import FoldingPolicy
from upright_ledger.core.inventory.parameter_inference import SeenQuery, suggest
from upright_ledger.core.inventory.sections import Sections
from upright_ledger.core.inventory.url_patterns import templates


def entries(program: Program, *options: object) -> set[str]:
    found = program.json("entries", "--limit", 0, *options)["entries"]
    return {e["legacy_url"].removeprefix(OLD) for e in found}


def state(program: Program) -> object:
    return program.json("entries", "--limit", 0), program.json("check", code=None)["counts"]


def catalogue(program: Program) -> None:
    """A script with item numbers, views and orders: 40 pages under 480 addresses."""
    rows = [
        f"/catalogue.php?item={item}&show={show}&by={by},Clock {item}"
        for item in range(1000, 1040)
        for show in ("large", "small", "list")
        for by in ("name", "year", "price", "maker")
    ]
    program.write("catalogue.csv", "url,title\n" + "\n".join(rows) + "\n")
    program("gather", "catalogue.csv")


def test_thousands_of_views_become_one_entry_when_the_user_agrees(museum: Program) -> None:
    catalogue(museum)
    (suggestion,) = museum.json("fold")["suggestions"]
    assert (suggestion["path"], suggestion["significant"]) == ("/catalogue.php", ["item"])
    assert (suggestion["pages_before"], suggestion["pages_after"]) == (480, 40)
    told = {r["parameter"]: r for r in suggestion["reasons"]}
    assert told["item"]["chooses_page"]
    assert "stays the same" in told["show"]["why"]
    assert "upright fold --accept" in museum("fold").out
    before = state(museum)
    done = museum.json("fold", "--accept")
    assert (done["entries_before"], done["entries"], done["suggestions"]) == (480, 40, [])
    assert len(entries(museum)) == 40
    assert '"/catalogue.php" = ["item"]' in (museum.folder / "upright.toml").read_text()
    museum("undo")
    assert state(museum) == before
    assert (
        '"/catalogue.php"'
        not in (museum.folder / "upright.toml")
        .read_text()
        .split("[folding.significant]")[1]
        .split("# A path")[1]
    )
    museum("gather", museum.write("more.txt", "/catalogue.php?item=7&show=list\n"))
    assert "/catalogue.php?item=7&show=list" in entries(museum)


def test_answers_follow_their_entries_and_contradictions_show(museum: Program) -> None:
    catalogue(museum)
    for show, to in (("large", "/a/"), ("small", "/b/"), ("list", "/a/")):
        museum("decide", f"/catalogue.php?item=1000&show={show}&by=name", "--to", to)
    museum("decide", "/catalogue.php?item=1001&show=list&by=year", "--gone")
    before = state(museum)
    assert museum.json("fold", "--significant", "/catalogue.php=item")["applied"]["conflicts"] == 1
    assert museum.json("check", code=1)["counts"] == {"conflict": 1}
    assert museum.json("entries", "/catalogue.php?item=1001")["answer"] == "gone"
    split = museum.json("fold", "--significant", "/catalogue.php=item,show")["applied"]
    assert split["split"] == 40
    answers = {
        museum.json("entries", f"/catalogue.php?item=1001&show={s}")["answer"]
        for s in ("large", "small", "list")
    }
    assert answers == {"gone"}
    museum("undo", 2)
    assert state(museum) == before


def test_case_can_change_and_answers_by_hand_go_along(museum: Program) -> None:
    museum.write("urls.txt", "/QH17\n/qh17\n/QH18\n")
    museum("gather", "urls.txt")
    museum("decide", "/QH99", "--to", "/stop/")
    assert museum.json("fold", "--case", "exact")["entries"] == 4
    assert entries(museum) == {"/QH17", "/qh17", "/QH18", "/QH99"}
    assert "Nothing to change" in museum("fold", "--case", "exact").out
    assert museum.json("fold", "--case", "fold")["entries"] == 3
    assert museum.json("entries", "/qh99")["answer"] == "move"


def test_settings_edited_by_hand_are_applied_when_asked(museum: Program) -> None:
    museum.write("urls.txt", "/a?view=1\n/a?view=2\n")
    museum("gather", "urls.txt")
    file = museum.folder / "upright.toml"
    file.write_text(
        file.read_text().replace(
            "[folding.significant]\n", '[folding.significant]\n"/a" = [] # only views\n'
        )
    )
    refused = museum("fold", "--case", "exact", code=2)
    assert "upright fold --apply" in refused.err
    assert museum.json("fold", "--apply")["entries"] == 1
    assert "# only views" in file.read_text()


def test_what_was_set_aside_can_be_taken_back(museum: Program) -> None:
    museum.write("urls.txt", "/tool.js\n/menu.js\n/a\n")
    line = '192.0.2.1 - - [01/May/2026:10:00:00 +0000] "GET /admin/ HTTP/1.1" 404 1 "-" "Mozilla/5"'
    museum.write("a.log", f"{line}\n")
    museum("gather", "urls.txt", "a.log")
    assert entries(museum) == {"/a"}
    museum("fold", "--take-back", "/tool*")
    assert entries(museum) == {"/a", "/tool.js"}
    museum("fold", "--take-back", "probe")
    assert entries(museum) == {"/a", "/tool.js", "/admin/"}
    museum("gather", museum.write("more.txt", "/tools.js\n/x.css\n"))
    assert "/tools.js" in entries(museum)
    museum("undo", 3)
    assert entries(museum) == {"/a"}
    assert "is no class" in museum("fold", "--take-back", "everything", code=2).err


@pytest.mark.parametrize(
    ("lines", "count", "kind"),
    [
        (["/story", "/story/amp", "/story/amp/", "/story?amp=1"], 1, "amp view"),
        (
            ["/journal/2004/story", "/journal/2004/story/print", "/journal/2004/story?print=yes"],
            1,
            "print view",
        ),
        (["/shop", "/shop/print"], 2, ""),
        (["/journal", "/journal/page/2", "/journal/page/14/"], 1, "pagination"),
        (["/page/two", "/page"], 2, ""),
        (
            [f"{OLD}/a", "http://m.quillhaven.example/a", "http://mobile.quillhaven.example/a/"],
            1,
            "mobile host",
        ),
    ],
)
def test_views_fold_into_their_page_with_a_note(
    museum: Program, lines: list[str], count: int, kind: str
) -> None:
    museum.write("urls.txt", "\n".join(lines))
    result = museum.json("gather", "urls.txt")
    assert result["entries"] == count
    assert not kind or kind in result["sources"][0]["folded"]


def test_a_rule_answers_the_views_of_its_page(museum: Program) -> None:
    museum.write("urls.txt", "/story\n/story/amp\n")
    museum("gather", "urls.txt")
    museum("decide", "/story", "--to", "/new/")
    museum.write("asked.txt", "/story/amp\n/story?print=1\n")
    assert museum.json("rehearse", "asked.txt", code=None)["counts"] == {"ok": 2}


@pytest.mark.parametrize(
    ("name", "values", "titles", "chooses"),
    [
        ("x", [str(n) for n in range(40)], True, True),
        ("x", ["a", "b"] * 20, False, False),
        ("sort", ["a", "b"] * 20, None, False),
        ("id", [str(n) for n in range(40)], None, True),
        ("zz", ["a", "b", "c"] * 20, None, False),
        ("zz", [str(n) for n in range(40)], None, True),
        ("zz", ["same"] * 20, None, False),
    ],
)
def test_what_a_parameter_does_is_seen_from_titles_values_and_names(
    name: str, values: list[str], titles: bool | None, chooses: bool
) -> None:
    seen = []
    for n, value in enumerate(values):
        title = "" if titles is None else f"Page {value}" if titles else f"Page {n // 2}"
        seen.append(
            SeenQuery("/s", {"other": str(n // 2 if titles is False else 0), name: value}, title)
        )
    found = suggest(
        [*seen, *(SeenQuery("/s", {"view": str(n)}) for n in range(9))], FoldingPolicy()
    )
    (reason,) = (r for r in found[0].reasons if r.parameter == name)
    assert reason.chooses == chooses, reason


def test_families_are_found_by_their_one_changing_part() -> None:
    words = random.Random(5)
    word = lambda: "".join(words.choices("abcdefghilmnoprstu", k=7))  # noqa: E731
    groups = {
        "/journal/{year}/{month}/{slug}.html": [(
            f"/journal/{1999 + n % 9}/{1 + n % 12:02}/{word()}.html"
        ) for n in range(60)],
        "/catalogue.php?item={item}": [f"/catalogue.php?item={n}" for n in range(30)],
        "/files/report-{number}.pdf": [f"/files/report-{n}.pdf" for n in range(2001, 2012)],
        "/visit/{slug}": [f"/visit/{word()}" for _ in range(9)],
        "/qh{number}{letter}": [f"/qh{n}{'ab'[n % 2]}" for n in range(10, 30)],
        "": ["/", "/visit", "/one/thing.html", "/two/other.html"],
    }  # fmt: skip
    found = templates([key for keys in groups.values() for key in keys])
    for template, keys in groups.items():
        assert {found.get(key, "") for key in keys} == {template}


def test_sections_come_from_the_settings(museum: Program) -> None:
    file = museum.folder / "upright.toml"
    sections = 'journal = "/journal/*"\nvisit = ["/visit/{page}", "/besuch/*"]\n'
    file.write_text(file.read_text().replace("\n[value]", f"{sections}\n[value]"))
    museum.write(
        "urls.csv", "url,visits\n/journal/a,5\n/journal/b,3\n/visit/hours,9\n/visit/a/b,1\n"
    )
    museum("gather", "urls.csv")
    groups = {g["name"]: g["entries"] for g in museum.json("entries", "--sections")["groups"]}
    assert groups == {"journal": 2, "visit": 1, "": 1}
    assert entries(museum, "--section", "") == {"/visit/a/b"}
    assert "(none)" in museum("entries", "--sections").out
    assert Sections([("de", ["de.quillhaven.example/*"])]).of("de.quillhaven.example", "/a") == "de"


def test_entries_are_found_sorted_and_written(museum: Program) -> None:
    museum.write("one.csv", "url,visits,clicks\n/a,5,1\n/b,3,\n/=cmd,1,\n")
    museum.write("two.csv", "url,linking domains\n/a,2\n/c,9\n")
    museum("gather", "one.csv", "two.csv")
    museum("decide", "/b", "--gone")
    assert museum.json("entries", "--sort", "links")["entries"][0]["legacy_url"] == f"{OLD}/c"
    assert entries(museum, "--source", "two*") == {"/a", "/c"}
    assert entries(museum, "--answer", "gone") == {"/b"}
    assert entries(museum, "/*") == {"/a", "/b", "/c", "/=cmd"}
    assert museum.json("entries", "/a")["sources"] == ["one.csv", "two.csv"]
    museum("entries", "--csv", "out.csv", "--limit", 1)
    rows = Path(museum.folder / "out.csv").read_text().splitlines()
    assert len(rows) == 5
    assert rows[0].startswith("site,legacy_url,section,family,value,hits")
    assert "None of the 4 entries fits" in museum("entries", "nowhere").out
    assert "belongs to no entry" in museum("entries", f"{OLD}/zz", code=2).err
    assert NEW not in museum("entries").out


def test_a_difference_between_settings_and_entries_is_settled_either_way(museum: Program) -> None:
    museum.write("a.txt", f"{OLD}/A\n{OLD}/a\n")
    museum("gather", "a.txt")
    settings = museum.folder / "upright.toml"
    before = settings.read_text()
    settings.write_text(
        before.replace('case = "fold"', 'case = "exact"').replace("# ", "# mine: ", 1)
    )
    told = museum("gather", "a.txt", code=2).err
    assert "--apply" in told
    assert "--put-back" in told
    museum("fold", "--put-back", "--apply", code=2)
    assert "No longer in upright.toml: case exact" in museum("fold", "--put-back").out
    assert settings.read_text() == before.replace("# ", "# mine: ", 1)
    assert "nothing was changed" in museum("fold", "--put-back").out
    assert museum.json("fold", "--put-back") == {"put_back": []}
    assert museum.json("balance")["entries"] == 1
    assert len(museum.json("history")["steps"]) == 2
    museum("gather", "a.txt")
