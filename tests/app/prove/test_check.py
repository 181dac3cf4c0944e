"""Check: every kind of fault, in a sheet without a ledger and in a ledger."""

from __future__ import annotations

from collections import Counter
from pathlib import Path

import pytest

from conftest import NEW, OLD, Program
from upright_ledger.app.begin.open_ledger import open_new
from upright_ledger.app.decide.sheets.decide_list import decide_from
from upright_ledger.app.move_state import MoveState
from upright_ledger.app.prove.check import check_ledger

STOCK = (
    f"url,status,redirect url\n{NEW}/live/,200,\n{NEW}/dead/,404,\n{NEW}/moved/,301,{NEW}/live/"
    f"\n{NEW}/,200,\n{NEW}/other/,200,\n"
)

SHEETS: list[tuple[str, list[str], dict[str, list[str]]]] = [
    ("clean", ["/a,/b/,", "/c,/d/,301"], {}),
    ("chain", ["/a,/b,", "/b,/c,"], {"chain": ["/a"]}),
    ("chain of three", ["/a,/b,", "/b,/c,", "/c,/d,"], {"chain": ["/a", "/b"]}),
    ("chain by another spelling", ["/a,/B/index.html?utm_source=x,", "/b,/c,"], {"chain": ["/a"]}),
    ("loop of two", ["/a,/b,", "/b,/a,"], {"loop": ["/a", "/b"]}),
    (
        "loop of three and a way in",
        ["/a,/b,", "/b,/c,", "/c,/a,", "/in,/a,"],
        {"loop": ["/a", "/b", "/c", "/in"]},
    ),
    ("slash loop", ["/a,/a/,", "/a/,/a,"], {"loop": ["/a", "/a/"]}),
    ("self", ["/a,/a,"], {"self": ["/a"]}),
    ("self in other case", ["/About,/about,"], {"self": ["/About"]}),
    ("to the slash form is no fault", ["/a,/a/,"], {}),
    ("conflict", ["/a,/b,", "/a,/c,"], {"conflict": ["/a"]}),
    ("conflict of spellings", ["/a,/b,", "/A/,/c,"], {"conflict": ["/a"]}),
    ("conflict of status", ["/a,/b,301", "/a,,410"], {"conflict": ["/a"]}),
    ("the same twice is no fault", ["/a,/b,", "/a/,/b,"], {}),
    ("two slash forms of one answer", ["/a,/b,", "/a/,/b/,"], {"slash-mismatch": ["/a"]}),
    ("temporary", ["/a,/b,302", "/c,/d,307"], {"temporary": ["/a", "/c"]}),
    ("home", ["/a,/,", "/b,/,"], {"home-fallback": ["/a", "/b"]}),
    ("home to home", ["/index.html,/,"], {}),
    ("parameters choose the page", ["/p?item=1,/a,", "/p?item=2,/b,", "/a?item=1,/c,"], {}),
    ("a chain through parameters", ["/a,/p?item=2,", "/p?item=2,/b,"], {"chain": ["/a"]}),
    ("self through parameters", ["/p?item=2,/p?view=x&item=2,"], {"self": ["/p?item=2"]}),
    ("a parameter left behind is no fault", ["/p?item=2,/p,"], {}),
    ("gone is no fault", ["/a,,410", "/b,,gone"], {}),
    ("into a gone one", ["/a,/b,", "/b,,410"], {"chain": ["/a"]}),
]


def found(result: dict[str, object]) -> dict[str, list[str]]:
    kinds: dict[str, list[str]] = {}
    for f in result["findings"]:  # type: ignore[attr-defined]
        kinds.setdefault(f["kind"], []).append(f["legacy_url"])
    return kinds


@pytest.mark.parametrize(("name", "rows", "faults"), SHEETS, ids=[s[0] for s in SHEETS])
def test_a_sheet_without_a_ledger(
    bare: Program, name: str, rows: list[str], faults: dict[str, list[str]]
) -> None:
    del name
    result = bare.json("check", bare.pairs(*rows), code=1 if faults else 0)
    assert found(result) == faults
    assert result["counts"] == {k: len(v) for k, v in faults.items()}


@pytest.mark.parametrize(("name", "rows", "faults"), SHEETS, ids=[s[0] for s in SHEETS])
def test_the_same_in_a_ledger(
    tmp_path: Path, name: str, rows: list[str], faults: dict[str, list[str]]
) -> None:
    """A ledger holds one answer an entry and keeps the claims against it; it must find the same."""
    del name
    ledger = open_new(tmp_path / "ledger", [OLD, "http://quillhaven.example"], [NEW])
    decide_from(ledger, Program(tmp_path).pairs(*rows))
    kinds: dict[str, list[str]] = {}
    for f in check_ledger(MoveState(ledger)).findings:
        kinds.setdefault(f.kind, []).append(f.legacy_url.removeprefix(OLD))
    assert kinds == faults


def test_destinations_against_the_stock(bare: Program) -> None:
    bare.write("stock.csv", STOCK)
    sheet = bare.pairs(
        f"/a,{NEW}/live/,",
        f"/b,{NEW}/live,",
        f"/c,{NEW}/dead/,",
        f"/d,{NEW}/moved/,",
        f"/e,{NEW}/nowhere/,",
        f"/other,{NEW}/live/,",
        f"/f,{NEW}/live/?from=old#top,",
    )
    result = bare.json("check", sheet, "--stock", "stock.csv", code=1)
    assert found(result) == {
        "slash-mismatch": ["/b"],
        "dead-destination": ["/c"],
        "redirecting-destination": ["/d"],
        "unknown-destination": ["/e"],
        "source-live": ["/other"],
    }
    severities = {f["kind"]: f["severity"] for f in result["findings"]}
    assert severities["dead-destination"] == "error"
    assert severities["unknown-destination"] == "warning"


def test_off_site_destinations(bare: Program) -> None:
    sheet = bare.pairs(f"{OLD}/a,{NEW}/b/,", f"{OLD}/c,https://elsewhere.example/,")
    assert found(bare.json("check", sheet, "--new", NEW, code=1)) == {"off-site": [f"{OLD}/c"]}


def test_a_move_to_another_domain_has_no_chains(bare: Program) -> None:
    sheet = bare.pairs(
        "http://old.example/a,https://new.example/b,",
        "http://old.example/b,https://new.example/c,",
        "http://old.example/c,https://new.example/c,",
    )
    assert bare.json("check", sheet)["findings"] == []


def test_bare_old_paths_are_assumed_to_lie_where_pages_go_and_that_is_said(bare: Program) -> None:
    sheet = bare.pairs("/a,https://new.example/b,", "/b,https://new.example/c,")
    result = bare.json("check", sheet, code=1)
    assert found(result) == {"chain": ["/a"]}
    assert "new.example" in result["assumed"][0]
    told = bare.json("check", sheet, "--old", "http://old.example")
    assert told["findings"] == told["assumed"] == []


def test_one_cause_explains_many_findings_and_comes_first(bare: Program) -> None:
    rows = (
        [f"/old/{n},/new/{n}/," for n in range(200)]
        + [f"/late/{n},/page/{n}," for n in range(30)]
        + ["/x,/y/,302"]
    )
    result = bare("check", bare.pairs(*rows), code=1)
    assert result.out.index("one missing slash") < result.out.index("/late/0")
    data = bare.json("check", "pairs.csv", code=1)
    assert data["causes"][0] == {"kind": "slash-mismatch", "text": "one missing slash", "count": 30}
    assert Counter(f["kind"] for f in data["findings"]) == {"slash-mismatch": 30, "temporary": 1}


def test_one_redirect_too_many_behind_all_rules_is_one_cause(bare: Program) -> None:
    result = bare.json(
        "check", bare.pairs("/home,/home/,", *[f"/old/{n},/home," for n in range(40)]), code=1
    )
    assert result["causes"][0] == {"kind": "chain", "text": "one missing slash", "count": 40}


def test_a_given_slash_policy_decides(bare: Program) -> None:
    sheet = bare.pairs("/a,/b,", "/c,/d/,", "/e,/f.pdf,")
    assert found(bare.json("check", sheet, "--slash", "always", code=1)) == {
        "slash-mismatch": ["/a"]
    }
    assert found(bare.json("check", sheet, "--slash", "never", code=1))["slash-mismatch"] == ["/c"]


def test_rows_that_cannot_be_checked_are_named(bare: Program) -> None:
    sheet = bare.pairs("/a,/b/,", "/c,mailto:x@y.example,", "/d,,", "/e,/f/,999", ",/g/,")
    result = bare.json("check", sheet, code=1)
    assert {r["row"]: r["reason"] for r in result["rejected"]} == {
        3: "mailto: is no web address",
        4: "the new address is missing",
        5: "999 is no status of a redirect; use 301, 308, 302, 307, 410",
        6: "the old address is missing",
    }
    assert result["findings"] == []


@pytest.mark.parametrize(
    "text",
    [
        "old;new\n/a;/b\n/b;/c\n",
        "/a,/b\n/b,/c\n",
        "Source URL\tTarget URL\n/a\t/b\n/b\t/c\n",
        "\ufefffrom,to,code\n/a,/b,301\n/b,/c,301\n",
        "a,b\n",
    ],
)
def test_sheets_of_several_makers(bare: Program, text: str) -> None:
    bare.write("sheet.csv", text)
    if text == "a,b\n":
        assert "has no columns old and new" in bare("check", "sheet.csv", code=3).err
    else:
        assert found(bare.json("check", "sheet.csv", code=1)) == {"chain": ["/a"]}


def test_a_deliberate_temporary_answer_is_a_note(museum: Program) -> None:
    museum("decide", "/gallery", "--to", "/closed-for-now/", "--status", "302")
    result = museum.json("check")
    assert [(f["kind"], f["severity"]) for f in result["findings"]] == [("temporary", "note")]


def test_what_waits_for_a_page_is_held_back_until_it_is_published(museum: Program) -> None:
    museum.write("old.csv", "url,clicks\n/a.html,9\n/b.html,5\n/c.html,7\n")
    museum("gather", "old.csv")
    museum.write("live.csv", f"url,status\n{NEW}/a/,200\n")
    planned = museum.write("soon.csv", f"url\n{NEW}/b/\n")
    museum("stock", "live.csv")
    museum("stock", planned.name, "--planned")
    museum.pairs("/a.html,/a/,301", "/b.html,/b/,301", "/c.html,,wanted")
    museum("decide", "--from", "pairs.csv")
    waiting = museum.json("balance")["waiting"]
    assert [(w["legacy_url"], w["answer"]) for w in waiting] == [
        (f"{OLD}/c.html", "wanted"),
        (f"{OLD}/b.html", "move"),
    ]
    assert museum.json("check", code=1)["counts"] == {"planned": 1}
    built = museum.json("build", "--for", "nginx", "--out", "rules", code=1)
    assert (built["rules"], [h["kind"] for h in built["held_back"]]) == (1, ["planned"])
    museum("stock", planned.name)  # published now
    assert museum.json("build", "--for", "nginx", "--out", "rules")["rules"] == 2
    assert [w["answer"] for w in museum.json("balance")["waiting"]] == ["wanted"]
    museum("decide", "/b.html", "--wanted")
    assert len(museum.json("balance")["waiting"]) == 2


def test_parameters_that_choose_nothing_any_more_are_said(bare: Program) -> None:
    rows = [f"/catalogue.php?item={n},/objects/,301" for n in range(4)] + [
        "/view.php?id=1,/one/,301",
        "/view.php?id=2,/two/,301",
    ]
    found = bare.json("check", bare.pairs(*rows), code=1)
    assert [(f["kind"], f["legacy_url"]) for f in found["findings"]] == [
        ("query-lost", "/catalogue.php?item=0")
    ]
    assert found["proof"]["state"] == "proved"


def test_a_rule_that_drops_campaigns_is_said_where_they_were_seen(museum: Program) -> None:
    museum.write("seen.txt", f"{OLD}/spring?utm_source=mail\n{OLD}/autumn\n")
    museum("gather", "seen.txt")
    museum("decide", "/spring", "--to", "/new-spring/", "--query", "drop")
    museum("decide", "/autumn", "--to", "/new-autumn/", "--query", "drop")
    lost = [f for f in museum.json("check", code=1)["findings"] if f["kind"] == "query-lost"]
    assert [f["legacy_url"] for f in lost] == [f"{OLD}/spring"]
    assert "utm_source" in lost[0]["detail"]


def test_templates_of_a_sheet_are_checked_and_proved(bare: Program) -> None:
    sheet = bare.write(
        "rules.csv",
        "old,new,status,query,kind\n/j/{slug},/s/{slug},301,,template\n/s/{x},/t/{x},301,,"
        "template\n/{x,/y,301,,template\n",
    )
    found = bare.json("check", sheet, code=1)
    assert (found["rules"], found["proof"]["state"], len(found["rejected"])) == (2, "witness", 1)
    assert found["counts"]["chain"] == 1
    assert found["proof"]["witnesses"][0]["way"][1:] == ["/s/a", "/t/a"]
