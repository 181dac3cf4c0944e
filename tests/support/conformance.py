"""Made-up rule sets and requests, and a comparison of real servers with the reference, byte by
byte.
"""

from __future__ import annotations

import random
from collections.abc import Iterator
from dataclasses import replace

from upright_ledger.core.inventory.declared_paths import unanswerable
from upright_ledger.core.inventory.normalisation import FoldingPolicy
from upright_ledger.core.rules.canonical_form import ALWAYS, CONNECTION, NEVER, CanonicalForm
from upright_ledger.core.rules.compiler import compile_rules, make_template
from upright_ledger.core.rules.draft import make_plan
from upright_ledger.core.rules.ruleset import RuleSet
from upright_ledger.core.rules.templates.template_index import TemplateRule
from upright_ledger.core.rules.templates.template_syntax import TemplateError
from upright_ledger.core.url.address import NotAnAddressError, parse_address
from upright_ledger.core.url.origins import Sites, group_origins
from upright_ledger.core.url.request_target import canonical_path

OLD, NEW = "http://www.quillhaven.example", "https://www.quillhaven.example"
SHOP = "http://shop.quillhaven.example"
SITES = Sites(group_origins([OLD, "http://quillhaven.example", SHOP]), (NEW, "https://new.example"))
WITH_PORT = Sites(
    group_origins([OLD, "http://quillhaven.example:8080", SHOP, f"{SHOP}:8080"]),
    (NEW, "https://new.example"),
)
SCHEME_HEADER = "X-Forwarded-Proto"
HOSTS = (
    "www.quillhaven.example",
    "quillhaven.example",
    "shop.quillhaven.example",
    "QUILLHAVEN.example.",
    "quillhaven.example:8080",
    "Quillhaven.example.:8080",
    "shop.quillhaven.example:8080",
    "evil.example",
)
SEGMENTS = (
    "a",
    "b",
    "Case",
    "case",
    "clock",
    "x y",
    "é",
    "100%25",
    "q;r",
    "semi:x",
    "tilde~1",
    "plus+x",
    "a.html",
    "index.php",
    "1850",
    "Ab-12",
    "it's",
    "par(en)",
    "st*r",
    "$dollar",
    "&amp",
    "=eq",
    "@at",
    "pi|pe",
    'qu"ote',
    "br{ace}",
    "ha%23sh",
    "qm%3F",
)
QUERIES = (
    "",
    "",
    "item=12",
    "item=13",
    "item=Ab",
    "item=aB",
    "item=x%20y",
    "item=12&view=b",
    "view=b",
    "item=%C3%A9",
    "$f=1",
    "item[]=1",
    "item[]=2&view=b",
    "title=Report",
    "a|b=1",
    "x:y=1",
    "f%5B0%5D=1",
    "q{1}=z",
    "item=" + "v" * 1200,
)
SOURCES = (
    "/journal/{year|digits}/{slug}.html", "/journal/{slug}.html", "/shop/{+rest}",
    "/catalogue.php{?item}", "/catalogue.php{?item|digits}{?view}",
    "/{kind|clock,dial}-{name|word}/x", "/makers/{slug}", "/makers/{last|word}-{first}", "/a b/{x}",
    "/caf%C3%A9/{x}", "/{a}/{b}/{c}/deep",
    "/b/{item}", "/Case/{slug}", "/view.php{?item|a,Ab,12}", "/{a}/list.php{?item}",
    "/old/{year|digits}-{n|digits}", "/x.y/{+rest}",
)  # fmt: skip
GOALS = (
    NEW + "/stories/{}/",
    "https://new.example/n/{}",
    "https://new.example/{}/x?y={}",
    NEW + "/deep/{}#top",
    "https://new.example/fixed/",
    "https://new.example/q?z=1",
)


def make_rules(rng: random.Random, *, templates: bool = True, most: int = 30) -> RuleSet:
    """A rule set of all that rules can be. most: exact rules, and two templates for each eight of
    them.
    """
    fold = rng.random() < 0.6
    policy = FoldingPolicy(case="fold" if fold else "exact")
    plans, sites = [], WITH_PORT if rng.random() < 0.25 else SITES
    for _ in range(rng.randint(min(4, most), most)):
        path = (
            "/"
            + "/".join(rng.choice(SEGMENTS) for _ in range(rng.randint(1, 3)))
            + rng.choice(("", "/"))
        )
        query = rng.choice(QUERIES)
        host = rng.choice((OLD, OLD, OLD, *(o for s in sites.old for o in s.origins)))
        status = rng.choice((301, 301, 301, 302, 307, 308, 410))
        goal = rng.choice((NEW, "https://new.example")) + rng.choice(
            ("/n", "/n/x/", path, path.rstrip("/") + "/", "/n?x=1", "/n?x=1#f", "/m#sec")
        )
        try:
            address = parse_address(host + path + (f"?{query}" if query else ""))
            destination = "" if status == 410 else parse_address(goal).text
        except NotAnAddressError:
            continue
        if unanswerable(address):
            continue
        variants = (
            [canonical_path(rng.choice((address.path + "/", "/index.html")))]
            if rng.random() < 0.2
            else []
        )
        plan = make_plan(
            address, sites.site_of(address), policy, status, destination, variants=variants
        )
        plans.append(
            replace(plan, query=rng.choice(("carry-tracking", "carry-tracking", "carry", "drop")))
        )
    found = _templates(rng, fold=fold, most=min(8, 1 + most // 4)) if templates else []
    standing = [
        parse_address(OLD + p)
        for p in ("/shop/keep", "/makers/live/", "/robots.txt", "/catalogue.php?item=12", "/b/x")
    ]
    return compile_rules(plans, [], sites, policy, found, standing, forms=_forms(rng, fold=fold))[0]


def _forms(rng: random.Random, *, fold: bool) -> list[CanonicalForm]:
    settled = (
        rng.choice(("", ALWAYS, NEVER)),
        fold and rng.random() < 0.5,
        rng.choice(("", CONNECTION, SCHEME_HEADER)),
    )
    origins = {
        "quillhaven.example": NEW,
        "shop.quillhaven.example": rng.choice((NEW, "https://new.example", "http://new.example")),
    }
    return [
        CanonicalForm(site, origin, *settled)
        for site, origin in origins.items()
        if rng.random() < 0.4
    ]


def _templates(rng: random.Random, *, fold: bool, most: int) -> list[TemplateRule]:
    out = {}
    for text in rng.sample(SOURCES, rng.randint(0, most)):
        names = [
            p.strip("{}?+").partition("|")[0]
            for p in text.split("{")[1:]
            for p in [p.partition("}")[0]]
        ]
        goal = rng.choice(GOALS)
        picked = rng.sample(names, min(goal.count("{}"), len(names)))
        status = rng.choice((301, 301, 302, 308, 410))
        site = rng.choice(("quillhaven.example", "quillhaven.example", "shop.quillhaven.example"))
        filled = goal.replace("{}", "\0")
        for name in picked:
            filled = filled.replace("\0", f"{{{name}}}", 1)
        filled = filled.replace("\0", "c")
        query = rng.choice(("carry-tracking", "carry-tracking", "carry", "drop"))
        try:
            rule = make_template(
                site, text, status, "" if status == 410 else filled, text, fold=fold, query=query
            )
        except TemplateError:
            continue
        if rule.source.takes_slash:  # as imported patterns have it
            rule = replace(rule, slash=rng.choice(("any", "any", "bare", "slashed")))
        out[site, rule.source.text] = rule
    return list(out.values())


FILLS = (
    "x",
    "y-1",
    "Zed",
    "1850",
    "clock",
    "dial",
    "a.b",
    "..",
    ".",
    "a%20b",
    "%61",
    "é",
    "",
    "a/b",
    "a//b",
    "a/../b",
    "~t",
    "Ab",
    "12",
    "%2e",
    "a\\b",
    "b.html",
    "_",
    "x/",
    "...",
)
ODD = (
    "/%2F",
    "/a%2fb",
    "/%5c",
    "/a%0d%0aX-Evil:%20y",
    "/%00",
    "/a%7f",
    "/%zz",
    "/%",
    "//",
    "/./",
    "/../a",
    "/a/..",
    "/a/.",
    "/%2e%2e/a",
    "/;x",
    "/a;jsessionid=1",
    "/?",
    "/a??",
    "/#f",
    "/a\\",
    "/" + "l" * 3000,
)
TAILS = ("", "", "", "?utm_source=mail", "?gclid=5&utm_source=x&utm_source=y",
    "?utm_source=%zz&utm_source=ok", "?a=1&b=2", "?item=12", "?item=13&view=b",
    "?view=b&item=12", "?item=Ab", "?item=aB", "?item=x+y", "?item=x%20y", "?item=%c3%a9",
    "?item=9&item=9", "?item=", "?item", "?ITEM=12", "?view=zz", "?item=12&utm_campaign=c",
    "?$f=1", "?item=a/b", "?item=..", "?utm_source=a%0d%0aX", "?q=%2F&x=\\", "?item=12#f", "?a|b=1",
    "?utm_source=a|b", "?item=12&x={1}",
    "?item[]=1", "?item[]=9", "?item[]=1&item[]=1", "?item[]=2&view=b", "?item%5B%5D=1",
    "?title=Report", "?title=Report;page=2", "?title=Report?page=2",
    "?item=12;view=b", "?item=12?x", "?item=12&item=12", "?item=12&a=1&item=13", "?a|b=9", "?a|b",
    "?x:y=1", "?x:y=2", "?f%5B0%5D=1", "?f[0]=1", "?q{1}=z",
    "?q{1}=y", "?item=" + "v" * 1200, "?item=" + "v" * 1201, "?utm_source=" + "u" * 1500,
    "?item=12&utm_source=" + "u" * 900, "?utm_source=a;b&gclid=c?d")  # fmt: skip


def make_requests(rng: random.Random, rules: RuleSet, count: int) -> Iterator[tuple[str, str]]:
    """Hosts and raw targets: the rules' own addresses, spoilt ones, and odd ones."""
    own = [p for r in rules.rules for p in (*r.paths, parse_address(r.legacy_url).target)] or ["/"]
    sources = [t.source for t in rules.templates if t.status] or [None]
    for _ in range(count):
        host = rng.choice((*HOSTS[:3], *HOSTS))
        kind = rng.random()
        if kind < 0.45:
            path = rng.choice(own)
        elif kind < 0.85 and sources[0] is not None:
            source = rng.choice(sources)
            assert source is not None
            path = "".join(
                p if isinstance(p, str) else rng.choice(FILLS) for p in source.parts
            ) + rng.choice(("", "", "/"))
        else:
            path = rng.choice(ODD)
        spoil = rng.random()
        if spoil < 0.08:
            path = path.upper() if rng.random() < 0.5 else path.title()
        elif spoil < 0.14 and len(path) > 2:
            at = rng.randrange(1, len(path))
            path = (
                path[:at] + f"%{ord(path[at]):02x}" + path[at + 1 :]
                if path[at].isascii() and path[at].isalnum()
                else path
            )
        elif spoil < 0.2:
            path = path.replace("/", rng.choice(("//", "/./", "/x/../", "/")), 1)
        tail = rng.choice(TAILS)
        yield host, path + (tail if "?" not in path else tail.replace("?", "&", 1))
