"""Damaged lines among many are read as each would be by itself, and each is accounted for."""

from __future__ import annotations

import re
from collections import Counter
from pathlib import Path
from urllib.parse import quote

import pytest
from hypothesis import given
from hypothesis import strategies as st

from counting import LISTS, WRITERS, Asked, by_host, combined, write_log
from log_reading import Told, read, told
from properties import in_brief
from upright_ledger.core.inventory.agents import asker_of
from upright_ledger.core.inventory.evidence import Asker
from upright_ledger.formats.logs.forms.combined import parse_combined
from upright_ledger.formats.logs.log_line import NotALineError, unescape
from upright_ledger.formats.records import Aside, Reject

SIGNS = st.sampled_from(["", '"', "\\", " ", "[", "]", "9", '\\"', "x"])
DAMAGE = st.tuples(st.floats(0, 1), SIGNS, st.integers(0, 2))
"""Where in a line, what is put there, and how many letters of it are lost."""


def test_what_stands_between_quotes_is_no_blank(tmp_path: Path) -> None:
    """Referrer and agent are two words: what is written as one is neither."""
    odd = combined([Asked("/odd", agent="curl/8.0")])[0].replace('"-" "', '""0"')
    items, _ = read(write_log(tmp_path / "a.log", "combined", [odd, *combined([Asked("/a")] * 3)]))
    assert {key[1:] for key in told(items)} == {
        (page, "2026-05-03", "2xx", "people") for page in ("/odd", "/a")
    }


@pytest.mark.parametrize("damage", ["\\May/2026", "/May\\2026", "/May/B026", "/May/2r26"])
def test_a_damaged_day_spoils_no_line_but_its_own(tmp_path: Path, damage: str) -> None:
    lines = combined([Asked(f"/{n}", day=4) for n in range(6)])
    lines[1] = lines[1].replace("/May/2026", damage)
    items, _ = read(write_log(tmp_path / "a.log", "combined", lines))
    assert {key[1] for key in told(items)} == {"/0", "/2", "/3", "/4", "/5"}
    assert [i.line for i in items if isinstance(i, Reject)] == [2]


def test_a_line_that_lacks_its_host_does_not_tell_its_visitor_instead(tmp_path: Path) -> None:
    (bare,) = combined([Asked("/x")])
    lines = [*by_host([Asked("/a"), Asked("/b")]), bare.replace("GET /x HTTP/1.1", "0")]
    items, _ = read(write_log(tmp_path / "a.log", "combined", lines))
    (refused,) = (i for i in items if isinstance(i, Reject))
    assert refused.text == "03/May/2026 '[visitor] 0' 200"


def test_a_quote_in_a_request_gives_a_log_no_agents(tmp_path: Path) -> None:
    lines = WRITERS["common"]([Asked(f"/{n}") for n in range(3)])
    lines[0] = lines[0].replace("HTTP", '"HTTP') + '"'
    items, _ = read(write_log(tmp_path / "a.log", "common", lines))
    assert {key[1]: key[-1] for key in told(items)} == {f"/{n}": "people" for n in (1, 2)}


def test_a_damaged_line_does_not_tell_where_agents_stand(tmp_path: Path) -> None:
    asked = [Asked("/a", agent="curl/8.0", referrer="http://www.quillhaven.example/page")]
    asked += [Asked("/b", agent="-"), Asked("/c", agent="Mozilla/5.0 (X11; Linux)")]
    lines = combined(asked)
    lines[0] = lines[0].replace('5 "http', '5""http')
    items, _ = read(write_log(tmp_path / "a.log", "combined", lines))
    assert {key[1]: key[-1] for key in told(items)}["/c"] == "people"


def test_a_damaged_line_makes_no_visitor_of_the_host(tmp_path: Path) -> None:
    """Three who probe once each are people, whatever one line in six says."""
    attacks = [Asked("/?cat=../../etc/passwd"), Asked("/?x=<script>"), Asked("/?id=../../x")]
    lines = by_host([*attacks, Asked("/a"), Asked("/b"), Asked("/c")])
    lines[3] = " " + lines[3].replace("quill", "qu\\ill")
    items, _ = read(write_log(tmp_path / "a.log", "combined", lines))
    assert {key[-1] for key in told(items)} == {"people"}


@in_brief
@given(LISTS, st.sampled_from(["combined", "by host", "common"]),
    st.lists(st.lists(DAMAGE, max_size=3), max_size=12))  # fmt: skip
def test_damaged_lines_are_read_as_by_themselves(
    tmp_path_factory: pytest.TempPathFactory, asked: list[Asked], kind: str,
    damage: list[list[tuple[float, str, int]]],
) -> None:  # fmt: skip
    """Of thousands of lines at a time nothing else is read than of one, and each is accounted
    for.
    """
    lines = WRITERS[kind](asked)
    for n, changes in enumerate(damage[: (len(lines) - 1) // 2]):
        for where, new, gone in changes:
            at = int(where * len(lines[n]))
            lines[n] = lines[n][:at] + new + lines[n][at + gone :]
    items, _ = read(write_log(tmp_path_factory.mktemp("log") / "a.log", kind, lines))
    by_itself: Told = Counter()
    damaged = 0
    for text in lines:
        try:
            said = parse_combined(text)
        except NotALineError:
            damaged += 1
            continue
        assert not isinstance(said, str)
        words = said.request.split(" ")
        # With too many damaged lines it is read as any log, which asks more of a protocol.
        whole = len(words) == 3 and re.fullmatch(r"HTTP/\d\.\d", words[2]) and words[1][:1] == "/"
        is_day = re.fullmatch(r"2026-0[1-6]-(?:0[1-9]|[12]\d|30)", said.day)
        if not whole or words[0] != "GET" or not 100 <= int(said.status) < 600 or not is_day:
            damaged += 1
            continue
        name = said.status if said.status in {"404", "410"} else f"{said.status[0]}xx"
        who = asker_of(said.agent) if said.agent is not None else Asker.PEOPLE
        target = unescape("".join(c if c.isascii() else quote(c) for c in words[1]))
        by_itself["", target, said.day, name, who] += 1
    found: Told = Counter()
    for (_, *rest), n in told(items).items():
        # Which of its words is a host, a line whose blanks are damaged does not say.
        found["", *rest] += n
    assert found.total() <= by_itself.total() + damaged
    assert by_itself - found == Counter()
    others = sum(i.lines for i in items if isinstance(i, Aside))
    others += sum(1 for i in items if isinstance(i, Reject))
    assert found.total() + others == len(lines)
