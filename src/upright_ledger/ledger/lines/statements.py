"""Statements about lines of entries, and about the facts that they are worked out from."""

from __future__ import annotations

from collections.abc import Iterable

from upright_ledger.core.inventory.answer import AnswerKind
from upright_ledger.core.url.query import QueryPolicy

COLUMNS = (
    "entry", "site", "url", "section", "family", "value", "hits", "bots", "visits", "clicks",
    "impressions", "links", "logged", "traffic", "domains", "pages", "shown", "variants", "sources",
    "first_seen", "last_seen", "statuses", "title", "language", "kind", "status", "destination",
    "query", "by", "where",
)  # fmt: skip

# {touched}, {these}: of which entries; {counting}: sources that count; {more}: which spellings.
EVIDENCE = (
    "SELECT p.entry, v.source, v.unit, v.agent, v.status_class, v.amount, v.first_day, v.last_day "
    "FROM {touched}spellings p CROSS JOIN evidence v WHERE v.spelling = p.id AND {these} "
    "AND v.source IN {counting}"
)
SAID = (
    "SELECT p.entry, o.source, o.spelling, o.title, o.language, o.last_seen "
    "FROM {touched}spellings p CROSS JOIN observations o WHERE o.spelling = p.id AND {these} "
    "AND o.source IN {counting}"
)
SPELLED = "SELECT p.entry, p.variant FROM {touched}spellings p WHERE {these}{more}"
ENTRIES = (
    'SELECT e.id, e.site, e."key", e.legacy_url, a.kind, a.status, a.destination, a."query", '
    'a."by", a."where" FROM {touched}entries e LEFT JOIN answers a ON a.entry = e.id '
    "WHERE {these} ORDER BY {order}"
)
COUNTED = (
    'SELECT e.id, e.site, e."key" FROM entries e WHERE e.id IN (SELECT p.entry FROM spellings p '
    "WHERE p.entry IS NOT NULL AND EXISTS (SELECT 1 FROM evidence v WHERE v.spelling = p.id "
    "AND v.source IN {counting})) OR e.id IN (SELECT entry FROM answers)"
)
ORDERS = (
    " ORDER BY p.entry, v.source",
    " ORDER BY p.entry, o.source, o.spelling",
    " ORDER BY p.entry",
)
"""Of the rows of EVIDENCE, SAID and SPELLED, for those who take them entry by entry."""

_GONE = "SELECT v.spelling FROM evidence v JOIN sources s ON s.id = v.source WHERE "
SHOWN_OF_ALL = f" AND p.id NOT IN ({_GONE}s.withdrawn EXCEPT {_GONE}NOT s.withdrawn)"
_SEEN = (
    "EXISTS (SELECT 1 FROM evidence v JOIN sources s ON s.id = v.source "
    "WHERE v.spelling = p.id AND "
)
SHOWN = f" AND (NOT {_SEEN}s.withdrawn) OR {_SEEN}NOT s.withdrawn))"
"""What is seen in sources that count no longer, and in no other, is not shown: looked up, and for
all at once.
"""


def lines_among(among: str, joined: str = "") -> str:
    """The lines of entries as x, of those whose numbers a table holds, which is gone through first;
    empty: of all. joined: what else is joined. Conditions may follow.
    """
    if among:
        return f"{among} w CROSS JOIN entry_lines x {joined} WHERE x.entry = w.entry"
    return f"entry_lines x {joined} WHERE x.entry IS NOT NULL"


def packed(parts: Iterable[object]) -> str:
    """Parts in one text, each between two bars: "|1|4|"."""
    joined = "|".join(map(str, parts))
    return f"|{joined}|" if joined else ""


ANSWER = COLUMNS[-6:]
"""The columns that say the answer."""
NO_ANSWER = (AnswerKind.OPEN.value, 0, "", QueryPolicy.CARRY_TRACKING.value, "", "")
"""What they say of an entry that has none."""
