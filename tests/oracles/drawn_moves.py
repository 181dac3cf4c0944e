"""Moves drawn at random: entries with answers of all sorts, stock, claims, forms and templates."""

from __future__ import annotations

import random
from collections.abc import Sequence

from upright_ledger.core.checks.compiled_rules import CompiledRules
from upright_ledger.core.checks.context import CheckContext
from upright_ledger.core.checks.told_answers import STATUSES, Told
from upright_ledger.core.inventory.answer import STATUSES as KINDS
from upright_ledger.core.inventory.answer import AnsweredBy, AnswerKind, Claim, Decision
from upright_ledger.core.inventory.entry import Entry
from upright_ledger.core.inventory.normalisation import FoldingPolicy, fold
from upright_ledger.core.rules.canonical_form import CanonicalForm
from upright_ledger.core.rules.compiler import make_template
from upright_ledger.core.rules.rule_answers import RuleAnswers
from upright_ledger.core.rules.target_pages import StockPage
from upright_ledger.core.url.address import parse_address
from upright_ledger.core.url.origins import Sites, group_origins
from upright_ledger.core.url.query import QueryPolicy

OLD, TWIN = "http://www.quillhaven.example", "http://archive.quillhaven.example"
SAME, FAR, ELSEWHERE = (
    "https://www.quillhaven.example", "https://n.example", "https://elsewhere.example:8443",
)  # fmt: skip
SITES = Sites(group_origins([OLD, TWIN]), (SAME, FAR))
NAMES = ("a", "A", "b", "b.html", "B.HTML", "index.html", "print", "7", "x_y-z", "page", "a.b", "c")
ODD = ("a%20b", "caf%E9", "d;jsessionid=1", "e..f", ".g", "h.", "0123456789abcdef0123456789ABCDEF")


def path(rng: random.Random, ends: Sequence[str] = ("", "", "/")) -> str:
    names = [rng.choice(NAMES if rng.random() < 0.9 else ODD) for _ in range(rng.randint(0, 3))]
    return "/" + "/".join(names) + rng.choice(ends)


def goal(rng: random.Random, ends: Sequence[str]) -> str:
    origin = rng.choice((SAME, SAME, FAR, FAR, FAR, OLD, TWIN, ELSEWHERE))
    return f"{origin}{path(rng, ends)}{rng.choice(('',) * 8 + ('?q=1', '#top', '?utm_source=x'))}"


def entries_of(rng: random.Random, goals: Sequence[str], policy: FoldingPolicy) -> list[Entry]:
    found: dict[tuple[str, str], Entry] = {}
    for number in range(1, rng.choice((6, 20, 60))):
        written = f"{rng.choice((OLD, OLD, TWIN))}{path(rng)}{rng.choice(('',) * 9 + ('?id=3',))}"
        address = parse_address(written)
        site, folded = SITES.site_of(address), fold(address, policy)
        status = rng.choice((301,) * 8 + (308, 410, 410, 302))
        kind = rng.choice((KINDS[status],) * 12 + (AnswerKind.KEEP, AnswerKind.OPEN))
        answer = Decision(kind)
        if kind == KINDS[status]:
            answer = Decision(kind, status, "" if status == 410 else rng.choice(goals))
        variants = (folded.variant, *(["/a/index.html"] if rng.random() < 0.1 else []))
        _, mark, query = folded.key.partition("?")
        found.setdefault(
            (site, folded.key),
            Entry(
                number, site, folded.key, f"{address.origin}{folded.variant}{mark}{query}", answer,
                rng.choice((AnsweredBy.PERSON, AnsweredBy.MATCH, AnsweredBy.IMPORT)),
                rng.choice((QueryPolicy.CARRY_TRACKING,) * 6 + tuple(QueryPolicy)),
                old=rng.choice(("", "", address.text, f"{OLD}{path(rng)}")),
                variants=variants if rng.random() < 0.9 else (),
            ),
        )  # fmt: skip
    return [found[key] for key in sorted(found)]


def may_be_plain(entry: Entry, claims: dict[int, list[Claim]]) -> bool:
    return (
        entry.answer.has_rule
        and entry.answer.status in STATUSES
        and len(entry.variants) <= 1
        and entry.query != QueryPolicy.DROP
        and "?" not in entry.key
        and entry.id not in claims
    )


def told(entries: Sequence[Entry]) -> Told:
    rows = [
        (e.id, e.site, e.key, e.legacy_url, len(e.variants), e.answer.status, e.answer.destination,
         str(e.query), e.old)
        for e in entries
    ]  # fmt: skip
    return Told(*zip(*rows, strict=True))


def drawn(seed: int, *, short: bool) -> CompiledRules:
    """A move of its own for each seed, its plain answers by the short way or not."""
    rng = random.Random(seed)
    policy = FoldingPolicy(case=rng.choice(("fold", "fold", "exact")))
    ends = rng.choice((("", "", "/"), ("/",), ("",), ("/", "/", "/", "/", "")))
    goals = [goal(rng, ends) for _ in range(rng.choice((2, 30)))]
    entries = entries_of(rng, goals, policy)
    stock = {
        parse_address(g).without_fragment: StockPage(
            rng.choice((200,) * 8 + (0, 301, 404)), "", rng.random() < 0.05
        )
        for g in goals
        if rng.random() < 0.9
    }
    stock |= {f"{SAME}{path(rng)}": StockPage(200) for _ in range(rng.choice((0, 5)))}
    if rng.random() < 0.25:
        stock = {}
    claims = {
        e.id: [Claim(1, f"{OLD}{path(rng)}", 301, rng.choice(goals), True, "row 3")]
        for e in entries
        if rng.random() < 0.04
    }
    forms = (CanonicalForm(entries[0].site, OLD, slash="always"),) if rng.random() < 0.15 else ()
    templates = [
        make_template(e.site, "/page/{x}", 301, f"{FAR}/{{x}}", f"{OLD}/page/{{x}}", fold=True)
        for e in entries[: rng.choice((0, 0, 1))]
    ]
    slash = rng.choice(("as-stock", "as-stock", "always", "never"))
    homes = frozenset({f"{SAME}/", f"{FAR}/"})
    plain = [e for e in entries if short and may_be_plain(e, claims)]
    return CompiledRules(
        CheckContext(SITES, policy, stock, homes, slash, forms),
        RuleAnswers(SITES, policy, templates, ()),
        [e for e in entries if e not in plain],
        claims,
        list,
        list,
        list,
        told(plain),
        lambda numbers: [e for e in entries if e.id in set(numbers)],
    )
