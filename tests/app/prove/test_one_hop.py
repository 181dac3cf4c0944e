"""What is built is what is proved: chains and loops that only the proof finds are findings, and are
held back.
"""

from __future__ import annotations

import json
import random
from contextlib import suppress
from itertools import product
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import Any

from hypothesis import given
from hypothesis import strategies as st

from conftest import NEW, OLD, Program
from ledgers import fresh_ledger
from properties import in_brief
from upright_ledger.app.collect.gather import gather
from upright_ledger.app.decide.sheets.decide_list import decide_from
from upright_ledger.app.move_state import MoveState
from upright_ledger.app.prove.builds.build import BuildRequest, build
from upright_ledger.app.prove.check import check_ledger
from upright_ledger.core.rules.proofs.proof import ProofState
from upright_ledger.core.rules.ruleset import RuleSet
from upright_ledger.core.url.address import parse_address
from upright_ledger.errors import UprightError
from upright_ledger.formats.records import ReadOptions
from upright_ledger.ledger.store import Ledger
from upright_ledger.servers import DIALECTS
from upright_ledger.settings.file import FILE_NAME

ONE_HOST = ("--old", NEW, "--new", NEW)


def shared(open_museum: object) -> Program:
    return open_museum(*ONE_HOST)  # type: ignore[operator, no-any-return]


def test_prefix_rules_that_chase_each_other_are_held_back(open_museum: object) -> None:
    program = shared(open_museum)
    program.write(".htaccess", "Redirect 301 /a.html /b.html\nRedirect 301 /b.html /a.html\n")
    program("gather", ".htaccess")
    program("decide", "/a.html", "--to", "/one/")
    program("decide", "/b.html", "--to", "/two/")
    found = program.json("check", code=1)
    assert found["proof"]["state"] == "witness"
    assert found["counts"]["loop"] >= 1
    manifest = program.json("build", "--for", "nginx", "--out", "rules", code=1)
    assert any("/a.html/" in h["reason"] and h["kind"] == "loop" for h in manifest["held_back"])
    assert (program.folder / "rules" / "redirects.csv").read_text().count("{+rest}") == 1


def test_a_loop_of_templates_is_a_finding_and_is_not_built(open_museum: object) -> None:
    program = shared(open_museum)
    for source, goal in (
        ("/a/{x}.html", "/b/{x}.html"),
        ("/b/{y|digits}.html", "/c/{y}/"),
        ("/c/{z}", "/a/{z}.html"),
    ):
        program("decide", source, "--to", goal)
    found = program.json("check", code=1)
    assert found["counts"]["loop"] >= 1
    assert {f["severity"] for f in found["findings"] if f["kind"] == "loop"} == {"error"}
    said = program("check", code=1).out
    assert "no faults" not in said
    assert "held back" in said
    manifest = program.json("build", "--for", "nginx", "--out", "rules", code=1)
    assert [h["kind"] for h in manifest["held_back"]].count("loop") >= 1
    assert "→" in manifest["held_back"][0]["reason"]
    program.write(
        "asked.txt", "\n".join(f"{NEW}{p}" for p in ("/a/7.html", "/b/7.html", "/c/7/", "/c/7"))
    )
    assert "loop" not in program.json("rehearse", "asked.txt", code=None)["counts"]


def test_a_template_that_leads_to_an_exact_rule_leaves_out_that_address_alone(
    open_museum: object,
) -> None:
    program = shared(open_museum)
    program("decide", "/journal/{slug}.html", "--to", "/news/{slug}/")
    program("decide", "/news/clock/", "--to", "/clocks/")
    found = program.json("check", code=1)
    chains = [f["legacy_url"] for f in found["findings"] if f["kind"] == "chain"]
    assert [c[-19:] for c in chains] == ["/journal/clock.html"]
    manifest = program.json("build", "--for", "nginx", "--out", "rules", code=1)
    assert [(h["kind"], h["legacy_url"][-19:]) for h in manifest["held_back"]] == [
        ("chain", "/journal/clock.html")
    ]
    program.write("asked.txt", f"{NEW}/journal/clock.html\n{NEW}/journal/other.html\n")
    program("rehearse", "asked.txt", "--out", "out.csv", code=None)
    rows = (program.folder / "out.csv").read_text()
    assert f"301,{NEW}/news/other/" in rows
    assert "/news/clock/" not in rows


def test_what_the_proof_covers_is_said_with_it(bare: Program) -> None:
    sheet = bare.pairs("/a,/b,301", "/b,/a,301", "/c,/d/,301")
    said = bare("check", sheet, code=1).out
    assert "2 of 3 answers are held back, loops among them." in said
    assert (
        "Proved of the one rule that can be built" in said
        or "Proved of the 1 rule that can be built" in said
    )


PATHS = ["/a", "/b", "/a/c", "/b/c", "/a.html", "/b.html", "/"]
SOURCES = [
    "/a/{x}",
    "/b/{x|digits}",
    "/{x|a,b}/{y}",
    "/a/{+r}",
    "/{x|word}-{y}",
    "/a/{x}.html",
    "/b/{x}.html",
    "/b/{x|a,b}",
    "/{x}/b",
]
GOALS = [
    "/b/{x}",
    "/a/{x}",
    "/c/{x}",
    "/{x}/b",
    "/a/{x}.html",
    "/b/{x}.html",
    "/{y}/{x}",
    "/b/{r}",
    "/",
]
IMPORTED = [
    "Redirect 301 /a /b", "Redirect 301 /b /a", "Redirect 301 /a.html /b.html",
    "Redirect 301 /b.html /a.html",
    "RedirectMatch 301 ^/a/(.*)$ /b/$1", "RedirectMatch 301 ^/b/([0-9]+)$ /a/$1",
    "RedirectMatch 301 ^/([a-z]+)/c$ /c/$1",
    "Redirect gone /b/c", "RedirectMatch 302 ^/c/(.+)$ /a/$1",
    "Redirect 301 /c https://new.example/c",
]  # fmt: skip
TEXTS = ("a", "b", "c", "7", "a.html", "b.html", "a-b")
REQUESTS = [
    "/" + "/".join(p) + end
    for n in (1, 2, 3)
    for p in product(TEXTS, repeat=n)
    for end in ("", "/")
]


def second_hop(rules: RuleSet, host: str, target: str) -> bool:
    first = rules.answer(host, target, "https")
    if first is None or not first.location:
        return False
    goal = parse_address(first.location)
    return rules.answer(goal.authority, goal.target, goal.scheme) is not None


HOSTS = (
    [NEW], [OLD, NEW], [OLD], [OLD, "http://shop.quillhaven.example"],
    [NEW, "http://shop.quillhaven.example"],
)  # fmt: skip


def drawn_ledger(rng: random.Random, old: list[str]) -> Ledger:
    """A ledger under settings of any kind. Raises UprightError where they cannot be."""
    new = [NEW, "https://new.example"]
    case, slash = rng.choice(("fold", "exact")), rng.choice(("as-stock", "always", "never"))
    ledger = fresh_ledger(old, new, case=case, slash=slash)
    toml = ledger.folder / FILE_NAME
    if rng.random() < 0.5:
        parts = toml.read_text().split("[[site]]\n")
        n = rng.randint(1, len(parts) - 1)
        parts[n] = f'canonical = "{rng.choice(new)}"\n{parts[n]}'
        lower = rng.choice(("lower = false", "lower = true"))
        toml.write_text("[[site]]\n".join(parts).replace("lower = false", lower))
    ledger.read_settings()
    return ledger


def decide_something(rng: random.Random, ledger: Ledger, old: list[str], folder: Path) -> None:
    """Rules of a server, and answers of any kind; those that cannot be are left."""
    if rng.random() < 0.7:
        (folder / ".htaccess").write_text("\n".join(rng.sample(IMPORTED, rng.randint(1, 5))) + "\n")
        gather(ledger, [str(folder / ".htaccess")], ReadOptions(host="*"))
    for _ in range(rng.randint(0, 4)):
        kind = rng.choice(("move", "move", "move", "gone", "keep", "ignore"))
        address = rng.choice(SOURCES if rng.random() < 0.6 else PATHS)
        if rng.random() < 0.3:
            address = rng.choice(old) + address
        goals = GOALS if "{" in address else [*PATHS, "/c/7"]
        goal = rng.choice(("", "https://new.example")) + rng.choice(goals)
        (folder / "rows.csv").write_text(
            f"old,new,status,query,kind\n{address},{goal if kind == 'move' else ''},"
            f"{'301' if kind == 'move' else kind},{rng.choice(('', 'carry', 'drop'))},"
            f"{'template' if '{' in address else 'exact'}\n"
        )
        with suppress(UprightError):
            decide_from(ledger, folder / "rows.csv")


@in_brief
@given(seed=st.integers(0, 1 << 30))
def test_no_chain_is_written_where_proved_was_said_and_nothing_ends_in_a_traceback(
    seed: int,
) -> None:
    rng = random.Random(seed)
    old = rng.choice(HOSTS)
    with TemporaryDirectory() as held:
        folder = Path(held)
        try:
            ledger = drawn_ledger(rng, old)
        except UprightError:
            return
        decide_something(rng, ledger, old, folder)
        move = MoveState(ledger)
        checked = check_ledger(move)
        assert checked.proof is not None
        loops = {f.legacy_url for f in checked.findings if f.kind == "loop"}
        assert {w.url for w in checked.proof.witnesses if w.loops} <= loops or checked.faults
        try:
            # What is built hardly depends on the server, and a list is written fastest.
            dialect = "csv" if rng.random() < 0.6 else rng.choice(tuple(DIALECTS))
            built = build(
                move, BuildRequest(dialect, folder / "rules", rng.choice(("", "cautious", "bold")))
            )
        except UprightError:
            return
        for host in (parse_address(o).authority for o in old):
            chains = [t for t in REQUESTS if second_hop(built.rules, host, t)]
            told = [(r.legacy_url, r.destination, r.query) for r in built.rules]
            assert not chains or checked.proof.state != ProofState.PROVED, (chains[:5], told)


def test_undecided_is_never_said_as_proved(open_museum: object) -> None:
    program = shared(open_museum)
    program("decide", "/b/{x|digits}", "--to", "/c/{x}")
    program("decide", "/b/{x}{?i|a,1}", "--to", f"{NEW}/b/{{x}}")
    found = program.json("check", code=None)["proof"]
    said = program("check", code=None).out
    assert found["state"] == "undecided"
    assert "Undecided" in said
    assert "Proved" not in said


def test_condensing_keeps_what_is_left_alone(open_museum: object) -> None:
    program = shared(open_museum)
    program("decide", "/a/{x}.html", "--to", "/b/{x}")
    program("decide", "/{x|b,c}/{y|b}", "--keep")
    program("decide", "/q/{x}", "--to", "/z/{x}")
    program("build", "--for", "nginx", "--out", "plain", code=None)
    program("build", "--for", "nginx", "--out", "condensed", "--condense", code=None)
    plain, condensed = (
        (program.folder / name / "manifest.json").read_text() for name in ("plain", "condensed")
    )
    assert json.loads(plain)["digest"] == json.loads(condensed)["digest"]


def test_a_template_that_sends_all_to_the_front_page_is_named(museum: Program) -> None:
    museum.write("new.csv", f"url,status\n{NEW}/,200\n{NEW}/journal/,200\n")
    museum("stock", "new.csv")
    museum("decide", "/{+rest}", "--to", "/")
    museum("decide", "/blog/{+rest}", "--to", "/journal/")
    found = museum.json("check", code=1)["findings"]
    named = {(f["kind"], f["legacy_url"].removeprefix(OLD)) for f in found}
    assert ("home-fallback", "/{+rest}") in named
    assert ("home-fallback", "/blog/{+rest}") not in named
    # what is more specific comes first: no fault
    assert not [f for f in found if f["kind"] == "shadowed"]


def test_letter_case_on_a_running_site_is_settled_by_its_form(open_museum: Any) -> None:
    site = "https://www.quillhaven.example"
    museum = open_museum("--old", site, "--new", site)
    museum.write("new.csv", f"url,status\n{site}/visit/hours/,200\n{site}/,200\n")
    museum("stock", "new.csv")
    museum.write("urls.txt", f"{site}/Visit/Hours/\n")
    museum("gather", "urls.txt")
    museum("decide", "/Visit/Hours/", "--to", "/visit/hours/")
    (finding,) = museum.json("check", code=1)["findings"]
    assert "lower_case in [form]" in finding["detail"]
    museum("undo")
    settings = museum.folder / "upright.toml"
    text = settings.read_text().replace("lower_case = false", "lower_case = true")
    settings.write_text(text.replace("\n[[site]]\n", f'\n[[site]]\ncanonical = "{site}"\n', 1))
    assert museum.json("rehearse", "urls.txt")["counts"] == {"ok": 1}
    assert "Built 0 rules" in museum("build", "--for", "haproxy", "--out", "rules").out
