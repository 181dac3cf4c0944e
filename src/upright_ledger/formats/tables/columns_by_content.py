"""Columns that no heading tells: statuses, days, pages that link, titles and counts give themselves
away by their cells.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from itertools import pairwise

from upright_ledger.core.inventory.units import HITS
from upright_ledger.formats.tables.cells import host_of, looks_like_address, status_code
from upright_ledger.formats.tables.column_names import (
    LAST_SEEN,
    REFERRER,
    STATUS,
    TITLE,
    URL,
    bare,
)
from upright_ledger.formats.tables.header_words import side_of
from upright_ledger.formats.tables.meanings.days import day_of
from upright_ledger.formats.tables.meanings.figures import COUNTED


def in_words(header: str) -> str:
    """A heading with blanks between its words."""
    return re.sub(r"[\s_.\-]+", " ", header)


def cells_at(rows: Sequence[Sequence[str]], at: int) -> list[str]:
    """What a column says in these rows, where it says anything."""
    return [r[at].strip() for r in rows if at < len(r) and r[at].strip()]


def share(cells: Sequence[str], test: Callable[[str], object]) -> float:
    """The share of cells that stand a test; 0 where there are none."""
    return sum(1 for c in cells if test(c)) / len(cells) if cells else 0.0


# A day that is not the last one on which something was seen.
_OTHER_DAY = re.compile(
    r"first|erst|premi|prim|created|added|published|discovered|start|begin|since|seit|entdeckt|"
    r"angelegt|lost|verloren",
    re.IGNORECASE,
)


def find_by_content(
    found: dict[str, int],
    rows: Sequence[Sequence[str]],
    header: Sequence[str],
    hosts: frozenset[str],
    off: frozenset[str],
    *,
    is_links: bool,
) -> None:
    """Find what the headers do not tell: statuses, days, pages that link, and titles give
    themselves away.
    """
    open_ones = (
        {STATUS, LAST_SEEN, REFERRER, TITLE} - found.keys() - off - ({TITLE} if is_links else set())
    )
    width = len(header) or max(map(len, rows), default=0)
    titles = [*header, *[""] * (width - len(header))]
    for at in range(width):
        cells = cells_at(rows, at)
        if at in found.values() or len(cells) < 3:
            continue
        if (
            STATUS in open_ones - found.keys()
            and share(cells, status_code) == 1
            and len(set(cells)) < len(cells)
        ):
            found[STATUS] = at
        elif (
            LAST_SEEN in open_ones - found.keys()
            and not _OTHER_DAY.search(titles[at])
            and share(cells, day_of) == 1
        ):
            found[LAST_SEEN] = at
        elif (
            REFERRER in open_ones - found.keys()
            and side_of(titles[at]) != "new"
            and share(cells, lambda c: host_of(c) and host_of(c) not in hosts) == 1
        ):
            found[REFERRER] = at
        elif (
            TITLE in open_ones - found.keys()
            and not _REMARKS.search(in_words(titles[at]))
            and bare(titles[at]) not in COUNTED
            and share(cells, _is_phrase) > 0.7
            and len(set(cells)) * 2 > len(cells)
        ):
            found[TITLE] = at
    if not header and URL in found and HITS not in off:
        left = [at for at in range(width) if at not in found.values()]
        # What stands first may be a count beside more than an address, as `uniq -c` has it.
        if len(left) == 1 and (width == 2 or left == [0]) and _are_counts(cells_at(rows, left[0])):
            found[HITS] = left[0]


def _are_counts(cells: Sequence[str]) -> bool:
    """Whether cells beside addresses count them: figures, but no statuses and no row numbers."""
    if not cells or not all(c.isascii() and c.isdigit() for c in cells):
        return False
    figures = [*map(int, cells[:_MANY_ROWS])]
    steps = {b - a for a, b in pairwise(figures)}
    return not all(map(status_code, cells)) and steps != {1}


_MANY_ROWS = 400
# Sentences that speak of a page are not what it is called.
_REMARKS = re.compile(
    r"\b(?:why|because|reasons?|comes? from|came from|notes?|comments?|remarks?|details?|what|"
    r"action|remed(?:y|ies)|mend|answer|status|state|expected|verdicts?|owner|kommentar|bemerkung|"
    r"notiz|hinweis|grund|remarque|commentaire|note|motif|nota|comentario|motivo|commento|"
    r"opmerking|reden|uwag[ai]|powód|kommentarer)\b",
    re.IGNORECASE,
)


def _is_phrase(cell: str) -> bool:
    return (
        " " in cell
        and any(c.isalpha() for c in cell)
        and not looks_like_address(cell)
        and not day_of(cell)
    )
