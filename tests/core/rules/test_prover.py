"""The search for chains and loops, case by case: the witness, its way, and what stays undecided;
and what is held back so that none is left.
"""

from __future__ import annotations

from dataclasses import replace

import pytest
from test_rule_set_parts import FAR, HOST, NEW, SITE, exact, rules, template

from upright_ledger.core.rules.canonical_form import ALWAYS, CONNECTION, CanonicalForm
from upright_ledger.core.rules.finding import Finding, FindingKind
from upright_ledger.core.rules.proofs.one_hop import findings_of, keep_to_one_hop
from upright_ledger.core.rules.proofs.proof import Proof, ProofState, Witness, in_their_order
from upright_ledger.core.rules.proofs.prover import prove
from upright_ledger.core.rules.ruleset import RuleSet
from upright_ledger.core.url.query import QueryPolicy

CARRY = {"query": QueryPolicy.CARRY}
DROP = {"query": QueryPolicy.DROP}
SLASHED, LOWERED = CanonicalForm(SITE, NEW, ALWAYS), CanonicalForm(SITE, NEW, "", True)
OF_SHOP = CanonicalForm("shop", f"https://{HOST}")


def short(url: str) -> str:
    return url.removeprefix(f"http://{HOST}").removeprefix(NEW)


WITNESSED: dict[str, tuple[RuleSet, list[str]]] = {
    "an exact rule to another": (
        rules(exact("/a", f"{NEW}/b"), exact("/b", f"{FAR}/c")), [f"/a /b {FAR}/c"]),
    "to one that says gone": (rules(exact("/a", f"{NEW}/b"), exact("/b", "", 410)), ["/a /b"]),
    "without end": (
        rules(exact("/a", f"{NEW}/b"), exact("/b", f"{NEW}/a")), ["loop /a /b /a",
            "loop /b /a /b"]),
    "by parameters of its destination": (
        rules(exact("/a", f"{NEW}/b?i=1"), exact("/b?i=1", f"{FAR}/c")), [f"/a /b?i=1 {FAR}/c"]),
    "by parameters it carries on": (
        rules(exact("/a", f"{NEW}/b", **CARRY), exact("/b?i=1&j=2", f"{FAR}/c")),
        [f"/a?i=1&j=2 /b?i=1&j=2 {FAR}/c"]),
    "by parameters that a template takes": (
        rules(exact("/a", f"{NEW}/b", **CARRY), template("/b{?i|digits}", f"{FAR}/{{i}}")),
        [f"/a?i=7 /b?i=7 {FAR}/7"]),
    "with a query of its own": (
        rules(exact("/a?k=1", f"{NEW}/b"), exact("/b", f"{FAR}/c")), [f"/a?k=1 /b {FAR}/c"]),
    "a template to an exact rule": (
        rules(template("/t/{x}", f"{NEW}/{{x}}/z"), exact("/q/z", f"{FAR}/q")),
        [f"/t/q /q/z {FAR}/q", "/t/t /t/z /z/z"]),
    "a template to a template": (
        rules(template("/t/{x}", f"{NEW}/u/{{x}}"), template("/u/{y|digits}", f"{FAR}/{{y}}")),
        [f"/t/0 /u/0 {FAR}/0"]),
    "a template into parameters": (
        rules(template("/t/{x}", f"{NEW}/b?i={{x}}"), exact("/b?i=7", f"{FAR}/c")),
        [f"/t/7 /b?i=7 {FAR}/c"]),
    "a template into parameters of a template": (
        rules(template("/t/{x}", f"{NEW}/b?i={{x}}"), template("/b{?i}", f"{FAR}/{{i}}")),
        [f"/t/x /b?i=x {FAR}/x"]),
    "a template that carries on": (
        rules(template("/t/{x}", f"{NEW}/b", **CARRY), exact("/b?i=7", f"{FAR}/c")),
        [f"/t/x?i=7 /b?i=7 {FAR}/c"]),
    "a template with parameters that carries on": (
        rules(template("/t{?x}", f"{NEW}/b/{{x}}", **CARRY), template("/b/{y}{?i}",
            f"{FAR}/{{y}}")),
        [f"/t?x=a&i=x /b/a?x=a&i=x {FAR}/a"]),
    "two templates round": (
        rules(template("/t/{x}", f"{NEW}/u/{{x}}"), template("/u/{x}", f"{NEW}/t/{{x}}")),
        ["loop /t/a /u/a /t/a", "loop /u/a /t/a /u/a"]),
    "a rest into a template": (
        rules(template("/a/{+r}", f"{NEW}/b/{{r}}"), template("/b/{x}/{y}", f"{FAR}/{{x}}")),
        [f"/a/a/a /b/a/a {FAR}/a"]),
    "where an exact rule takes the first address": (
        rules(template("/t/{x}", f"{NEW}/u/{{x}}"), template("/u/{y}", f"{FAR}/{{y}}"),
            exact("/t/a", f"{FAR}/1")), [f"/t/q /u/q {FAR}/q"]),
    "letters that the form makes small": (
        rules(template("/t/{x|Ab}", f"{NEW}/n/{{x}}"), forms=(LOWERED,)), ["/t/Ab /n/Ab /n/ab"]),
    "a form on another old site": (
        rules(exact("/a", f"{FAR}/x"), forms=(OF_SHOP,)),
        [f"http://shop.quillhaven.example/a /a {FAR}/x"]),
    "a form before a template": (
        rules(template("/k/{x|digits}{?i}", f"{FAR}/x"), forms=(OF_SHOP,)),
        [f"http://shop.quillhaven.example/k/7?i=x /k/7?i=x {FAR}/x"]),
    "capitals that are folded": (
        rules(template("/t/{x|digits}", f"{NEW}/U/{{x}}"), exact("/u/7", f"{FAR}/c")),
        [f"/t/7 /U/7 {FAR}/c"]),
    "a template with a query into one without": (
        rules(template("/t/{x}", f"{NEW}/u/{{x}}?k=1"), template("/u/{y|digits}", f"{FAR}/{{y}}")),
        [f"/t/0 /u/0?k=1 {FAR}/0"]),
    "the host by which an entry was named": (
        rules(exact("/a", f"{NEW}/b"), exact("/b", f"{FAR}/c"),
            site_of={HOST: SITE, "q.example": SITE}), [f"/a /b {FAR}/c"]),
    "the plainest host of a template": (
        rules(template("/t/{x}", f"{NEW}/b"), exact("/b", f"{FAR}/c"),
            site_of={HOST: SITE, "q.example": SITE}), [f"http://q.example/t/x /b {FAR}/c"]),
    "a scheme that the form settles": (
        rules(exact("/a", f"http://{HOST}/b"),
            forms=(CanonicalForm(SITE, NEW, scheme_from=CONNECTION),)), ["/a /b /b"]),
    "a form and a rule round": (
        rules(exact("/a/", f"{NEW}/a"), forms=(SLASHED,)), ["loop /a/ /a /a/"]),
    "capitals where case counts": (
        rules(template("/T/{x|digits}", f"{NEW}/U/{{x}}"), exact("/U/7", f"{FAR}/c"),
            fold_case=False), [f"/t/7 /U/7 {FAR}/c"]),
}  # fmt: skip


@pytest.mark.parametrize("case", sorted(WITNESSED))
def test_each_way_to_a_second_hop_has_its_witness(case: str) -> None:
    made, wanted = WITNESSED[case]
    proof = prove(made)
    told = ["loop " * w.loops + " ".join(map(short, w.way)) for w in proof.witnesses]
    assert told == wanted
    assert proof.undecided == []
    assert proof.state == (ProofState.WITNESS if wanted else ProofState.PROVED)
    assert proof.rules == len(made.answering)
    assert all(w.url == w.way[0] for w in proof.witnesses)


PROVED: dict[str, RuleSet] = {
    "to another host": rules(exact("/a", f"{FAR}/b"), exact("/b", f"{FAR}/c")),
    "to a host of the old site where nothing answers": rules(
        exact("/a", "https://shop.quillhaven.example/b"), exact("/b", f"{FAR}/c")),
    "to parameters that no value fits": rules(
        template("/t/{x}", f"{NEW}/b?i={{x}}"), exact("/b?i=a%20b", f"{FAR}/c")),
    "to parameters that are dropped": rules(
        template("/t/{x}", f"{NEW}/b", **DROP), exact("/b?i=7", f"{FAR}/c")),
    "to what is left alone": rules(
        template("/t/{x}", f"{NEW}/u/{{x}}"), template("/u/{x}", "", 0)),
    "to another ending": rules(
        template("/t/{x}", f"{NEW}/u/{{x}}.html"), template("/u/{y|digits}", f"{FAR}/{{y}}")),
    "to letters in another case where that counts": rules(
        template("/t/{x|a}", f"{NEW}/U/{{x}}"), exact("/u/a", f"{FAR}/c"), fold_case=False),
    "into the form of its site": rules(
        template("/t/{x}", f"{NEW}/n/{{x}}/"), forms=(SLASHED,)),
    "onto itself with the other slash": rules(
        replace(template("/t/{x}", f"{NEW}/t/{{x}}/"), slash="bare")),
    "where other rules take the few addresses": rules(
        template("/t/{x|a}.h", f"{NEW}/u/{{x}}"), template("/u/{y}", f"{FAR}/{{y}}"),
        exact("/t/a.h", f"{FAR}/1", paths=("/t/a.h", "/t/a.h/"))),
    "gone": rules(template("/t/{x}", "", 410), exact("/a", "", 410)),
    "nothing": rules(),
}  # fmt: skip


@pytest.mark.parametrize("case", sorted(PROVED))
def test_where_no_address_is_sent_on_that_is_proved(case: str) -> None:
    proof = prove(PROVED[case])
    assert (proof.witnesses, proof.undecided, proof.state) == ([], [], ProofState.PROVED)


def test_a_form_shows_each_sort_of_destination_that_it_moves() -> None:
    proof = prove(rules(template("/t/{x}", f"{NEW}/n/{{x}}"), forms=(SLASHED,)))
    assert [short(w.url) for w in proof.witnesses] == ["/t/x", "/t/z", "/t/Xy", "/t/abc-7"]
    assert [short(w) for w in proof.witnesses[0].way] == ["/t/x", "/n/x", "/n/x/"]


@pytest.mark.parametrize(
    ("made", "said"),
    [
        (
            rules(template("/t/{x}", f"{NEW}/b/{{x}}"), template("/b/{y}{?gclid}", f"{FAR}/{{y}}")),
            "/t/{x} may lead to /b/{y}{?gclid}",
        ),
        (
            rules(template("/t/{x}.html", f"{NEW}/t/{{x}}.html")),
            "/t/{x}.html may lead to /t/{x}.html",
        ),
    ],
)
def test_what_could_not_be_settled_is_said(made: RuleSet, said: str) -> None:
    proof = prove(made)
    assert (proof.undecided, proof.state) == ([said], ProofState.UNDECIDED)


def test_loops_come_first_then_the_shortest_addresses() -> None:
    rows = [Witness("/bb", (), False), Witness("/a", (), False), Witness("/ccc", (), True)]
    assert [w.url for w in in_their_order(rows)] == ["/ccc", "/a", "/bb"]
    assert Proof(1, undecided=["x"]).state == "undecided"
    assert Proof(1, rows, ["x"]).state == "witness"


def test_an_address_of_a_template_is_let_pass_before_an_exact_rule() -> None:
    made = rules(template("/t/{x}", f"{NEW}/u/{{x}}"), exact("/u/a", f"{FAR}/a"))
    sound = keep_to_one_hop(made)
    assert [(short(s.address), s.template.source.text) for s in sound.stopped] == [
        ("/t/a", "/t/{x}")
    ]
    assert sound.stopped[0].reason == (
        f"it would send requests on a second time: http://{HOST}/t/a → {NEW}/u/a → {FAR}/a"
    )
    assert [r.path for r in sound.rules.rules if r.status == 0] == ["/t/a"]
    assert sound.rules.answer(HOST, "/t/a") is None
    assert sound.rules.answer(HOST, "/t/b") is not None
    assert sound.proof.state == "proved"
    whole = sound.whole_proof
    assert (whole.state, whole.held_back, len(whole.witnesses)) == ("witness", 1, 1)


def test_a_template_before_another_template_goes_as_a_whole() -> None:
    made = rules(
        template("/t/{x}", f"{NEW}/u/{{x}}"), template("/u/{x}", f"{FAR}/{{x}}"),
        template("/s/{x}", f"{NEW}/t/{{x}}"),
    )  # fmt: skip
    sound = keep_to_one_hop(made)
    assert {s.template.source.text for s in sound.stopped} == {"/t/{x}"} or {
        s.template.source.text for s in sound.stopped
    } == {"/t/{x}", "/s/{x}"}
    assert all(s.address == "" for s in sound.stopped)
    assert sound.proof.state == "proved"
    assert "/u/{x}" in {t.source.text for t in sound.rules.templates}


def test_of_a_loop_the_first_template_goes_and_of_exact_rules_none() -> None:
    loop = rules(template("/t/{x}", f"{NEW}/u/{{x}}"), template("/u/{x}", f"{NEW}/t/{{x}}"))
    sound = keep_to_one_hop(loop)
    assert [s.reason[:38] for s in sound.stopped] == ["it would send requests on without end:"]
    assert len([t for t in sound.rules.templates if t.status]) == 1
    exacts = rules(exact("/a", f"{NEW}/b"), exact("/b", f"{FAR}/c"))
    kept = keep_to_one_hop(exacts)
    assert (kept.stopped, kept.rules) == ([], exacts)
    assert kept.proof.state == "witness"


def test_a_destination_that_the_form_moves_is_said_and_built() -> None:
    made = rules(template("/t/{x}", f"{NEW}/n/{{x}}"), forms=(SLASHED,))
    sound = keep_to_one_hop(made)
    assert (sound.stopped, sound.rules) == ([], made)
    assert sound.proof.state == "witness"


def test_what_the_proof_shows_is_found_once() -> None:
    made = rules(
        template("/t/{x}", f"{NEW}/u/{{x}}"), exact("/u/a", f"{FAR}/a"), exact("/b", f"{NEW}/u/a"),
        exact("/l", f"{NEW}/m"), exact("/m", f"{NEW}/l"),
    )  # fmt: skip
    sound = keep_to_one_hop(made)
    known = [Finding(FindingKind.CHAIN, "warning", f"http://{HOST}/b", "", "")]
    found = findings_of(sound, known)
    assert [(f.kind, f.severity, short(f.legacy_url)) for f in found] == [
        ("loop", "error", "/l"), ("loop", "error", "/m"), ("chain", "warning", "/t/a"),
    ]  # fmt: skip
    chain = found[2]
    assert chain.detail == (
        f"http://{HOST}/t/a → {NEW}/u/a → {FAR}/a: this address is held back until that is settled"
    )
    assert chain.cause == "/t/{x} leads to another rule"
    assert chain.destination == f"{FAR}/a"
    assert found[0].cause == "the proof shows an address that is sent on again"
    assert found[0].detail == f"http://{HOST}/l → {NEW}/m → {NEW}/l"
    loops = [Finding(FindingKind.LOOP, "error", "/L/", "", "")]
    assert [short(f.legacy_url) for f in findings_of(sound, [*known, *loops])] == ["/m", "/t/a"]
    whole = keep_to_one_hop(
        rules(template("/t/{x}", f"{NEW}/u/{{x}}"), template("/u/{x}", f"{FAR}/{{x}}"))
    )
    (held,) = findings_of(whole, [])
    assert held.detail.endswith(": /t/{x} is held back until that is settled")
    already = [Finding(FindingKind.LOOP, "error", held.legacy_url, "", "")]
    assert findings_of(whole, already) == []
