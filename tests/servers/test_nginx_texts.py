"""nginx's language: what is quoted reads back, and every rule set answers its own addresses."""

from __future__ import annotations

from hypothesis import given, settings
from hypothesis import strategies as st

from conformance import SITES
from conftest import OLD
from upright_ledger.config_syntax.nginx_lexer import words
from upright_ledger.core.inventory.normalisation import FoldingPolicy
from upright_ledger.core.rules.compiler import compile_rules
from upright_ledger.core.rules.draft import make_plan
from upright_ledger.core.url.address import parse_address
from upright_ledger.servers import load_dialect
from upright_ledger.servers.nginx.syntax import quote, read_map_tables

TEXT = st.text(
    st.characters(min_codepoint=32, max_codepoint=0x2FF, exclude_characters="\x7f"), max_size=12
)


@settings(max_examples=150)
@given(st.dictionaries(TEXT.map(lambda t: "1/" + t), TEXT, max_size=8))
def test_what_is_quoted_reads_back(table: dict[str, str]) -> None:
    text = (
        "map $uri $x {\n" + "".join(f"{quote(k)} {quote(v)};\n" for k, v in table.items()) + "}\n"
    )
    assert read_map_tables(text).get("x", {}) == table


def test_the_reader_sees_what_breaks_out() -> None:
    """The read-back would notice unescaped words: that is what it is for."""
    assert list(words('a "b;{" c;#d\n}')) == ["a", "\0b;{", "c", ";", "}"]
    bad = read_map_tables('map $uri $x {\n"/a" /b; } server { return 200 pwned; #;\n}\n')
    assert bad != {"x": {"/a": "/b; } server { return 200 pwned; #"}}
    assert "" in bad or any("block" in t for t in bad.values())


PATH = st.lists(
    st.sampled_from(["a", "B", "é", "x y", "1", "q;r", "%25", "~", "index.html"]),
    min_size=1,
    max_size=3,
).map(lambda p: "/" + "/".join(p))


OLD_URL = st.one_of(
    PATH, st.tuples(PATH, st.sampled_from(["?i=1", "?i=2&v=a", "?v=A", "?i=%C3%A9"])).map("".join)
)


@settings(max_examples=80, deadline=None)
@given(
    st.lists(
        st.tuples(OLD_URL, PATH, st.sampled_from([301, 302, 308, 410])), min_size=1, max_size=12
    ),
    st.sampled_from(["fold", "exact"]),
)
def test_every_rule_set_reads_back_and_answers_its_own_addresses(
    rows: list[tuple[str, str, int]], case: str
) -> None:
    policy = FoldingPolicy(case=case)
    plans = []
    for old, new, status in rows:
        address = parse_address(old, OLD)
        goal = "" if status == 410 else parse_address(new, "https://new.example").text
        plans.append(make_plan(address, "quillhaven.example", policy, status, goal))
    rules, held = compile_rules(plans, [], SITES, policy)
    dialect = load_dialect("nginx")
    translation = dialect.write(rules)
    assert dialect.read_back(translation.files, translation.rules) == []
    assert not translation.refused
    for rule in rules.rules:
        address = parse_address(rule.legacy_url)
        answer = rules.answer(address.authority, address.target)
        assert answer is not None
        assert (answer.status, answer.location) == (rule.status, rule.destination)
    assert len(rules.rules) + len(held) <= len(rows)
