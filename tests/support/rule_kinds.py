"""Rule sets of every kind of rule, and whether a server's files answer as they do."""

from __future__ import annotations

import random
from dataclasses import replace
from functools import cache

from conformance import NEW, OLD, SCHEME_HEADER, SITES, make_requests
from server_comparison import SCHEMES, first_of
from upright_ledger.core.inventory.normalisation import FoldingPolicy
from upright_ledger.core.rules.canonical_form import ALWAYS, CONNECTION, CanonicalForm
from upright_ledger.core.rules.compiler import compile_rules, make_template
from upright_ledger.core.rules.draft import make_plan
from upright_ledger.core.rules.ruleset import RuleSet
from upright_ledger.core.url.address import parse_address
from upright_ledger.servers.interpreters import (
    DeclinedError,
    NotUnderstoodError,
    ServerRequest,
    ServerResponse,
    in_bytes,
)
from upright_ledger.servers.protocol import ServerDialect

SHOP = "http://shop.quillhaven.example"
EXACT = [
    (OLD, "/clocks/tower.html", 301, f"{NEW}/tower/", "carry-tracking"),
    (OLD, "/caf%C3%A9", 301, f"{NEW}/coffee/", "carry-tracking"),
    (OLD, "/Case/One", 301, f"{NEW}/one/?a=1", "carry-tracking"),
    (OLD, "/the-quick-brown-fox-jumps-over-the-lazy-dog", 301, f"{NEW}/fox/", "carry-tracking"),
    (OLD, "/all", 302, f"{NEW}/all/", "carry"),
    (OLD, "/all/fixed", 302, f"{NEW}/all/?b=2#top", "carry"),
    (OLD, "/bare", 307, f"{NEW}/bare/x", "drop"),
    (OLD, "/frag", 308, f"{NEW}/frag#there", "drop"),
    (OLD, "/frag/two", 308, "https://new.example/frag", "carry-tracking"),
    (OLD, "/seven", 307, "https://new.example/7", "carry-tracking"),
    (OLD, "/two", 302, "https://new.example/2", "carry-tracking"),
    (OLD, "/gone.html", 410, "", "carry-tracking"),
    (OLD, "/same/", 301, f"{NEW}/same/", "carry-tracking"),
    (OLD, "/$dollar/x?item=12&view=b", 301, f"{NEW}/p12b", "carry-tracking"),
    (OLD, "/$dollar/x?item=12", 301, f"{NEW}/p12", "carry"),
    (OLD, "/$dollar/x?item=Ab", 302, f"{NEW}/pAb?z=1", "carry-tracking"),
    (OLD, "/$dollar/x?item=aB", 410, "", "drop"),
    (OLD, "/$dollar/x", 301, f"{NEW}/px", "drop"),
    (OLD, "/clock/x?item=5", 301, f"{NEW}/clock/5", "drop"),
    (OLD, "/qm%3F/x?item=Ab", 301, f"{NEW}/q1", "drop"),
    (OLD, "/qm%3F/x?item=aB", 301, f"{NEW}/q2", "drop"),
    (OLD, "/catalogue.php?item=abc", 301, f"{NEW}/abc/", "drop"),
    (SHOP, "/list?item=1", 301, "https://new.example/l1", "carry-tracking"),
    (SHOP, "/clocks/tower.html", 301, "https://new.example/other/", "carry-tracking"),
    *(
        (SHOP, f"/folder/p{n}", 301, f"https://new.example/p{n}", "carry-tracking")
        for n in range(5)
    ),
]
TEMPLATES = [
    (
        OLD,
        "/journal/{year|digits}/{slug}.html",
        301,
        NEW + "/stories/{year}/{slug}/",
        "carry-tracking",
    ),
    (OLD, "/makers/{last|word}-{first}", 302, NEW + "/m/{first}?n={last}#x", "carry"),
    (OLD, "/old/{+rest}", 301, "https://new.example/{rest}", "drop"),
    (OLD, "/catalogue.php{?item|digits}", 301, NEW + "/item/{item}/", "carry-tracking"),
    (OLD, "/catalogue.php{?item|digits}{?view}", 308, NEW + "/item/{item}/{view}", "drop"),
    (OLD, "/{kind|clock,dial}/x", 410, "", "drop"),
    (SHOP, "/Case/{slug}", 307, "https://new.example/{slug}", "carry-tracking"),
    (SHOP, "/{a}/list.php{?item}", 410, "", "drop"),
    (SHOP, "/{a}/list.php{?item|digits}{?view|word}", 302, NEW + "/{a}/{view}/{item}", "carry"),
    (SHOP, "/{a}/list.php", 301, NEW + "/lists/{a}/", "carry-tracking"),
]


@cache
def rules_of_every_kind(fold: bool) -> RuleSet:
    policy = FoldingPolicy(case="fold" if fold else "exact")
    plans = []
    for host, target, status, goal, query in EXACT:
        address = parse_address(host + target)
        plans.append(
            replace(make_plan(address, SITES.site_of(address), policy, status, goal), query=query)
        )
    sites = {OLD: "quillhaven.example", SHOP: "shop.quillhaven.example"}
    templates = [
        make_template(sites[o], t, s, goal, t, fold=fold, query=q) for o, t, s, goal, q in TEMPLATES
    ]
    templates += [
        replace(
            make_template(sites[OLD], f"/{slash}/{{x}}", 301, NEW + "/s/{x}", slash, fold=fold),
            slash=slash,
        )
        for slash in ("bare", "slashed")
    ]
    standing = [parse_address(OLD + path) for path in ("/old/keep", "/journal/1850/stays.html")]
    forms = [
        CanonicalForm(sites[old], origin, ALWAYS, lower=fold, scheme_from=SCHEME_HEADER)
        for old, origin in ((OLD, NEW), (SHOP, "https://new.example"))
    ]
    rules = compile_rules(plans, [], SITES, policy, templates, standing, forms=forms)[0]
    return replace(rules, cache_control="max-age=600")


def differs(dialect: ServerDialect, files: dict[str, bytes], rules: RuleSet, seed: int) -> str:
    """A request of another making that is answered otherwise than by the rules, or an empty
    text.
    """
    try:
        interpreter = dialect.interpreter(files)
        for n, (host, target) in enumerate(make_requests(random.Random(seed), rules, 300)):
            scheme_from = rules.forms[0].scheme_from if rules.forms else ""
            scheme = (
                "http"
                if scheme_from == CONNECTION
                else SCHEMES[n % len(SCHEMES)]
                if scheme_from
                else ""
            )
            answer = rules.answer(host, target, first_of(scheme))
            due = (
                ServerResponse(answer.status, in_bytes(answer.location), rules.cache_control)
                if answer
                else None
            )
            try:
                found = interpreter.answer(
                    ServerRequest(host, target, "http", {SCHEME_HEADER.lower(): scheme})
                )
            except DeclinedError:
                continue
            if found != due:
                return f"{host}{target}: {found} instead of {due}"
    except NotUnderstoodError as error:
        return str(error)
    return ""
