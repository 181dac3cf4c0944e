"""What a run does: follow requests through the rules or over HTTP, or crawl a site."""

from __future__ import annotations

from upright_ledger.core.word import Word


class RunKind(Word):
    """The kind of a run; its word is the command's."""

    REHEARSE = "rehearse"
    REPLAY = "replay"
    SURVEY = "survey"
