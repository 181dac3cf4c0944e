"""Condensing and mending: fewer rules, and never another answer."""

from __future__ import annotations

import json
import random

import pytest
from hypothesis import given
from hypothesis import strategies as st

from conftest import NEW, OLD, Program
from properties import in_brief
from upright_ledger.core.inventory.normalisation import FoldingPolicy
from upright_ledger.core.rules.compiler import compile_rules
from upright_ledger.core.rules.condenser import condense
from upright_ledger.core.rules.draft import make_plan
from upright_ledger.core.url.address import parse_address
from upright_ledger.core.url.origins import Sites, group_origins

SITE, HOST = "quillhaven.example", "www.quillhaven.example"
SITES = Sites(group_origins([OLD]), (NEW, "https://new.example"))
WORDS = ("clock", "dial", "bell", "case", "gong", "hand", "verge", "train")


@in_brief
@given(st.integers(0, 1 << 30), st.booleans())
def test_no_known_answer_changes_whatever_the_damage(seed: int, bold: bool) -> None:
    rng = random.Random(seed)
    policy = FoldingPolicy(case=rng.choice(("fold", "exact")))
    plans, known, standing = {}, [], []
    for n in range(rng.randint(5, 60)):
        word, other, number = rng.choice(WORDS), rng.choice(WORDS), rng.randint(1, 40)
        old, new = rng.choice(
            (
                (f"/journal/{2000 + number % 20}/{word}-{n}.html", f"/stories/{word}-{n}/"),
                (f"/item.php?id={number}", f"/items/{number}/"),
                (f"/makers/{word}_{other}.htm", f"/people/{other}-{word}/"),
                (f"/shop/{word}/{other}{n}", f"/store/{word}/{other}{n}"),
                (f"/gone/{word}-{n}", ""),
                (f"/many/{word}{n}", "/one/"),
            )
        )
        if rng.random() < 0.15:
            new = f"/odd/{n}/"
        address = parse_address(OLD + old)
        spelling = address if rng.random() < 0.8 else address._replace(path=address.path.upper())
        known.append((HOST, spelling.target))
        if rng.random() < 0.15:
            if rng.random() < 0.5:
                standing.append(address)
            continue
        plan = make_plan(
            address,
            SITE,
            policy,
            301 if new else 410,
            NEW + new if new else "",
            variants=[spelling.path],
        )
        plans[plan.folded.key] = plan
    rules, _ = compile_rules(list(plans.values()), [], SITES, policy)
    before = {request: rules.answer(*request) for request in known}
    made, told = condense(rules, known, standing, SITES, policy, bold=bold)
    for request, answer in before.items():
        after = made.answer(*request)
        assert (answer and (answer.status, answer.location)) == (
            after and (after.status, after.location)
        ), request
    for address in standing:
        assert (
            made.answer(HOST, address.target) is None
            or rules.answer(HOST, address.target) is not None
        )
    assert len(made.answering) == len(rules.answering) - sum(c.replaced for c in told) + len(told)


def test_parameters_move_into_the_path_and_exceptions_stay(museum: Program) -> None:
    rows = [f"/catalogue.php?item={n},/collection/{n}/," for n in range(4000, 4030)]
    rows += ["/catalogue.php?item=4030,/collection/special/,", "/catalogue.php,/collection/,"]
    names = [f"{w}-{other}" for w in WORDS for other in WORDS]
    rows += [f"/journal/2011/{n}.html,/stories/{n}/," for n in names]
    rows += ["/journal/2011/lost.html,,410"]
    museum("decide", "--from", museum.pairs(*rows))
    museum("fold", "--significant", "/catalogue.php=item")
    manifest = museum.json("build", "--for", "nginx", "--out", "rules", "--condense")
    told = {c["old"]: (c["new"].removeprefix(NEW), c["replaced"]) for c in manifest["condensed"]}
    assert told == {
        "/catalogue.php{?item|digits}": ("/collection/{item}/", 30),
        "/journal/{n2|2011}/{p3}.html": ("/stories/{p3}/", 64),
    }
    assert manifest["rules"] == 2 + 3
    plain = museum.json("build", "--for", "nginx", "--out", "plain")
    assert (plain["rules"], plain["condensed"]) == (97, [])
    again = json.loads((museum.folder / "rules/manifest.json").read_text())
    assert again["digest"] == manifest["digest"]
    assert (
        "Condensed from 97 rules to 5"
        in museum("build", "--for", "haproxy", "--out", "hp", "--condense").out
    )


def test_a_few_addresses_bear_out_no_template_and_the_rest_is_shown(museum: Program) -> None:
    """What nobody knows is led only where many say so, and before anything is written."""
    few = [
        f"/en/products/{w}_{n}_x.html,/en/parts/locks/{w}-{n}-x/," for n, w in enumerate(WORDS[:3])
    ]
    museum("decide", "--from", museum.pairs(*few))
    build = ("build", "--for", "nginx", "--out", "rules", "--condense")
    assert museum.json(*build)["condensed"] == []
    bold = museum.json(*build, "bold", "--dry-run")["condensed"]
    assert [c["replaced"] for c in bold] == [3]
    # Others of that form that go elsewhere speak against it, however many go its way.
    parts = ("locks", "hinges", "doors")
    many = [
        f"/en/products/{w}-{m}.html,/en/parts/{parts[(n + m) % 3]}/{w}-{m}/,"
        for n, w in enumerate(WORDS)
        for m in range(10)
    ]
    museum("decide", "--from", museum.pairs(*many))
    told = museum.json(*build)["condensed"]
    assert all(c["beyond"] is None for c in told), told
    known = [f"/old/{w}{n}.html,/new/{w}{n}/," for w in WORDS for n in ("a", "s")]
    museum("decide", "--from", museum.pairs(*known))
    before = (museum.folder / "rules/manifest.json").read_bytes()
    out = museum(*build, "--dry-run").out
    assert "would be built; nothing is written." in out
    assert "and /old/example.html, which nobody knows, to /new/example/" in " ".join(out.split())
    assert (museum.folder / "rules/manifest.json").read_bytes() == before
    (told,) = (c for c in museum.json(*build)["condensed"] if c["old"] == "/old/{p2}.html")
    assert told["beyond"] == {"old": "/old/example.html", "new": f"{NEW}/new/example/"}
    assert "nobody knows" in museum(*build).out


def test_condensed_rules_answer_alike_on_a_real_server_and_in_the_sheet(museum: Program) -> None:
    rows = [f"/old/{w}{n}.html,/new/{w}{n}/," for w in WORDS for n in ("a", "s", "y")]
    museum("decide", "--from", museum.pairs(*rows))
    museum("build", "--for", "apache", "--out", "rules", "--condense")
    sheet = (museum.folder / "rules/redirects.csv").read_text().splitlines()
    assert sheet[1:] == [f"{OLD}/old/{{p2}}.html,{NEW}/new/{{p2}}/,301,carry-tracking,template"]


def test_fix_mends_chains_slashes_and_rules_onto_themselves_in_one_step(museum: Program) -> None:
    museum.write(
        "pages.csv",
        f"url,status,redirect url\n{NEW}/end/,200,\n{NEW}/moved/,301,{NEW}/end/\n{NEW}/same,200,\n",
    )
    museum("stock", "pages.csv")
    museum(
        "decide", "--from",
        museum.pairs("/a,/b,", "/b,/end/,", "/c,/end,", "/d,/moved/,", "/same,/same,", "/x,/y,",
            "/y,/x,", "/e,/dead,", "/dead,,410"), code=None,
    )  # fmt: skip
    result = museum.json("check", "--fix", code=1)
    mended = {
        m["legacy_url"].removeprefix(OLD): (m["answer"], m["after"].removeprefix(NEW))
        for m in result["mended"]
    }
    assert mended == {
        "/a": ("move", "/end/"),
        "/c": ("move", "/end/"),
        "/d": ("move", "/end/"),
        "/same": ("keep", ""),
        "/e": ("gone", ""),
    }
    assert set(result["counts"]) == {"loop"}
    assert result["proof"]["state"] == "proved"
    museum("undo")
    assert "chain" in museum.json("check", code=1)["counts"]
    assert "5 answers mended" in museum("check", "--fix", code=1).out
    assert museum.json("check", "--fix", code=1)["mended"] == []


@pytest.mark.parametrize("server", ["nginx", "haproxy", "lighttpd", "caddy", "apache"])
def test_the_same_ledger_gives_the_same_bytes(museum: Program, server: str) -> None:
    museum("decide", "--from", museum.pairs(*[f"/old/{w}.html,/new/{w}/," for w in WORDS]))
    museum("decide", "/t/{x}/{y|digits}", "--to", "/n/{y}/{x}")
    for out in ("one", "two"):
        museum("build", "--for", server, "--out", out, "--condense")
    for path in (museum.folder / "one").rglob("*"):
        if path.is_file() and path.name != "manifest.json":
            assert (
                path.read_bytes()
                == (museum.folder / "two" / path.relative_to(museum.folder / "one")).read_bytes()
            )
