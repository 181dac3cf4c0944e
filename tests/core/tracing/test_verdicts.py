"""Verdicts: what was answered, hop by hop, decides them alone."""

from __future__ import annotations

import pytest

from conftest import NEW, OLD
from upright_ledger.core.inventory.answer import Decision, Expected, expected_outcome
from upright_ledger.core.inventory.normalisation import FoldingPolicy
from upright_ledger.core.tracing.trace import Hop, Page, Trace
from upright_ledger.core.tracing.verdicts import ORDER, judge
from upright_ledger.core.url.difference import what_changed
from upright_ledger.formats.html.page_head import read_page

A, GOAL = f"{OLD}/a", f"{NEW}/goal/"
HOMES = frozenset({f"{NEW}/"})


POLICY = FoldingPolicy()


INDEX = POLICY.index_set


MOVE = Decision("move", 301, f"{NEW}/goal/")


def trace(
    *steps: tuple[str, int], final: int = 200, page: Page | None = None, loops: bool = False
) -> Trace:
    """A trace from (address, status) steps; the last one is where it ends."""
    hops = []
    for n, (url, status) in enumerate(steps):
        after = steps[n + 1][0] if n + 1 < len(steps) else ""
        hops.append(
            Hop(url, status, after, after, what_changed(url, after, INDEX) if after else ())
        )
    return Trace(steps[0][0], tuple(hops), steps[-1][0], final, page or Page(), loops)


CASES: list[tuple[Trace, Decision, str]] = [
    (trace((A, 301), (GOAL, 200)), MOVE, "ok"),
    (trace((A, 308), (GOAL, 200)), MOVE, "ok"),
    (trace((A, 301), (f"{GOAL}?utm_source=x", 200)), MOVE, "ok"),
    (trace((A, 302), (GOAL, 200)), MOVE, "wrong-status"),
    (trace((A, 301), (GOAL, 200)), Decision("temporary", 302, GOAL), "wrong-status"),
    (trace((A, 302), (GOAL, 200)), Decision("temporary", 302, GOAL), "ok"),
    (trace((A, 301), (f"{NEW}/x/", 301), (GOAL, 200)), MOVE, "chain"),
    (trace((A, 301), (f"{NEW}/goal", 200)), MOVE, "slash-mismatch"),
    (trace((A, 301), (f"{NEW}/goal", 301), (GOAL, 200)), MOVE, "chain"),
    (
        trace((f"{NEW}/about", 301), (f"{NEW}/about/", 200)),
        Decision("move", 301, f"{NEW}/about/"),
        "ok",
    ),
    (trace((f"{NEW}/about", 301), (f"{NEW}/about/", 200)), Decision("open"), "slash-mismatch"),
    (trace((A, 301), (f"{NEW}/other/", 200)), MOVE, "wrong-destination"),
    (trace((A, 301), (f"{NEW}/", 200)), MOVE, "home-fallback"),
    (trace((A, 301), (f"{NEW}/", 200)), Decision("move", 301, f"{NEW}/"), "home-fallback"),
    (trace((f"{OLD}/index.html", 301), (f"{NEW}/", 200)), Decision("move", 301, f"{NEW}/"), "ok"),
    (trace((A, 404), final=404), MOVE, "unanswered"),
    (trace((A, 404), final=404), Decision("open"), "unanswered"),
    (trace((A, 404), final=404), Decision("gone", 410), "wrong-status"),
    (trace((A, 404), final=404), Decision("ignore"), "ok"),
    (trace((A, 410), final=410), Decision("gone", 410), "ok"),
    (trace((A, 410), final=410), MOVE, "wrong-status"),
    (trace((A, 301), (GOAL, 404), final=404), MOVE, "dead-end"),
    (trace((A, 200)), MOVE, "not-moved"),
    (trace((A, 200)), Decision("keep"), "ok"),
    (trace((A, 301), (f"{NEW}/a", 200)), Decision("keep"), "ok"),
    (trace((A, 404), final=404), Decision("keep"), "unanswered"),
    (trace((A, 301), (GOAL, 200)), Decision("ignore"), "wrong-status"),
    (trace((A, 301), (GOAL, 200), page=Page("Page not found")), MOVE, "soft-404"),
    (trace((A, 301), (GOAL, 200), page=Page("Goal", noindex=True)), MOVE, "off-canonical"),
    (trace((A, 301), (GOAL, 200), page=Page("Goal", f"{NEW}/elsewhere/")), MOVE, "off-canonical"),
    (trace((A, 301), (GOAL, 200), page=Page("Goal", GOAL)), MOVE, "ok"),
    (trace((A, 503), final=503), MOVE, "server-error"),
    (trace((A, 301), (GOAL, 403), final=403), MOVE, "blocked"),
    (trace((A, 301), (A, 301), loops=True), MOVE, "loop"),
    (trace((A, 0), final=0), MOVE, "unreachable"),
]


@pytest.mark.parametrize(("found", "answer", "verdict"), CASES)
def test_headline_verdicts(found: Trace, answer: Decision, verdict: str) -> None:
    verdicts = judge(found, expected_outcome(answer, A), HOMES, POLICY)
    assert verdicts[0] == verdict, verdicts
    assert [ORDER.index(v) for v in verdicts] == sorted(ORDER.index(v) for v in verdicts)


def test_a_trace_keeps_all_verdicts_that_apply() -> None:
    found = trace((A, 302), (f"{NEW}/goal", 301), (f"{NEW}/", 200))
    assert judge(found, expected_outcome(MOVE, A), HOMES, POLICY) == (
        "home-fallback",
        "wrong-status",
        "chain",
    )
    assert judge(
        trace((A, 301), (f"{NEW}/x", 301), (f"{NEW}/x/", 200)), Expected(), HOMES, POLICY
    ) == ("chain", "slash-mismatch")


def test_what_a_page_says_of_itself() -> None:
    body = (
        b"<html><head><TITLE> The\n tower </TITLE><link rel=canonical href=/x/><meta name=ROBOTS "
        b"content='noindex, follow'></head>"
    )
    assert read_page(body, "text/html; charset=utf-8", "") == Page("The tower", "/x/", noindex=True)
    assert (
        read_page(
            "<title>Öffnung</title>".encode("latin-1"), "text/html; charset=iso-8859-1", ""
        ).title
        == "Öffnung"
    )
    assert read_page(b"", "text/html", "noindex") == Page(noindex=True)
    assert read_page(b"\x00\xff<", "text/html; charset=nonsense", "")._replace(words="") == Page()
    text = (
        b"<html lang=de><nav>Home</nav><main><h1>The tower</h1><p>Oak &amp; brass, "
        b"oak</p><script>x()</script></main><p>Imprint"
    )
    assert read_page(text, "text/html", "")[4:] == ("The tower", "de", "tower oak brass")
    assert read_page(b"<title>x</title>", "application/pdf", "") == Page()


@pytest.mark.parametrize("kind", ["move", "gone", "keep", "temporary"])
def test_only_the_status_that_is_due_is_well(kind: str) -> None:
    due = {
        "move": MOVE,
        "gone": Decision("gone", 410),
        "keep": Decision("keep"),
        "temporary": Decision("temporary", 302, GOAL),
    }[kind]
    right = {"move": {301, 308}, "gone": {410}, "keep": {200}, "temporary": {302, 307}}[kind]
    for status in (99, 101, 103, *range(200, 600)):
        moves = status in {301, 302, 303, 307, 308}
        found = (
            trace((A, status), (GOAL if kind != "keep" else f"{NEW}/x", 200))
            if moves
            else trace((A, status), final=status)
        )
        verdict = judge(found, expected_outcome(due, A), HOMES, POLICY)[0]
        assert (verdict == "ok") == (status in right), (status, verdict)
