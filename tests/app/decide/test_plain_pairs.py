"""Rows of a sheet of pairs, read as columns, decide what they decide one by one."""

from __future__ import annotations

import random
import sqlite3
from contextlib import closing
from pathlib import Path
from tempfile import TemporaryDirectory

import pytest
from hypothesis import given
from hypothesis import strategies as st

from drawn_addresses import OLD, an_address
from ledgers import fresh_ledger
from properties import in_brief
from upright_ledger.app.decide.sheets import plain_pairs
from upright_ledger.app.decide.sheets.decide_list import decide_from
from upright_ledger.core.inventory.normalisation import FoldingPolicy
from upright_ledger.core.url.origins import Sites, group_origins
from upright_ledger.errors import UprightError
from upright_ledger.formats.tables.pairs import Pair
from upright_ledger.ledger.store import DATABASE_FILE, Ledger

NEW = "https://new.example"
STATUSES = [
    "",
    "301",
    "308",
    "302",
    "410",
    "gone",
    "keep",
    "permanent",
    "404",
    "later",
    "200",
    "ignore",
]
DESTINATIONS = [
    f"{NEW}/a/",
    f"{NEW}/b?x=1",
    f"{NEW}",
    f"{NEW}/",
    "/a",
    "a",
    "later",
    "=A1",
    f"{OLD}/c",
    f"{NEW}/a//b",
    f"{NEW}/./b",
    f"{NEW}/caf\u00e9",
    f"{NEW}/a#top",
    "http://other.example/",
    "HTTPS://NEW.example/x",
    "",
    f"{NEW}:443/a",
    f"{NEW}/a b",
    f"{NEW}/.hidden",
    f"{NEW}/A.html",
    "-",
    "n/a",
    f"{NEW}/%41",
]
PATTERNS = ["/blog/*", "^/shop/(.*)$", "/blog/{slug}", f"{OLD}/b/*", "", "n/a", "visit/hours.html"]
TABLES = (
    "entries",
    "spellings",
    "evidence",
    "answers",
    "claims",
    "templates",
    "changes",
    "entry_lines",
)


def a_sheet(rng: random.Random) -> str:
    pool = [an_address(rng).replace(",", "") for _ in range(12)]
    rows = ["old,new,status,query,kind", f"{OLD}/k-1,{NEW}/k,301,,", f"{OLD}/k-2,{NEW}/k,,,"]
    for _ in range(rng.randrange(3, 40)):
        old = rng.choice(pool) if rng.random() < 0.9 else rng.choice(PATTERNS)
        query = rng.choice(["", "", "", "drop", "carry", "none"])
        kind = rng.choice(["", "", "", "", "exact", "template"])
        told = (old, rng.choice(DESTINATIONS), rng.choice(STATUSES), query, kind)
        rows.append(",".join(told[: rng.choice((5, 5, 3))]))
    return "\n".join(rows) + "\n"


def decided(ledger: Ledger, path: Path, few: int) -> object:
    """All that was said of a sheet, and all that a ledger holds of it, without times."""
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(plain_pairs, "FEW", few)
        try:
            said = [vars(decide_from(ledger, path)) for _ in range(2)]
        except UprightError as error:
            said = [{"error": str(error)}]
    with closing(sqlite3.connect(ledger.folder / DATABASE_FILE)) as database:
        return said, [sorted(map(repr, database.execute(f'SELECT * FROM "{t}"'))) for t in TABLES]


@in_brief
@given(seed=st.integers(0, 1 << 40))
def test_rows_in_columns_decide_what_they_decide_one_by_one(seed: int) -> None:
    with TemporaryDirectory() as name:
        path = Path(name) / "pairs.csv"
        path.write_text(a_sheet(random.Random(seed)), encoding="utf-8")
        ways = [
            decided(fresh_ledger([OLD], [NEW], way), path, few)
            for way, few in (("columns", 0), ("single", 1 << 30))
        ]
    assert ways[0] == ways[1]


def test_usual_rows_are_plain() -> None:
    sites = Sites(group_origins([OLD]), (NEW,))
    rows = [Pair(n, f"{OLD}/A/{n}-a.html", f"{NEW}/a/{n}/", "301") for n in range(600)]
    rows += [Pair(n, f"{OLD}/b/{n}-a", "", "gone") for n in range(100)]
    plain = plain_pairs.read_plainly(rows, sites, FoldingPolicy())
    assert [p.at for p in plain] == [*range(700)]
    assert plain_pairs.read_plainly(rows[:500], sites, FoldingPolicy()) == []
