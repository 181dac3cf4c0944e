"""What surveys saw pages say: texts of old pages and of pages in stock, as sketches."""

from __future__ import annotations

from dataclasses import dataclass, field

from upright_ledger.app.move_state import MoveState
from upright_ledger.core.contents.sketches import Sketch
from upright_ledger.core.url.address import address_of
from upright_ledger.core.url.destination import page_key
from upright_ledger.ledger.tables.runs.crawl_blocks import load_sketches
from upright_ledger.ledger.tables.sources import surveyed


@dataclass
class PageTexts:
    """old: number of an entry → the text of its page; new: page key → text. Empty where a survey
    asked and saw none.
    """

    old: dict[int, Sketch] = field(default_factory=dict)
    new: dict[str, Sketch] = field(default_factory=dict)


def load_texts(move: MoveState) -> PageTexts:
    """What the surveys say that fed the ledger, of which later ones count before earlier ones."""
    found = PageTexts()
    with move.ledger.reading() as connection:
        for run, purpose in surveyed(connection):
            for url, text in load_sketches(connection, run):
                address = address_of(url)
                if purpose != "gather":
                    found.new[page_key(address)] = text
                elif (entry := move.entry_of(address)) is not None and (
                    text or entry.id not in found.old
                ):
                    found.old[entry.id] = text
    return found
