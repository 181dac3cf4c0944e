"""Rows of tables in columns say what they say one by one, and plain addresses are placed in columns
as they are placed one by one.
"""

from __future__ import annotations

import random
import sqlite3
from collections import Counter
from collections.abc import Callable
from contextlib import closing
from itertools import chain
from pathlib import Path
from tempfile import TemporaryDirectory

import pytest
from hypothesis import given
from hypothesis import strategies as st

from drawn_addresses import OLD, an_address
from ledgers import fresh_ledger
from properties import in_brief, thorough
from upright_ledger.app.collect.gather import gather
from upright_ledger.app.collect.reading import sorting
from upright_ledger.app.prove import request_files
from upright_ledger.core.inventory.normalisation import FoldingPolicy
from upright_ledger.core.inventory.placing.classification import Classifier
from upright_ledger.core.inventory.placing.plain_places import Placed, PlainPlaces
from upright_ledger.core.url.origins import Sites, group_origins
from upright_ledger.core.url.repair import mend
from upright_ledger.errors import InputError
from upright_ledger.formats import records
from upright_ledger.formats.detection import FileKind, recognise
from upright_ledger.formats.lists import text_list
from upright_ledger.formats.records import ReadOptions
from upright_ledger.formats.tables import url_rows
from upright_ledger.ledger.store import DATABASE_FILE

SITES = Sites(
    group_origins([OLD, "https://shop.quillhaven.example:8443", "http://m.fern.example"]),
    ("https://new.example",),
)
PLAIN = ReadOptions()
POLICIES = [
    FoldingPolicy(),
    FoldingPolicy(case="exact"),
    FoldingPolicy(significant={"/a": ("id",), "/shop": ()}),
    FoldingPolicy(significant={"/sh*": ("page",)}),
    FoldingPolicy(index_files=("start.html",), view_segments=("amp",), tracking=("ref",)),
    FoldingPolicy(secret=("id",), no_secret=("token",), take_back=("furniture", "/*.png")),
]


@thorough
@given(seed=st.integers(0, 1 << 40), policy=st.sampled_from(POLICIES))
def test_plain_addresses_are_placed_as_they_are_one_by_one(
    seed: int, policy: FoldingPolicy
) -> None:
    rng = random.Random(seed)
    texts = [an_address(rng) for _ in range(200)]
    placed = PlainPlaces(SITES, policy).place(texts)
    one_by_one = Classifier(SITES, policy)
    folded: Counter[str] = Counter()
    for n, at in enumerate(placed.at):
        assert mend(texts[at]).text == texts[at]
        place = one_by_one.written(texts[at])
        assert (place.spelling, place.aside, place.doubt) == (texts[at], "", "")
        assert (place.site, place.key) == (placed.sites[n], placed.keys[n])
        assert (place.variant, place.legacy_url) == (placed.variants[n], placed.legacy_urls[n])
        folded.update(place.mends)
    assert folded == placed.folded


@pytest.mark.parametrize("policy", POLICIES)
def test_most_addresses_of_an_export_are_plain(policy: FoldingPolicy) -> None:
    texts = [f"{OLD}/Journal/{n}/the-clock-{n * 7}.html" for n in range(50)]
    texts += [f"{OLD}/visit/room-{n}/" for n in range(50)]
    assert len(PlainPlaces(SITES, policy).place(texts).at) == 100
    asked = [f"{OLD}/shop.php?item={n}&utm_source=x" for n in range(50)]
    queries = len(PlainPlaces(SITES, policy).place(asked).at)
    assert queries == (0 if any("*" in path for path in policy.significant) else 50)


def test_nothing_is_placed_of_nothing() -> None:
    assert PlainPlaces(SITES, FoldingPolicy()).place([]) == Placed([], [], [], [], [], Counter())
    assert PlainPlaces(SITES, FoldingPolicy()).place(["\udcff", ""]).at == []


HEADINGS = [
    "url,hits,title", "url,hits,clicks,referring domains,status,last seen,anchor,language,id",
    "title,h1,url,visits", "url,source", "url,linked from,backlinks", "url",
]  # fmt: skip
CELLS = [
    "",
    "0",
    "3",
    "1,5",
    '"1,234"',
    "x",
    " 4 ",
    "404",
    "2026-05-03",
    "03/04/2026",
    "14/04/2026",
    "-",
    "n/a",
    '"Clock\nroom"',
    "Écran",
    "https://fern.example/post",
    "newsletter",
    "7.0",
]
WHOLE = [
    "",
    ",,,",
    "Total,7",
    "# a note",
    '"=HYPERLINK(""http://www.quillhaven.example/a"")",3',
    "a,b,c,d,e,f,g,h,i,j,k",
    "(not set),4",
    f"{OLD}/a",
    f" {OLD}/A ,2,x",
    f"{OLD}/a,1,first",
    f"{OLD}/a,,second",
]


def a_table(rng: random.Random) -> str:
    heading = rng.choice(HEADINGS)
    names = heading.split(",")
    addresses = [an_address(rng).replace(",", "") for _ in range(20)]
    rows = [
        heading,
        *(",".join(f"{OLD}/k-{n}" if m == "url" else "5" for m in names) for n in range(3)),
    ]
    for _ in range(rng.randrange(5, 60)):
        if rng.random() < 0.1:
            rows.append(rng.choice(WHOLE))
            continue
        cells = [rng.choice(addresses) if m == "url" else rng.choice(CELLS) for m in names]
        rows.append(",".join(cells[: rng.choice((len(cells), len(cells), len(cells), 2))]))
    return "\n".join(rows) + "\n"


LINES = [
    "",
    "# a note",
    "url",
    "The clock room is closed in winter.",
    f"see {OLD}/a and {OLD}/b, or www.quillhaven.example/c.",
    f'"{OLD}/quoted",',
    f"{OLD}/with blank/a",
    f"{OLD}\\\\b",
    "/only/a/path",
    "mailto:clock@quillhaven.example",
    "a" * 40_000,
    f"{OLD}/a",
    f" {OLD}/A ",
    f"{OLD}/a#part",
]


def a_list(rng: random.Random) -> str:
    lines = [f"{OLD}/k-{n}" for n in range(rng.randrange(8))]
    lines += (
        rng.choice(LINES) if rng.random() < 0.3 else an_address(rng)
        for _ in range(rng.randrange(5, 60))
    )
    return "\n".join(lines) + "\n"


NUMBERED = [
    f'SELECT * FROM "{t}"'
    for t in (
        "entries",
        "spellings",
        "evidence",
        "observations",
        "referrers",
        "set_aside",
        "entry_lines",
    )
]
_SPELLED = (
    "SELECT p.site, p.spelling, p.variant, p.aside, e.site, e.key FROM spellings p "
    "LEFT JOIN entries e ON e.id = p.entry"
)
_SAID = (
    "SELECT p.spelling, v.unit, v.status_class, v.agent, v.days, SUM(v.amount) FROM evidence v "
    "JOIN spellings p ON p.id = v.spelling GROUP BY 1, 2, 3, 4, 5"
)
NAMED = [
    'SELECT site, "key", legacy_url FROM entries',
    _SPELLED,
    _SAID,
    "SELECT e.key, x.* FROM entry_lines x JOIN entries e ON e.id = x.entry",
    "SELECT * FROM set_aside",
]
"""Without the numbers of rows, which come portion by portion."""


def gathered(path: Path, name: str, asked: list[str], *, few: int) -> tuple[object, ...]:
    """All that a ledger holds of a table or a list, gathered in columns or one by one."""
    ledger = fresh_ledger([OLD], ["https://new.example"], name)
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(records, "FEW", few)
        try:
            found = gather(ledger, [str(path)], PLAIN).sources[0]
        except InputError as error:
            return (str(error),)
    said = [value for field, value in vars(found).items() if field != "rejects_file"]
    with closing(sqlite3.connect(ledger.folder / DATABASE_FILE)) as database:
        database.row_factory = sqlite3.Row
        held = [[*map(dict, rows)] for rows in map(database.execute, asked)]
    for row in chain.from_iterable(held if asked is NAMED else ()):
        for what in ("entry", "title", "language"):  # of several the first, by such numbers
            row.pop(what, None)
    return said, [sorted(map(repr, rows)) for rows in held]


def requests_in(path: Path, *, few: int) -> object:
    """All that is asked for in a table or a list, read in columns or one by one."""
    found: list[object] = []
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(records, "FEW", few)
        try:
            request_files._read(found.append, Classifier(SITES, POLICIES[0]), [str(path)], PLAIN)
        except InputError as error:
            return str(error)
    return found


@in_brief
@given(
    seed=st.integers(0, 1 << 40),
    block=st.sampled_from([3, 7, 20_000]),
    draw=st.sampled_from([a_table, a_list]),
)
def test_rows_in_columns_say_what_they_say_one_by_one(
    seed: int, block: int, draw: Callable[[random.Random], str]
) -> None:
    text = draw(random.Random(seed))
    with TemporaryDirectory() as name, pytest.MonkeyPatch.context() as patch:
        path = Path(name) / ("table.csv" if draw is a_table else "list.txt")
        path.write_text(text, encoding="utf-8")
        patch.setattr(url_rows, "BLOCK", block)
        patch.setattr(text_list, "BLOCK", block)
        patch.setattr(sorting, "BATCH", block)
        at_once = block > 1000 and recognise(path) == FileKind.TABLE
        asked = NUMBERED if at_once else NAMED

        columns = gathered(path, "columns", asked, few=0)
        assert columns == gathered(path, "single", asked, few=1 << 30)
        assert requests_in(path, few=0) == requests_in(path, few=1 << 30)
