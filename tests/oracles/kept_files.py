"""Rule sets whose files stay as they were when real servers last agreed with them, byte by byte.

`make recordings` asks the servers again, and writes down what the files are now.
"""

from __future__ import annotations

import hashlib
import json
import random
from collections.abc import Iterator
from dataclasses import replace
from itertools import product
from pathlib import Path

from conformance import NEW, OLD, SITES, make_rules
from corruption import RULE_FILES
from rule_kinds import rules_of_every_kind
from upright_ledger.core.inventory.normalisation import FoldingPolicy
from upright_ledger.core.rules.compiler import compile_rules
from upright_ledger.core.rules.draft import make_plan
from upright_ledger.core.rules.ruleset import RuleSet
from upright_ledger.core.url.address import parse_address
from upright_ledger.servers import load_dialect
from upright_ledger.servers.import_list import ListDialect, Profile
from upright_ledger.servers.probes import probes

LISTS = {
    "a list of paths": ListDialect(
        Profile("shop", "csv", "From", "To", "", paths_only=True, patterns=True),
        {("quillhaven.example", "/bare"): 9.0, ("quillhaven.example", "/seven"): 0.5}, NEW,
    ),
    "a short list": ListDialect(
        Profile("short", "jsonl", "a", "b", "c", limit=5, queries=False, gone=False), {}, NEW
    ),
}  # fmt: skip
SERVERS = [*sorted(RULE_FILES), "csv", "jsonl", *LISTS]
KEPT = Path(__file__).resolve().parent / "recorded" / "files.json"
DRAWN = 12


def rule_sets() -> Iterator[tuple[str, RuleSet]]:
    """Of every kind, small and large ones drawn at random, and none at all."""
    for fold in (True, False):
        yield f"every kind, {'folded' if fold else 'exact'}", rules_of_every_kind(fold)
    for seed in range(DRAWN):
        yield f"drawn {seed}", make_rules(random.Random(seed), most=4 + 8 * (seed % 4))
    whole = rules_of_every_kind(True)
    plain = tuple(r for r in whole.rules if not r.params)
    yield "plain", replace(whole, rules=plain, templates=(), forms=(), cache_control="")
    yield "with parameters", replace(whole, templates=(), forms=())
    yield "templates alone", replace(whole, rules=(), forms=())
    yield "many alike", _many()
    yield "none", RuleSet((), {"www.quillhaven.example": "quillhaven.example"}, True, ())


def _many() -> RuleSet:
    """Paths that are beginnings of one another, some with parameters."""
    names = ["".join(letters) for n in (1, 2, 3, 4) for letters in product("ab1", repeat=n)]
    urls = [f"{OLD}/{name}" for name in names] + [f"{OLD}/a?item={name}" for name in names[:40]]
    plans = [
        make_plan(parse_address(u), "quillhaven.example", FoldingPolicy(), 301, f"{NEW}/n/{n}")
        for n, u in enumerate(urls)
    ]
    return compile_rules(plans, [], SITES, FoldingPolicy())[0]


def digests(server: str) -> dict[str, str]:
    """The digest of each file that is written for a server."""
    found = {}
    for name, rules in rule_sets():
        made = (LISTS.get(server) or load_dialect(server)).write(rules)
        held = json.dumps([(r.legacy_url, r.reason) for r in made.refused]).encode()
        asked = repr([tuple(p) for p in probes(made.rules)]).encode()
        for file, data in {**made.files, "held back": held, "probes": asked}.items():
            found[f"{name}: {file}"] = hashlib.sha256(data).hexdigest()[:16]
    return found


def kept(server: str) -> dict[str, str]:
    """The same, as it was."""
    found: dict[str, str] = json.loads(KEPT.read_text(encoding="utf-8"))[server]
    return found


def keep() -> None:
    """Write down what the files are now."""
    whole = {server: digests(server) for server in SERVERS}
    KEPT.write_text(json.dumps(whole, indent=0, sort_keys=True) + "\n", encoding="utf-8")
