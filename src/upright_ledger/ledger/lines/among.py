"""What several statements say alike: which lines are meant, and which spellings are shown."""

from __future__ import annotations

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
