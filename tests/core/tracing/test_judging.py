"""A verdict depends on what was answered alone, and says what a second telling says."""

from __future__ import annotations

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import slow_verdicts
from properties import thorough
from upright_ledger.core.inventory.answer import AnswerKind, Decision, Expected, expected_outcome
from upright_ledger.core.inventory.normalisation import FoldingPolicy
from upright_ledger.core.tracing.trace import Hop, Page, Trace
from upright_ledger.core.tracing.verdicts import (
    MEANINGS,
    ORDER,
    Verdict,
    changes_language,
    is_language_home,
    judge,
    same_page,
)
from upright_ledger.core.url.difference import what_changed

OLD, NEW = "http://www.quillhaven.example", "https://www.quillhaven.example"
HOMES = frozenset({f"{NEW}/", f"{NEW}/de/"})
POLICY = FoldingPolicy()
ADDRESSES = st.sampled_from(
    [f"{OLD}/a", f"{OLD}/", f"{OLD}/index.html", f"{OLD}/?utm_source=x", f"{OLD}/?a=1",
        f"{OLD}/de/x", f"{OLD}/en-gb/x", f"{OLD}/de/", f"{NEW}/", f"{NEW}/de/", f"{NEW}/goal",
        f"{NEW}/goal/", f"{NEW}/goal/?utm_medium=m", f"{NEW}/goal/?a=1", f"{NEW}/go%61l/#top",
        f"{NEW}/de/goal", f"{NEW}/en/goal", f"{NEW}/a", "https://quillhaven.example/a",
        "https://de.quillhaven.example/x", f"{NEW}/A"]
)  # fmt: skip
STATUSES = st.sampled_from([200, 200, 204, 301, 301, 302, 303, 307, 308, 404, 410, 401, 403, 429,
    500, 503, 304, 100, 0])  # fmt: skip
PAGES = st.builds(
    Page,
    st.sampled_from(["", "Goal", "Page not found", "Error 404", "Room 4040"]),
    st.sampled_from(["", "", f"{NEW}/goal/", f"{NEW}/x"]),
    st.booleans(),
    language=st.sampled_from(["", "", "de", "en"]),
)
KINDS = {AnswerKind.MOVE: (301, 308), AnswerKind.TEMPORARY: (302, 307), AnswerKind.GONE: (410, 410)}


@st.composite
def traces(draw: st.DrawFn) -> Trace:
    urls = draw(st.lists(ADDRESSES, min_size=1, max_size=4))
    hops = []
    for n, url in enumerate(urls):
        after = urls[n + 1] if n + 1 < len(urls) else ""
        how = draw(st.sampled_from(["", "", "", "refresh"])) if after else ""
        status = draw(STATUSES)
        if after and not how and status not in {301, 302, 303, 307, 308}:
            status = 301
        if not after and status in {301, 302, 303, 307, 308}:
            status = 200
        changed = what_changed(url, after, POLICY.index_set) if after else ()
        hops.append(Hop(url, status, after, after, changed, how=how))
    loops = draw(st.integers(0, 20)) == 0
    return Trace(urls[0], tuple(hops), urls[-1], hops[-1].status, draw(PAGES), loops)


@st.composite
def dues(draw: st.DrawFn) -> Expected:
    kind = draw(st.sampled_from(list(AnswerKind)))
    statuses = KINDS.get(kind, (0, 0))
    goal = draw(ADDRESSES) if kind in {AnswerKind.MOVE, AnswerKind.TEMPORARY} else ""
    due = expected_outcome(Decision(kind, draw(st.sampled_from(statuses)), goal), draw(ADDRESSES))
    return Expected(
        due.statuses, due.final, due.redirects, kind, draw(st.sampled_from(["", "de", "en"])),
        draw(st.booleans()),
    )  # fmt: skip


@settings(thorough, max_examples=4 * thorough.max_examples)
@given(traces(), dues())
def test_every_trace_is_judged_as_told_in_plain_sentences(trace: Trace, due: Expected) -> None:
    found = judge(trace, due, HOMES, POLICY)
    assert [str(v) for v in found] == slow_verdicts.verdicts(trace, due, set(HOMES))


@thorough
@given(traces(), dues())
def test_times_caches_and_errors_change_no_verdict(trace: Trace, due: Expected) -> None:
    dressed = trace._replace(
        hops=tuple(
            h._replace(seconds=9.0, cache="max-age=1", error="x", rule="y") for h in trace.hops
        )
    )
    assert judge(dressed, due, HOMES, POLICY) == judge(trace, due, HOMES, POLICY)


def test_no_hop_at_all_is_unreachable() -> None:
    assert judge(Trace(f"{OLD}/a", (), f"{OLD}/a", 0), Expected(), HOMES, POLICY) == (
        "unreachable",
    )


def test_what_a_trace_begins_with_and_how_often_it_moved() -> None:
    none = Trace("a", (), "a", 0)
    assert (none.first_status, none.first_location, none.redirects) == (0, "", 0)
    hops = (Hop("a", 302, "/b", "b"), Hop("b", 200, "", "c", how="refresh"), Hop("c", 304))
    some = Trace("a", hops, "c", 304)
    assert (some.first_status, some.first_location, some.redirects) == (302, "b", 2)


@pytest.mark.parametrize(
    ("title", "soft"),
    [
        ("404", True), ("Seite nicht gefunden", True), ("Page introuvable", True),
        ("Página no encontrada", True), ("Pagina non trovata", True),
        ("This page can't be found", True), ("The page does not exist", True),
        ("Lost and found", False), ("Peugeot 4040", False),
    ],
)  # fmt: skip
def test_titles_that_say_there_is_nothing(title: str, soft: bool) -> None:
    trace = Trace(f"{OLD}/a", (Hop(f"{OLD}/a", 200),), f"{OLD}/a", 200, Page(title))
    assert (Verdict.SOFT_404 in judge(trace, Expected(), HOMES, POLICY)) is soft


@pytest.mark.parametrize(
    ("path", "home"),
    [("/de/", True), ("/pt-BR", True), ("/xx/", False), ("/de/x", False), ("/de-latin/", False)],
)
def test_front_pages_of_languages(path: str, home: bool) -> None:
    assert is_language_home(path) is home


def test_a_language_changes_as_pages_declare_or_as_addresses_say() -> None:
    def over(first: str, last: str, said: str = "") -> Trace:
        return Trace(first, (), last, 200, Page(language=said))

    assert changes_language(over(f"{OLD}/a", f"{NEW}/b", "en-GB"), "de")
    assert not changes_language(over(f"{OLD}/de/a", f"{NEW}/en/b", "de"), "de")
    assert changes_language(over(f"{OLD}/de/a", f"{NEW}/en/b", "en"), "")
    assert not changes_language(over(f"{OLD}/de/a", f"{NEW}/b"), "de")


def test_pages_are_the_same_whatever_is_carried_along() -> None:
    assert same_page(f"{NEW}/a?utm_x=1&b=2#c", f"{NEW}/%61?b=2", POLICY)
    assert not same_page(f"{NEW}/a?b=2", f"{NEW}/a", POLICY)
    assert same_page("no address", "no address", POLICY)
    assert not same_page("no address", f"{NEW}/a", POLICY)


def test_each_verdict_has_its_rank() -> None:
    assert set(MEANINGS) == set(ORDER) == set(Verdict)
    assert [str(v) for v in ORDER] == [*slow_verdicts.WORST_FIRST, "ok"]
    assert [MEANINGS[v].rank for v in ORDER] == sorted(MEANINGS[v].rank for v in ORDER)
