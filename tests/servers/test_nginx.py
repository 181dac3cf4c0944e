"""nginx: the real server and the reference give the same status and Location, whatever is asked."""

from __future__ import annotations

import json
import subprocess
from collections.abc import Callable
from pathlib import Path

import pytest

from conformance import SITES
from conftest import NEW, OLD, Program, needs_nginx
from raw_http import ask, ask_headers, nginx_with
from upright_ledger.app.move_state import MoveState
from upright_ledger.core.inventory.normalisation import FoldingPolicy
from upright_ledger.core.rules.compiler import compile_rules
from upright_ledger.core.rules.draft import make_plan
from upright_ledger.core.rules.ruleset import RuleSet
from upright_ledger.core.url.address import parse_address
from upright_ledger.ledger.store import open_ledger
from upright_ledger.servers import load_dialect
from upright_ledger.web.local.real_nginx import find_nginx

# old, new, status, query policy
RULES = [
    ("/a", "/b", 301, "carry-tracking"),
    ("/about", "/about/", 301, "carry-tracking"),
    ("/t", "/u", 302, "carry-tracking"),
    ("/t7", "/u7", 307, "carry-tracking"),
    ("/home", "https://new.example/", 301, "carry-tracking"),
    ("/gone", "", 410, "carry-tracking"),
    ("/frag", "/n/x#sec", 301, "carry-tracking"),
    ("/q", "/n?x=1", 301, "carry-tracking"),
    ("/all", "/all2", 301, "carry"),
    ("/drop", "/dr", 301, "drop"),
    ("/both", "/n3?a=b#f", 308, "carry"),
    ("/cat.php", "https://new.example/cat", 301, "carry-tracking"),
    ("/cat.php?item=12", "https://new.example/c12", 301, "carry-tracking"),
    ("/cat.php?item=13", "https://new.example/c13", 302, "carry-tracking"),
    ("/cat.php?item=13&view=b", "https://new.example/c13b", 301, "carry-tracking"),
    ("/cat.php?item=Ab", "https://new.example/cAb", 301, "carry-tracking"),
    ("/cat.php?item=aB", "https://new.example/caB", 410, "carry-tracking"),
    ("/cat.php?item=x%20y$z", "https://new.example/xyz", 301, "carry-tracking"),
    ("/cat.php?$f=1", "https://new.example/f1", 301, "carry-tracking"),
    ("/other.php?view=b", "/view-b/", 301, "carry-tracking"),
    ("/café menu", "/cafe", 301, "carry-tracking"),
    ("/100%25", "/hundred", 301, "carry-tracking"),
    ('/q"uo;te{}$x', "/quo", 301, "carry-tracking"),
    ("/Case", "/case2", 301, "carry-tracking"),
    ("http://shop.quillhaven.example/a", "https://new.example/shop-a", 301, "carry-tracking"),
]
EXACT_CASE = [
    ("/CASE", "/case3", 301, "carry-tracking"),
    ("/Only", "/only-new", 410, "carry-tracking"),
    ("/kept/", "/kept/x", 301, "carry-tracking"),
]

TARGETS = [
    "/a",
    "/A/",
    "/a/",
    "/%61",
    "/a%2f",
    "/a?utm_source=x%2Fy",
    "/a?utm_source=a%0d%0aX",
    "/a%0d%0aX",
    "/a\\",
    "/a?b=\\",
    "/a;jsessionid=3",
    "/a#f",
    "/a?x#f",
    "//a",
    "/./a",
    "/x/../a",
    "/a/.",
    "/a/..",
    "/about",
    "/about/",
    "/ABOUT/",
    "/about/?page=2",
    "/about?utm_source=x&gclid=5&b=1",
    "/about?gclid=5&utm_source=x",
    "/t",
    "/t?a=1",
    "/t7",
    "/home",
    "/home?utm_campaign=",
    "/gone",
    "/gone/",
    "/GONE?x=1",
    "/frag?utm_source=z",
    "/frag",
    "/q?utm_source=%zz&utm_source=ok",
    "/q",
    "/q?utm_sources=1",
    "/all?x=1&y=2",
    "/all",
    "/all?",
    "/drop?utm_source=1",
    "/both?z=1",
    "/both",
    "/cat.php",
    "/cat.php?",
    "/cat.php?item",
    "/cat.php?item=",
    "/cat.php?item=12",
    "/cat.php?item=12&view=3",
    "/cat.php?item=12&x=1",
    "/cat.php?item=13&view=b",
    "/cat.php?view=b&item=13",
    "/cat.php?item=13&view=c",
    "/cat.php?item=99",
    "/cat.php?item=12&item=12",
    "/cat.php?view=b",
    "/cat.php?view=b&view=b",
    "/cat.php?item=AB",
    "/cat.php?item=Ab",
    "/cat.php?item=aB",
    "/CAT.php?item=aB",
    "/cat.php?ITEM=12",
    "/cat.php?xitem=12",
    "/cat.php?item=x%20y$z",
    "/cat.php?item=x+y$z",
    "/cat.php?item=x%20y%24z",
    "/cat.php?$f=1",
    "/cat.php?$f=2",
    "/cat.php?foo=1",
    "/other.php?view=b",
    "/other.php?item=1&view=b",
    "/other.php",
    "/caf%c3%a9%20menu",
    "/caf%C3%A9+menu",
    "/café%20menu",
    "/caf%C3%89%20menu",
    "/100%25",
    "/100%2525",
    "/q%22uo;te%7b%7d$x",
    "/q%22uo%3bte%7b%7d%24x/",
    "/Case",
    "/CASE",
    "/case",
    "/cAsE",
    "/Only",
    "/only",
    "/kept/",
    "/kept",
    "/KEPT/",
    "/none",
    "/",
    "/?a=1",
    "/a%00",
    "/a%7f",
    "/a%1",
    "/index.html",
]
HOSTS = [
    "www.quillhaven.example",
    "quillhaven.example",
    "shop.quillhaven.example",
    "QUILLHAVEN.example.",
    "www.quillhaven.example:8080",
    "new.example",
    "evil.example",
]


def make_rules(case: str, rows: list[tuple[str, str, int, str]]) -> RuleSet:
    policy = FoldingPolicy(case=case)
    plans = []
    for old, new, status, query in rows:
        address = parse_address(old, OLD)
        goal = parse_address(new, NEW).text if new else ""
        plan = make_plan(address, SITES.site_of(address), policy, status, goal)
        plans.append(
            plan.__class__(**{f: getattr(plan, f) for f in plan.__slots__} | {"query": query})
        )
    rules, held = compile_rules(plans, [], SITES, policy)
    assert not held
    return rules


def write(rules: RuleSet, folder: Path) -> None:
    dialect = load_dialect("nginx")
    translation = dialect.write(rules)
    assert dialect.read_back(translation.files, translation.rules) == []
    for name, data in translation.files.items():
        (folder / name).parent.mkdir(parents=True, exist_ok=True)
        (folder / name).write_bytes(data)


@needs_nginx
@pytest.mark.parametrize(("case", "more"), [("fold", []), ("exact", EXACT_CASE)])
def test_real_nginx_agrees_with_the_reference(
    tmp_path: Path, case: str, more: list[tuple[str, str, int, str]]
) -> None:
    rules = make_rules(case, RULES + more)
    write(rules, tmp_path)
    answered = 0
    with nginx_with(tmp_path) as place:
        for host in HOSTS:
            for target in TARGETS:
                status, location = ask(place, host, target)
                answer = rules.answer(host, target)
                if answer is None:
                    # nginx refuses some raw forms by itself; what counts is that it does not
                    # redirect.
                    assert (status in {400, 404}, location) == (True, ""), (
                        host,
                        target,
                        status,
                        location,
                    )
                else:
                    answered += 1
                    assert (status, location) == (answer.status, answer.location), (host, target)
    assert answered > 150


@needs_nginx
def test_the_example_configuration_loads_as_it_stands(museum: Program) -> None:
    museum("decide", "/a", "--to", "/b/")
    museum("build", "--for", "nginx", "--out", "rules")
    done = subprocess.run(
        [
            find_nginx(),
            "-t",
            "-p",
            museum.folder / "rules/example",
            "-c",
            "nginx.conf",
            "-e",
            museum.folder / "err.log",
        ],
        check=False,
        capture_output=True,
        text=True,
    )
    assert done.returncode == 0, done.stderr


HOSTILE = [
    ("/plain", "/plain-new/"),
    ('/quo"te', "/x; } location / { return 200 pwned; } #"),
    ("/semi;colon{brace}", "https://new.example/a;b{c}$d\"e'f`g|h^i"),
    ("/dollar$host", "https://new.example/$host/${upright_site}?q=$args"),
    ("/tick'", "/it's"),
    ("/angle<b>", '/"><script>alert(1)</script>'),
    ('=HYPERLINK("http://evil.example")', "/formula/"),
    ("@SUM(1)", "/sum/"),
    ("+1", "/plus/"),
    ("~^/.*$", "/tilde/"),
    ("default", "/default-new/"),
    ("hostnames", "/hostnames-new/"),
    ("/include /etc/passwd", "/include/"),
    ("/sp ace", "/dest with space/é"),
    ("/" + "long" * 300, "/long/"),
    ("/percent%2525", "/p%25/"),
    ("/new\nline", "/nl/"),
    ("/carriage\rreturn", "/cr/"),
    ("/esc\x1b[31mape\x07", "/esc/"),
    ("/esc-destination", "/e\x1b]0;title\x07/"),
    ("/crlf%0d%0aX-Evil: y", "/crlf/"),
    ("/crlf-destination", "/x%0d%0aX-Evil: y"),
    ("/nul%00", "/nul/"),
    ("/slash%2fslash", "/slash/"),
    ("/other-host", "https://evil.example/"),
    ("/no-scheme", "//evil.example/x"),
    ("/user", "https://www.quillhaven.example@evil.example/"),
    ("/script", "javascript:alert(1)"),
    ("/file", "file:///etc/passwd"),
]


@needs_nginx
def test_hostile_addresses_break_out_of_nothing(open_museum: Callable[..., Program]) -> None:
    own = open_museum("--old", OLD, "--new", NEW, "--new", "https://new.example")
    rows = "".join(
        '"{}","{}",exact\n'.format(old.replace('"', '""'), new.replace('"', '""'))
        for old, new in HOSTILE
    )
    own.write("hostile.csv", "old,new,kind\n" + rows)
    outcome = own("decide", "--from", "hostile.csv", code=1)
    texts = [
        outcome.out,
        own("check", "--all", code=None).out,
        own("balance").out,
        own("history").out,
    ]
    result = own.json("decide", "--from", "hostile.csv", code=1)
    assert result["unchanged"] + len(result["refused"]) == len(HOSTILE)
    assert len(result["refused"]) == 15
    texts += [
        own("build", "--for", "nginx", "--out", "rules").out,
        own("rehearse", "rules/redirects.csv", "--column", "url=old", "--all", code=None).out,
    ]
    for text in texts:
        assert not any(ord(c) < 32 and c != "\n" for c in text)
    for line in (own.folder / "rules/redirects.csv").read_text().splitlines():
        assert line.lstrip('"')[:1] not in {"=", "+", "-", "@"}
    rules = MoveState(open_ledger(own.folder)).compiled.rules
    assert len(rules.rules) == len(HOSTILE) - 15
    with nginx_with(own.folder / "rules") as place:
        assert ask(place, "untouched.example", "/plain") == (204, "")
        assert ask(place, "www.quillhaven.example", "/etc/passwd") == (404, "")
        for rule in rules.rules:
            target = parse_address(rule.legacy_url).target
            status, headers = ask_headers(place, "www.quillhaven.example", target)
            assert (status, headers["location"]) == (301, rule.destination), target
            assert headers["location"].startswith((NEW + "/", "https://new.example/"))
            assert "x-evil" not in headers


def test_a_build_holds_back_what_is_unsound_and_says_so(museum: Program) -> None:
    museum(
        "decide",
        "--from",
        museum.pairs(
            "/fine,/new/,",
            "/l1,/l2,",
            "/l2,/l1,",
            "/s,/s,",
            "/k,/m,",
            "/k,/n,",
            "/QH,/qh,",
            "/late,/fine,",
        ),
        code=1,
    )
    manifest = museum.json("build", "--for", "nginx", "--out", "rules", code=1)
    assert {h["legacy_url"].removeprefix(OLD): h["kind"] for h in manifest["held_back"]} == {
        "/l1": "loop",
        "/l2": "loop",
        "/s": "self",
        "/k": "conflict",
        "/QH": "self",
    }
    assert manifest["rules"] == 2
    assert json.loads((museum.folder / "rules/manifest.json").read_text()) == {
        k: v for k, v in manifest.items() if k != "folder"
    }


def test_a_folder_that_cannot_be_written_is_one_sentence(museum: Program) -> None:
    museum("decide", "/a", "--to", "/b/")
    museum.write("taken", "a file")
    assert (
        "cannot be written" in museum("build", "--for", "nginx", "--out", "taken/rules", code=3).err
    )
    assert (
        "no rules to build"
        in Program(museum.folder)("undo").out
        + museum("build", "--for", "nginx", "--out", "r", code=2).err
    )
