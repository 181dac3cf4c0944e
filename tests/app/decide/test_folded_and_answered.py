"""What folding takes for one page is answered by what is built, or named by check."""

from __future__ import annotations

import json
import sqlite3
from pathlib import Path
from tempfile import TemporaryDirectory

import pytest
from hypothesis import example, given
from hypothesis import strategies as st

from conftest import NEW, OLD, Program
from ledgers import fresh_ledger
from properties import in_brief
from upright_ledger.app.collect.gather import gather
from upright_ledger.app.decide.decide import decide_one
from upright_ledger.app.move_state import MoveState
from upright_ledger.core.inventory.answer import usual
from upright_ledger.core.url.address import parse_address
from upright_ledger.core.url.request_target import canonical_path
from upright_ledger.formats.records import ReadOptions


def test_sessions_in_paths_fold_and_are_named(museum: Program) -> None:
    lines = [
        "/clocks/tower.aspx",
        "/(S(lit3py55t21z5v55vlm25s55))/clocks/tower.aspx",
        "/shop;jsessionid=1F?x=1",
        "/shop?x=1",
    ]
    museum("gather", museum.write("seen.txt", "\n".join(lines)))
    assert {e["legacy_url"].removeprefix(OLD) for e in museum.json("entries")["entries"]} == {
        "/clocks/tower.aspx",
        "/shop?x=1",
    }
    for path in ("/clocks/tower.aspx", "/shop?x=1"):
        museum("decide", path, "--to", "/goal/")
    found = museum.json("check", code=1)
    named = {
        f["legacy_url"].removeprefix(OLD)
        for f in found["findings"]
        if f["kind"] == "uncovered-variant"
    }
    assert named == {"/(S(masked))/clocks/tower.aspx", "/shop;jsessionid=masked?x=1"}
    assert found["causes"][0]["text"] == "identifiers of visits in paths"


@pytest.mark.parametrize("odd", ["/index.php", "/index.html", "/Index.PHP"])
def test_the_index_file_of_a_kept_page_leads_to_it(open_museum: object, odd: str) -> None:
    program: Program = open_museum("--old", NEW, "--new", NEW)  # type: ignore[operator]
    program("gather", program.write("seen.txt", f"{NEW}/\n{NEW}{odd}\n{NEW}/gone\n"))
    program("stock", program.write("new.csv", f"url,status\n{NEW}/,200\n"))
    program("decide", "/", "--keep")
    program("decide", "/gone", "--gone")
    assert program.json("check")["findings"] == []
    program.write("asked.txt", f"{NEW}{odd}\n{NEW}/\n")
    assert program.json("rehearse", "asked.txt")["counts"] == {"ok": 2}
    program("build", "--for", "nginx", "--out", "rules")
    assert f"{NEW}/" in (program.folder / "rules" / "redirects.csv").read_text()


FORMS = st.sampled_from(
    ["{p}", "{p}/", "{p}/index.html", "{p}/Index.PHP", "{p}/amp", "{p}/page/7", "{p}/x/y/print",
        "{p};jsessionid=A1", "/(S(ab1))" + "{p}",
     "{p}//", "{p}/./", "{p}/../{q}", "{p}/%7Ea", "{p}%41", "{p}?utm_source=x", "{p}?print=1",
     "{p}?sid=9", "{p}/default.aspx", "{p}.html"]
)  # fmt: skip
PATHS = st.sampled_from(
    ["/a", "/A", "/shop/Item", "/caf%C3%A9", "/caf%c3%a9", "/caf%E9", "/caf%e9", "/%E0-la", ""]
)


@example(spelled=["/caf%E9?sid=9", "/caf%C3%A9?sid=9"], answer="keep", case="exact")
@in_brief
@given(
    spelled=st.lists(
        st.builds(lambda f, p: "/" + f.format(p=p, q="b").lstrip("/"), FORMS, PATHS),
        min_size=1,
        max_size=6,
    ),
    answer=st.sampled_from(["move", "gone", "keep"]),
    case=st.sampled_from(["fold", "exact"]),
)
def test_whatever_folds_into_an_answered_entry_is_answered_or_named(
    spelled: list[str], answer: str, case: str
) -> None:
    with TemporaryDirectory() as held:
        folder = Path(held)
        old = NEW if answer == "keep" else OLD
        ledger = fresh_ledger([old], [NEW], case=case)
        (folder / "seen.txt").write_text("".join(f"{old}{s}\n" for s in spelled))
        gather(ledger, [str(folder / "seen.txt")], ReadOptions(kind="text"))
        move = MoveState(ledger)
        for entry in move.entries:
            given_answer = (
                usual("move", f"{NEW}/goal/{entry.id}/") if answer == "move" else usual(answer)
            )
            decide_one(ledger, entry.legacy_url, given_answer)
        move = MoveState(ledger)
        named = {
            f.legacy_url
            for f in move.compiled.findings
            if f.kind in {"uncovered-variant", "self", "conflict"}
        }
        for text in spelled:
            address = parse_address(f"{old}{text}")
            entry = move.entry_of(address)
            assert entry is not None
            found = move.compiled.rules.answer(address.authority, address.target)
            # The page itself, and its slash and case twins, are the new site's to answer where it
            # is kept.
            asked, kept = (
                canonical_path(a.path).lower().rstrip("/")
                for a in (address, parse_address(entry.legacy_url))
            )
            twin = answer == "keep" and asked == kept
            masked = move.policy.secrets.in_url(address.text)
            assert (
                found is not None
                or twin
                or f"{old}{text}" in named
                or address.text in named
                or masked in named
            ), (text, entry)


def test_latin_1_escapes_are_another_spelling_and_are_answered_byte_for_byte(
    museum: Program,
) -> None:
    museum("gather", museum.write("seen.txt", "/caf%E9.html\n/caf%C3%A9.html\n/na%EFve?name=%E9\n"))
    assert len(museum.json("entries")["entries"]) == 2
    museum("decide", "/caf%C3%A9.html", "--to", "/coffee/")
    museum("decide", "/na%C3%AFve?name=%C3%A9", "--to", "/naive/")
    museum("build", "--for", "nginx", "--out", "rules")
    asked = [
        "/caf%E9.html",
        "/caf%e9.html",
        "/caf%C3%A9.html",
        "/na%EFve?name=%E9",
        "/na%C3%AFve?name=%C3%A9",
        "/na%c3%afve?name=%e9",
    ]
    museum.write("asked.txt", "\n".join(asked))
    assert museum.json("rehearse", "asked.txt", code=None)["counts"] == {"ok": len(asked)}


def test_a_ledger_folded_by_an_earlier_version_is_told_to_fold_anew(museum: Program) -> None:
    museum("gather", museum.write("seen.txt", "/caf%C3%A9\n"))
    with sqlite3.connect(museum.folder / "ledger.db") as database:
        (settings,) = database.execute("SELECT settings FROM policies").fetchone()
        older = {k: v for k, v in json.loads(settings).items() if k != "version"}
        database.execute("UPDATE policies SET settings = ?", (json.dumps(older),))
    assert (
        "upright fold --apply"
        in museum("gather", museum.write("more.txt", "/caf%E9\n"), code=2).err
    )
    assert "folding rules of this version" in museum("fold", "--apply").out
    museum("gather", "more.txt")
    assert len(museum.json("entries")["entries"]) == 1
