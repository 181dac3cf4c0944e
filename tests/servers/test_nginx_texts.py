"""nginx's language: what is quoted reads back, and every rule set answers its own addresses."""

from __future__ import annotations

import re
from dataclasses import replace

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from conformance import SITES
from conftest import NEW, OLD
from upright_ledger.config_syntax.nginx_lexer import words
from upright_ledger.core.inventory.normalisation import FoldingPolicy
from upright_ledger.core.rules.compiler import compile_rules, make_template
from upright_ledger.core.rules.draft import make_plan
from upright_ledger.core.rules.ruleset import RuleSet
from upright_ledger.core.url.address import parse_address
from upright_ledger.servers import load_dialect
from upright_ledger.servers.nginx.dialect import MAX_TOKEN
from upright_ledger.servers.nginx.syntax import host_keys, quote, read_map_tables

TEXT = st.text(
    st.characters(min_codepoint=32, max_codepoint=0x2FF, exclude_characters="\x7f"), max_size=12
)


@settings(max_examples=50)
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


@settings(max_examples=30)
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


@pytest.mark.parametrize(
    ("text", "tables"),
    [
        ('map $uri $x { a b; "c d" "e;f"; }', {"x": {"a": "b", "c d": "e;f"}}),
        ('map "$a$b" "$x" { default ""; }', {"x": {"default": ""}}),
        ("map $a $x { a b; a c; }", {"x": {"a": "b", "a (again)": "c"}}),
        ("map $a $x { a b c; d; }",
            {"x": {"a b c": "not a key and a value", "d": "not a key and a value"}}),
        ("map $a $x { a b; } map $c $x { d e; }", {"x": {"a": "b", "d": "e"}}),
        ("map $a { b c; }", {"a": {"block": "map $a", "b": "c"}}),
        ("server $a $b { c d; }", {"b": {"block": "server $a $b", "c": "d"}}),
        ("include /etc/passwd; map $a $x { b c; }",
            {"": {"include /etc/passwd": ""}, "x": {"b": "c"}}),
        ("map_hash_max_size 4096; map_hash_bucket_size 128;", {}),
        ('geo $upright_dollar { default "$"; }', {}),
        ('geo $other { default "$"; }', {"other": {"block": "geo $other", "default": "$"}}),
    ],
)  # fmt: skip
def test_the_reader_tells_every_statement(text: str, tables: dict[str, dict[str, str]]) -> None:
    assert read_map_tables(text) == tables


@pytest.mark.parametrize("sign", ["\n", "\r", "\x00", "\x1f", "\x7f"])
def test_a_control_byte_is_refused_and_named(sign: str) -> None:
    with pytest.raises(ValueError, match="a control byte cannot be written: 'a"):
        quote(f"a{sign}b")


def test_a_host_is_known_as_clients_may_name_it() -> None:
    assert host_keys("a.example", ports=False) == ["a.example"]
    assert host_keys("a.example", ports=True) == ["a.example", "a.example."]
    assert host_keys("a.example:8080", ports=True) == ["a.example:8080", "a.example.:8080"]
    assert host_keys("[2001:db8::1]:80", ports=True) == ["[2001:db8::1]:80", "[2001:db8::1].:80"]


def test_what_fits_just_so_is_written_and_one_byte_more_is_held_back() -> None:
    """A word of nginx has room for path, parameters and destination together."""
    goal = f"{NEW}/n"
    for query, taken in (("", 0), ("?item=12345", 4 + 3 * 5 + 2)):
        room = MAX_TOKEN - len(goal) - taken - 2  # with both slashes
        for more, is_written in ((0, True), (1, False)):
            address = parse_address(f"{OLD}/{'x' * (room + more)}{query}")
            plan = make_plan(address, SITES.site_of(address), FoldingPolicy(), 301, goal)
            rules = compile_rules([plan], [], SITES, FoldingPolicy())[0]
            made = load_dialect("nginx").write(rules)
            assert (len(made.rules.answering), len(made.refused)) == (
                int(is_written), int(not is_written),
            )  # fmt: skip
    template = make_template("quillhaven.example", "/{a}{?item}", 301, "", "t", fold=True)
    source = template.source
    taken = len(source.regex(fold=True)) + len(source.params[0].regex()) + len("item")
    for more, is_written in ((0, True), (1, False)):
        far = f"{NEW}/{'y' * (MAX_TOKEN - taken - len(NEW) - 1 + more)}"
        rules = RuleSet(
            (), {"www.quillhaven.example": "quillhaven.example"}, True, (),
            templates=(replace(template, destination=far),),
        )  # fmt: skip
        assert len(load_dialect("nginx").write(rules).rules.answering) == int(is_written)


@pytest.mark.parametrize(("count", "length"), [(1, 10), (600, 20), (1500, 20), (3, 223), (3, 224)])
def test_tables_have_room_for_what_they_hold(count: int, length: int) -> None:
    """A bucket takes the longest key and 32 bytes, and all keys take half of a table; each in the
    least power of two that will do.
    """
    plans = [
        make_plan(parse_address(f"{OLD}/{'x' * length}{n}"), "quillhaven.example",
            FoldingPolicy(), 301, f"{NEW}/n")
        for n in range(count)
    ]  # fmt: skip
    rules = compile_rules(plans, [], SITES, FoldingPolicy())[0]
    text = load_dialect("nginx").write(rules).files["redirects.conf"].decode()
    tables = read_map_tables(text).values()
    for name, need, least in (
        ("bucket", max(len(k) for t in tables for k in t) + 32, 128),
        ("max", 2 * max(map(len, tables)), 2048),
    ):
        (size,) = map(int, re.findall(rf"map_hash_{name}_size (\d+);", text))
        assert size == max(least, next(1 << n for n in range(20) if 1 << n >= need)), name
