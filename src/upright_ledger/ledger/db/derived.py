"""The tables of what is worked out from others: kept, so that questions are asked of the database.

Each is written in the transaction that changes what it rests on, and may be worked out anew at any
time: nothing here is a fact, the journal carries none of it, and no database checks to what it
belongs.
"""

from __future__ import annotations

from sqlalchemy import JSON, Column, Float, Index, Integer, String, Table, Text

from upright_ledger.ledger.db.schema import metadata

__all__ = ["entry_lines", "kept", "metadata"]

ORDERED = Text().with_variant(Text(collation="C"), "postgresql")
"""Texts by whose characters rows are sorted, in any database alike."""

# One line an entry that counts: its figures over all sources that count, and the answer in effect.
entry_lines = Table(
    "entry_lines",
    metadata,
    Column("entry", Integer, primary_key=True),
    Column("site", String, nullable=False),
    Column("url", ORDERED, nullable=False),  # by which it is called
    Column("section", String, nullable=False),
    Column("family", Text, nullable=False),
    Column("value", Float, nullable=False),
    Column("hits", Float, nullable=False),
    Column("bots", Float, nullable=False),
    Column("visits", Float, nullable=False),
    Column("clicks", Float, nullable=False),
    Column("impressions", Float, nullable=False),
    Column("links", Float, nullable=False),
    # What the value is made of: requests by people in logs, the largest rate of an export per 30
    # days, linking domains and pages, and impressions per 30 days.
    Column("logged", Float, nullable=False),
    Column("traffic", Float, nullable=False),
    Column("domains", Float, nullable=False),
    Column("pages", Float, nullable=False),
    Column("shown", Float, nullable=False),
    Column("variants", Integer, nullable=False),
    Column("sources", String, nullable=False),  # those that name it, as "|1|4|"
    Column("first_seen", String, nullable=False),
    Column("last_seen", String, nullable=False),
    Column("statuses", String, nullable=False),  # as "|2xx:3.0|404:1.0|"
    Column("title", Text, nullable=False),
    Column("language", String, nullable=False),
    # The answer in effect, be it its own or a rule's.
    Column("kind", String, nullable=False),
    Column("status", Integer, nullable=False),
    Column("destination", Text, nullable=False),
    Column("query", String, nullable=False),
    Column("by", String, nullable=False),
    Column("where", String, nullable=False),
)
Index("entry_lines_by_value", entry_lines.c.value.desc(), entry_lines.c.url)
Index("entry_lines_by_answer", entry_lines.c.kind, entry_lines.c.value.desc(), entry_lines.c.url)

# What long work found, and the step of the journal up to which it is true.
kept = Table(
    "kept",
    metadata,
    Column("name", String, primary_key=True),
    Column("step", Integer, nullable=False),
    Column("value", JSON, nullable=False),
)
