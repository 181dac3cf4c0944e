"""Template rules: their grammar, what they match, and how they stand among other rules."""

from __future__ import annotations

from collections.abc import Callable

import pytest

from conftest import NEW, OLD, Program
from upright_ledger.core.inventory.normalisation import FoldingPolicy
from upright_ledger.core.rules.compiler import compile_rules, make_template
from upright_ledger.core.rules.ruleset import RuleSet
from upright_ledger.core.url.origins import Sites, group_origins

HOST, SITE = "www.quillhaven.example", "quillhaven.example"
SITES = Sites(group_origins([OLD, "http://quillhaven.example"]), (NEW, "https://new.example"))


def rules(*rows: tuple[str, str], status: int = 301) -> RuleSet:
    templates = [make_template(SITE, old, status, new, old, fold=True) for old, new in rows]
    return compile_rules([], [], SITES, FoldingPolicy(), templates)[0]


def goal(made: RuleSet, target: str) -> str:
    answer = made.answer(HOST, target)
    return answer.location.removeprefix("https://new.example") if answer else ""


def test_captures_are_copied_as_they_stand() -> None:
    made = rules(
        ("/Journal/{year|digits}/{slug}.html", "https://new.example/stories/{slug}/?y={year}"),
        ("/shop/{+rest}", "https://new.example/store/{rest}"),
        ("/{kind|clock,dial}-{name|word}", "https://new.example/{kind}/{name}"),
        ("/catalogue.php{?item|digits}", "https://new.example/c/{item}/"),
    )
    for target, expected in (
        ("/journal/2011/The-Clock.html", "/stories/The-Clock/?y=2011"),
        ("/JOURNAL/2011/a.html?utm_source=x", "/stories/a/?y=2011&utm_source=x"),
        ("/journal/201l/a.html", ""),
        ("/journal/2011/a%62.html", ""),  # another spelling needs an exact rule
        ("/journal//2011/a.html", ""),
        ("/shop/a/b/", "/store/a/b/"),
        ("/shop/a//b", ""),
        ("/shop/a/../b", ""),
        ("/shop/", ""),
        ("/clock-big/", "/clock/big"),
        ("/CLOCK-big", "/CLOCK/big"),
        ("/clock-b-c", ""),
        ("/catalogue.php?item=4711&x=1", "/c/4711/"),
        ("/catalogue.php?item=4711x", ""),
        ("/catalogue.php?item=1&item=2", ""),
        ("/catalogue.php", ""),
    ):
        assert goal(made, target) == expected, target


def test_templates_are_answers_in_the_ledger(museum: Program) -> None:
    museum.write("urls.txt", "/journal/2011/a.html\n/journal/2012/b.html\n/shop/old\n/shop/kept\n")
    museum("gather", "urls.txt")
    result = museum.json(
        "decide",
        "/journal/{year|digits}/{slug}.html",
        "--to",
        "https://www.quillhaven.example/s/{slug}/",
    )
    assert (result["posted"], result["fitting"]) == (1, 2)
    museum("decide", "/shop/{+rest}", "--gone")
    museum("decide", "/shop/kept", "--keep")
    lines = {x["answer"]: x["entries"] for x in museum.json("balance")["lines"]}
    assert (lines["move"], lines["gone"], lines["keep"], lines["open"]) == (2, 1, 1, 0)
    manifest = museum.json("build", "--for", "nginx", "--out", "rules")
    assert (manifest["rules"], manifest["templates"]) == (2, 2)
    found = museum.json("rehearse", "urls.txt", code=None)
    assert found["counts"]["ok"] == 3
    museum("undo")
    museum("undo")
    again = museum.json("decide", "--from", "rules/redirects.csv")
    assert (again["posted"], again["unchanged"]) == (1, 1)


@pytest.mark.parametrize(
    ("arguments", "said"),
    [
        (("/x/{a}{b}", "--gone"), "touch each other"),
        (("/x/{a}", "--to", "https://elsewhere.example/{a}"), "no new origin"),
        (("/x/{a}", "--to", "/y/{b}"), "does not capture"),
        (("/x/{a}", "--wanted"), "cannot be answered wanted"),
        (("https://elsewhere.example/{a}", "--gone"), "belongs to no old site"),
        (("/x/{+rest}", "--to", "/y/{rest}/z"), "before the end"),
    ],
)
def test_templates_that_cannot_be_are_one_sentence(
    museum: Program, arguments: tuple[str, ...], said: str
) -> None:
    assert said in museum("decide", *arguments, code=2).err


def test_a_template_on_the_shared_host_leaves_live_pages_alone(
    open_museum: Callable[..., Program],
) -> None:
    own = open_museum("--old", NEW, "--new", NEW)
    own.write("pages.csv", f"url,title\n{NEW}/shop/live/,Live\n{NEW}/store/a/,A\n")
    own("stock", "pages.csv")
    own("decide", "/shop/{+rest}", "--to", "/store/{rest}")
    own.write("urls.txt", "/shop/live/\n/shop/a/\n")
    own("gather", "urls.txt")
    own("rehearse", "urls.txt", "--out", "out.csv", code=None)
    rows = dict(
        line.split(",")[0:5:4] for line in (own.folder / "out.csv").read_text().splitlines()[1:]
    )
    assert rows == {f"{NEW}/shop/live/": "", f"{NEW}/shop/a/": f"{NEW}/store/a/"}


def test_check_names_spellings_that_a_template_misses_and_crowds(museum: Program) -> None:
    museum.write("urls.txt", "/journal/a.html\n/journal/%61b.html\n/journal/x%20y.html\n")
    museum("gather", "urls.txt")
    museum("decide", "/journal/{slug}.html", "--to", "/s/{slug}/")
    found = museum.json("check", code=None)["findings"]
    assert [f["kind"] for f in found if f["severity"] != "note"] == []
    museum.write(
        "more.txt", "/journal/a.html/\n/JOURNAL/index.html\n/journal/c.html\n//journal//c.html\n"
    )
    museum("gather", "more.txt")
    rows = [f"/old/{n},/one/," for n in range(30)]
    museum("decide", "--from", museum.pairs(*rows))
    found = museum.json("check", code=None)["findings"]
    assert [f["detail"] for f in found if f["kind"] == "mass-move"] == [
        "30 addresses lead to this one page; does it stand for all of them? (pairs.csv row 2)"
    ]
    missed = [f["legacy_url"] for f in found if f["kind"] == "uncovered-variant"]
    assert missed == [f"{OLD}/journal/a.html/"]


def test_templates_that_take_addresses_from_each_other_are_noted(museum: Program) -> None:
    museum("decide", "/a/{x}/{y}", "--to", "/n/{x}-{y}")
    museum("decide", "/a/{x}/b", "--to", "/m/{x}")
    found = museum.json("check", code=None)["findings"]
    assert [(f["kind"], f["severity"], f["detail"]) for f in found] == [
        ("shadowed", "note", "/a/{x}/b comes first where both fit, as at /a/a/b")
    ]
