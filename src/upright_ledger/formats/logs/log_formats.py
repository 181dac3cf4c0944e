"""The formats of logs. A new one is a module with its `LogFormat`, and a line here."""

from __future__ import annotations

from collections.abc import Sequence
from functools import lru_cache

from upright_ledger.formats.logs.forms.any_line import ANY_LINE, learned
from upright_ledger.formats.logs.forms.apache_errors import APACHE_ERRORS
from upright_ledger.formats.logs.forms.combined import COMBINED
from upright_ledger.formats.logs.forms.json_lines import JSON_LINES
from upright_ledger.formats.logs.forms.named_lines import NAMED
from upright_ledger.formats.logs.forms.prefixed import PREFIXED
from upright_ledger.formats.logs.forms.request_tables import APART, HEADED, ROWS, WORDS
from upright_ledger.formats.logs.forms.two_lines import TWO_LINES
from upright_ledger.formats.logs.forms.w3c import HEADLESS, IIS_FIXED, W3C
from upright_ledger.formats.logs.forms.wrapped_rows import WRAPPED_ROWS
from upright_ledger.formats.logs.log_line import Likeness, LogFormat

FORMATS = (
    W3C, PREFIXED, HEADLESS, IIS_FIXED, APACHE_ERRORS, WRAPPED_ROWS, COMBINED, JSON_LINES, NAMED,
    HEADED, ROWS, APART, ANY_LINE, TWO_LINES, WORDS,
)  # fmt: skip
"""In the order in which they are asked."""


def is_log(lines: Sequence[str]) -> bool:
    """Whether the first lines of a file, those that are not empty, are surely those of a log."""
    return any(known.sniff(lines) == Likeness.SURE for known in FORMATS)


def format_of(lines: Sequence[str], hosts: frozenset[str] = frozenset()) -> LogFormat:
    """The format of a log, by its first lines; Combined where they look like none. hosts: of the
    old sites.
    """
    return _format_of(tuple(lines), hosts)


@lru_cache(maxsize=8)  # the same lines are looked at for several questions
def _format_of(lines: Sequence[str], hosts: frozenset[str]) -> LogFormat:
    how_likely = {}
    for known in FORMATS:
        how_likely[known] = known.sniff(lines)
        if how_likely[known] == Likeness.SURE:
            break
    likeliest = max(how_likely, key=lambda known: how_likely[known])
    if not how_likely[likeliest]:
        return COMBINED
    if likeliest is COMBINED and not learned(lines, hosts).layout.is_combined:
        return ANY_LINE
    return likeliest
