"""Lists of URLs: one a line; blank lines and # comments are no URLs."""

from __future__ import annotations

import re
from collections.abc import Iterator
from pathlib import Path

from upright_ledger.core.evidence import LISTED
from upright_ledger.core.traffic import BLANK
from upright_ledger.formats.columns import is_header_word
from upright_ledger.formats.reading import MAX_LINE, read_text, text_lines
from upright_ledger.formats.records import Aside, Item, ReadOptions, Record, Reject

_URL_START = re.compile(r"^(?:https?://|/|[A-Za-z0-9-]+(?:\.[A-Za-z0-9-]+)+(?:[:/?#]|$))", re.IGNORECASE)


def read_text_list(path: Path, options: ReadOptions) -> Iterator[Item]:
    """Read a text with one URL or path a line."""
    for number, line in text_lines(read_text(path, options.encoding)):
        text = line.strip().strip("\"'<>")
        if not text or text.startswith("#") or (number == 1 and is_header_word(text)):
            yield Aside(number, BLANK, line)
        elif len(line) > MAX_LINE:
            yield Reject(number, f"longer than {MAX_LINE:,} characters", line)
        elif not _URL_START.match(text):
            yield Reject(number, "no URL or path begins this line", line)
        else:
            yield Record(number, text, amounts={LISTED: 1.0})
