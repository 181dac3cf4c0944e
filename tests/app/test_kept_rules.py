"""What answers amount to is kept beside a large ledger, and never used for another one, or for what
it was before.
"""

from __future__ import annotations

import shutil
from dataclasses import replace
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from conftest import NEW, OLD, Program
from drawn_moves import drawn
from properties import in_brief
from rule_kinds import rules_of_every_kind
from upright_ledger.app.kept_rules import ENOUGH, FILE, KeptRules, packed, unpacked
from upright_ledger.core.rules.compiler import ExcludedRule, Exclusion
from upright_ledger.core.rules.finding import FindingKind
from upright_ledger.core.rules.proofs.proof import Proof, Witness


@in_brief
@given(seed=st.integers(0, 1 << 40))
def test_what_is_kept_is_what_was_worked_out(seed: int) -> None:
    made = drawn(seed, short=bool(seed % 2))
    kept = unpacked(packed(made))
    assert kept.rules == made.rules
    assert kept.rules.digest == made.rules.digest
    assert (kept.findings, kept.proof, len(kept)) == (made.findings, made.proof, len(made))
    assert (kept.held_back, kept.kept_as) == (made.held_back, made.kept_as)


@pytest.mark.parametrize("fold", [True, False])
def test_templates_forms_and_witnesses_are_kept(fold: bool) -> None:
    rules = replace(rules_of_every_kind(fold), cache_control="")  # comes when they are built
    held = [ExcludedRule("/a", FindingKind.LOOP, "x"), ExcludedRule("/b", Exclusion.REFUSED, "y")]
    proof = Proof(3, [Witness("/a", ("/a", "/b"), loops=True)], ["perhaps"], held_back=2)
    whole = KeptRules(rules, [], held, [], proof, {("site", "/x"): "/y"}, 7)
    kept = unpacked(packed(whole))
    assert kept == whole
    for probe in ("/journal/1851/x.html", "/old/keep", "/slashed/x/", "/catalogue.php?item=7"):
        for host in rules.site_of:
            assert kept.rules.answer(host, probe) == rules.answer(host, probe)


@pytest.fixture
def large(museum: Program) -> Program:
    """A ledger with as many answers as are worth keeping."""
    pairs = [f"{OLD}/p/{n}.html,{NEW}/n/{n}/" for n in range(ENOUGH)]
    museum.write("pairs.csv", "\n".join(("old,new", *pairs)) + "\n")
    museum.write("new.csv", "url\n" + "\n".join(p.partition(",")[2] for p in pairs) + "\n")
    museum("stock", "new.csv")
    museum("decide", "--from", "pairs.csv")
    return museum


def built(program: Program, folder: str) -> dict[str, bytes]:
    program("build", "--for", "nginx", "--out", folder)
    files = (program.folder / folder).rglob("*")
    return {p.name: p.read_bytes() for p in files if p.is_file() and p.name != "manifest.json"}


def test_a_build_after_a_check_is_the_build_without_it(large: Program) -> None:
    kept = large.folder / FILE
    alone = built(large, "alone")
    first = kept.read_bytes()
    assert large.json("check")["rules"] == ENOUGH
    assert (kept.read_bytes(), built(large, "again")) == (first, alone)
    for damaged in (first[:-9], first[:100] + b"\0" + first[101:], b"", b"\x80"):
        kept.write_bytes(damaged)
        assert built(large, "damaged") == alone
        assert kept.read_bytes() == first
    kept.unlink()
    kept.mkdir()  # where nothing can be kept, everything is worked out
    assert built(large, "nowhere") == alone


def test_what_changed_since_is_never_left_out(large: Program) -> None:
    large("check")
    copy = Path(shutil.copytree(large.folder, large.folder.parent / "copy"))
    large("decide", "/p/1.html", "--gone")
    assert large.json("build", "--for", "nginx", "--out", "rules")["by_status"]["410"] == 1
    large("undo")
    assert "410" not in large.json("build", "--for", "nginx", "--out", "rules")["by_status"]
    settings = large.folder / "upright.toml"
    settings.write_text(settings.read_text().replace('slash = "as-stock"', 'slash = "never"'))
    assert large.json("check", code=1)["counts"] == {"slash-mismatch": ENOUGH}
    # Another state of the same ledger, with the file that this one left.
    shutil.copy(large.folder / FILE, copy)
    assert Program(copy).json("check")["counts"] == {}
    Program(copy)("decide", "/p/2.html", "--to", "/n/3/")
    assert b"/n/3/" in built(Program(copy), "rules")["redirects.csv"]
