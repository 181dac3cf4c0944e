"""The tables of a ledger.

Facts are the observed spellings and what sources say of them; entry keys are derived from
spellings under a numbered folding policy. Rows of the tables in `shapes.JOURNALLED`
are changed through the journal alone.
"""

from __future__ import annotations

from sqlalchemy import (
    JSON,
    Boolean,
    Column,
    Float,
    ForeignKey,
    Index,
    Integer,
    LargeBinary,
    MetaData,
    String,
    Table,
    Text,
    UniqueConstraint,
)

metadata = MetaData()

MORE = (
    "CREATE INDEX IF NOT EXISTS spellings_in_doubt ON spellings (site, key) WHERE key <> ''",
    "CREATE INDEX IF NOT EXISTS answers_with_a_day ON answers (until) WHERE until <> ''",
)
"""What is made beside the tables: to say it with them would load a module for each database."""


migrations = Table(
    "migrations",
    metadata,
    Column("number", Integer, primary_key=True),
    Column("name", String, nullable=False),
    Column("applied", String, nullable=False),
)

policies = Table(
    "policies",
    metadata,
    Column("number", Integer, primary_key=True),
    Column("settings", JSON, nullable=False),
    Column("since", String, nullable=False),
)

# Settings that a team has together, a table of the file a row; see settings.shared.
shared = Table(
    "shared",
    metadata,
    Column("number", Integer, primary_key=True),
    Column("value", JSON, nullable=False),
)

steps = Table(
    "steps",
    metadata,
    Column("id", Integer, primary_key=True),
    Column("time", String, nullable=False),
    Column("author", String, nullable=False),
    Column("command", String, nullable=False),
    Column("reason", Text, nullable=False, default=""),
    Column("summary", Text, nullable=False, default=""),
    Column("undoes", Integer),
    Column("undone_by", Integer),
)

# One before-image a changed row; `before` is null where the row was new.
changes = Table(
    "changes",
    metadata,
    Column("step", Integer, ForeignKey("steps.id"), nullable=False),
    Column("table_name", String, nullable=False),
    Column("row_key", String, nullable=False),
    Column("before", JSON),
    Index("changes_by_step_row", "step", "table_name", "row_key"),
    Index("changes_by_row", "table_name", "row_key", "step"),
)

sources = Table(
    "sources",
    metadata,
    Column("id", Integer, primary_key=True),
    Column("step", Integer, ForeignKey("steps.id"), nullable=False),
    Column("name", String, nullable=False),
    Column("kind", String, nullable=False),
    Column("purpose", String, nullable=False),  # gather, stock or pairs
    Column("digest", String, nullable=False),
    Column("head_digest", String, nullable=False, default=""),
    Column("bytes", Integer, nullable=False),
    Column("time", String, nullable=False),
    Column("period_start", String, nullable=False, default=""),
    Column("period_end", String, nullable=False, default=""),
    Column("mapping", JSON),
    Column("lines", Integer, nullable=False, default=0),
    Column("accepted", Integer, nullable=False, default=0),
    Column("set_aside", Integer, nullable=False, default=0),
    Column("rejected", Integer, nullable=False, default=0),
    Column("new_entries", Integer, nullable=False, default=0),
    Column("mended", JSON),
    Column("aside", JSON),  # class → lines set aside
    Column("withdrawn", Boolean, nullable=False, default=False),
    Column("asked", JSON),  # how it was to be read, by the options that were given
    Index("sources_by_digest", "digest"),
)

entries = Table(
    "entries",
    metadata,
    Column("id", Integer, primary_key=True),
    Column("site", String, nullable=False),
    Column("key", Text, nullable=False),
    Column("policy", Integer, ForeignKey("policies.number"), nullable=False),
    Column("legacy_url", Text, nullable=False),
    UniqueConstraint("site", "key", name="entries_by_key"),
)

# A spelling belongs to an entry, or is set aside in the class `aside`. Where that is in doubt,
# since failing requests alone name it, `key` is the key of the entry it would belong to.
spellings = Table(
    "spellings",
    metadata,
    Column("id", Integer, primary_key=True),
    Column("site", String, nullable=False),  # empty for addresses off the old sites
    Column("spelling", Text, nullable=False),
    Column("entry", Integer, ForeignKey("entries.id"), index=True),
    Column(
        "variant", Text, nullable=False
    ),  # canonical path, before case, index file and slash were folded
    Column("aside", String, nullable=False, default=""),
    Column("key", Text, nullable=False, default="", server_default=""),
    UniqueConstraint("site", "spelling", name="spellings_by_text"),
)

# One figure: spelling × source × unit × status class × people or bots, with its days packed beside
# it as "2026-05-01:12 2026-05-02:3". Several rows may say the same sort of thing; they add up.
evidence = Table(
    "evidence",
    metadata,
    Column("spelling", Integer, ForeignKey("spellings.id"), nullable=False),
    Column("source", Integer, ForeignKey("sources.id"), nullable=False),
    Column("unit", String, nullable=False),
    Column("status_class", String, nullable=False, default=""),
    Column("agent", String, nullable=False, default=""),
    Column("amount", Float, nullable=False),
    Column("first_day", String, nullable=False, default=""),
    Column("last_day", String, nullable=False, default=""),
    Column("days", Text, nullable=False, default=""),
    Index("evidence_by_spelling", "spelling"),
    Index("evidence_by_source", "source", "spelling"),
)

# The lines of a log, so that one that stands in two files counts once: 64-bit digests, 8 bytes
# each, by day.
log_lines = Table(
    "log_lines",
    metadata,
    Column("source", Integer, ForeignKey("sources.id"), nullable=False),
    Column("day", String, nullable=False),
    Column("method", String, nullable=False),  # which digest this is; others cannot be compared
    Column("digests", LargeBinary, nullable=False),
    Index("log_lines_by_day", "day"),
)

# What a source says in words.
observations = Table(
    "observations",
    metadata,
    Column("spelling", Integer, ForeignKey("spellings.id"), nullable=False),
    Column("source", Integer, ForeignKey("sources.id"), nullable=False),
    Column("title", Text, nullable=False, default=""),
    Column("anchor", Text, nullable=False, default=""),  # the text of a link
    Column("language", String, nullable=False, default=""),
    Column("status", Integer, nullable=False, default=0),
    Column("last_seen", String, nullable=False, default=""),
    # Its number in the shop or the catalogue.
    Column("item", Text, nullable=False, default="", server_default=""),
    Index("observations_by_spelling", "spelling"),
)

# The top referrers of a spelling in a source, one a line as "12 https://…"; the remainder has no
# address.
referrers = Table(
    "referrers",
    metadata,
    Column("spelling", Integer, ForeignKey("spellings.id"), nullable=False),
    Column("source", Integer, ForeignKey("sources.id"), nullable=False),
    Column("referrers", Text, nullable=False),
    Index("referrers_by_spelling", "spelling"),
)

# Lines that hold no URL at all, by class and text. URLs that are set aside are spellings.
set_aside = Table(
    "set_aside",
    metadata,
    Column("source", Integer, ForeignKey("sources.id"), nullable=False, index=True),
    Column("kind", String, nullable=False),
    Column("text", Text, nullable=False),
    Column("lines", Integer, nullable=False),
)

# The rules of a server's file, in the order in which they are asked; see core.rules.imported.rule.
imported = Table(
    "imported",
    metadata,
    Column("source", Integer, ForeignKey("sources.id"), nullable=False),
    Column("number", Integer, nullable=False),
    Column("rule", JSON, nullable=False),
    Index("imported_by_source", "source", "number"),
)

destinations = Table(
    "destinations",
    metadata,
    Column("source", Integer, ForeignKey("sources.id"), nullable=False),
    Column("page", Text, nullable=False),  # page key: origin, canonical path, query
    Column("url", Text, nullable=False),
    Column("status", Integer, nullable=False, default=0),
    Column("title", Text, nullable=False, default=""),
    Column("heading", Text, nullable=False, default=""),
    Column("description", Text, nullable=False, default=""),
    Column("canonical", Text, nullable=False, default=""),
    Column("indexable", String, nullable=False, default=""),
    Column("language", String, nullable=False, default=""),
    Column("redirects_to", Text, nullable=False, default=""),
    Column("state", String, nullable=False, default="live"),  # live or planned
    Column("section", Text, nullable=False, default="", server_default=""),
    Column("item", Text, nullable=False, default="", server_default=""),
    UniqueConstraint("source", "page", name="destinations_by_page"),
    Index("destinations_by_key", "page"),
)

answers = Table(
    "answers",
    metadata,
    Column("entry", Integer, ForeignKey("entries.id"), primary_key=True),
    Column("kind", String, nullable=False),
    Column("status", Integer, nullable=False, default=0),
    Column("destination", Text, nullable=False, default=""),
    Column("query", String, nullable=False, default="carry-tracking"),
    Column("by", String, nullable=False),  # match, person or import
    Column(
        "old", Text, nullable=False, default=""
    ),  # the legacy address as it was written with the answer
    Column("host_given", Boolean, nullable=False, default=True),
    Column("where", String, nullable=False, default=""),
    Column("note", Text, nullable=False, default=""),
    Column("inherited", Boolean, nullable=False, default=False),
    # How it was found: who decided (UPRIGHT_AUTHOR), and of the proposal that it is, if any, its
    # confidence (0 to 1), its reasons and the destination that came next.
    Column("author", String, nullable=False, default="", server_default=""),
    Column("confidence", Float),
    Column("reasons", Text, nullable=False, default="", server_default=""),
    Column("runner_up", Text, nullable=False, default="", server_default=""),
    # The day on which it is to be looked at again, or empty.
    Column("until", String, nullable=False, default="", server_default=""),
)

# Entries that somebody who reviews is looking at, until when; see ledger.lending.
lent = Table(
    "lent",
    metadata,
    Column("entry", Integer, ForeignKey("entries.id"), primary_key=True),
    Column("holder", String, nullable=False),
    Column("until", String, nullable=False),
)

# Further answers for an entry that already has another one: conflicts, until somebody decides.
claims = Table(
    "claims",
    metadata,
    Column("entry", Integer, ForeignKey("entries.id"), primary_key=True),
    Column("number", Integer, primary_key=True),
    Column("status", Integer, nullable=False),
    Column("destination", Text, nullable=False),
    Column("old", Text, nullable=False),
    Column("host_given", Boolean, nullable=False, default=True),
    Column("where", String, nullable=False, default=""),
)

# Answers for all addresses that fit a template; asked where no entry has an answer of its own.
templates = Table(
    "templates",
    metadata,
    Column("id", Integer, primary_key=True),
    Column("site", String, nullable=False),
    Column("source", Text, nullable=False),
    Column("status", Integer, nullable=False, default=0),
    Column("destination", Text, nullable=False, default=""),
    Column("query", String, nullable=False, default="carry-tracking"),
    Column("by", String, nullable=False),
    Column("where", String, nullable=False, default=""),
    UniqueConstraint("site", "source", name="templates_by_source"),
)

proposals = Table(
    "proposals",
    metadata,
    Column("step", Integer, ForeignKey("steps.id"), nullable=False),
    Column("entry", Integer, ForeignKey("entries.id"), nullable=False),
    Column("rank", Integer, nullable=False),
    Column("destination", Text, nullable=False),
    Column("confidence", Float, nullable=False),
    Column("reasons", JSON, nullable=False),
    UniqueConstraint("step", "entry", "rank", name="proposals_by_entry"),
)

runs = Table(
    "runs",
    metadata,
    Column("id", Integer, primary_key=True),
    Column("kind", String, nullable=False),  # rehearse or replay
    Column("name", String, nullable=False, default=""),
    Column("started", String, nullable=False),
    Column("finished", String, nullable=False, default=""),
    Column("digest", String, nullable=False, default=""),
    Column("at", String, nullable=False, default=""),
    Column("counts", JSON),
    Column(
        "owner", String, nullable=False, default=""
    ),  # who is at it: machine, process, and a number drawn for this run
    Column("held_until", String, nullable=False, default=""),
    Column("asked", String, nullable=False, default=""),  # a digest of what it is to ask
)

traces = Table(
    "traces",
    metadata,
    Column("run", Integer, ForeignKey("runs.id"), nullable=False),
    Column("number", Integer, nullable=False),
    Column(
        "rows", LargeBinary, nullable=False
    ),  # a block of traced URLs; see ledger.tables.runs.trace_blocks
    UniqueConstraint("run", "number", name="blocks_by_number"),
)

builds = Table(
    "builds",
    metadata,
    Column("id", Integer, primary_key=True),
    Column("time", String, nullable=False),
    Column("dialect", String, nullable=False),
    Column("digest", String, nullable=False),
    Column("folder", Text, nullable=False),
    Column("rules", Integer, nullable=False),
    Column("held_back", Integer, nullable=False),
    Column(
        "step", Integer, nullable=False, default=0, server_default="0"
    ),  # the newest one when it was built
    Column("handed_over", String, nullable=False, default="", server_default=""),
    Column("live_from", String, nullable=False, default=""),
    Column("wave", String, nullable=False, default="", server_default=""),
    # a JSON list of those that are live with it; empty for the whole site
    Column("sections", Text, nullable=False, default="", server_default=""),
)

# Logs that are followed: how much of each was read, whatever it is called meanwhile.
followed = Table(
    "followed",
    metadata,
    Column(
        "head", String, primary_key=True
    ),  # digest of its first line, numbered where several logs begin alike
    Column("place", String, nullable=False),  # device and number of the file that held it last
    Column("name", Text, nullable=False),  # the path of that file
    Column("read", Integer, nullable=False),  # uncompressed bytes, up to the end of a line
    Column("tail", String, nullable=False),  # digest of the last bytes that were read
    Column("source", Integer, nullable=False),  # the newest one by then
    Column("time", String, nullable=False),
)

# What was said of a failing entry last, so that only what changed is said again.
reported = Table(
    "reported",
    metadata,
    Column("entry", Integer, ForeignKey("entries.id"), primary_key=True),
    Column("state", String, nullable=False),
    Column("lost", Float, nullable=False, default=0.0),
)

# Logs and sites that were said to be silent, and were not heard since.
silent = Table("silent", metadata, Column("name", String, primary_key=True))

# Messages, one row a channel; `sent` is empty until it has gone out.
outbox = Table(
    "outbox",
    metadata,
    Column("id", Integer, primary_key=True),
    Column("message", String, nullable=False),  # the same for all channels
    Column("channel", String, nullable=False),
    Column("created", String, nullable=False),
    Column("subject", Text, nullable=False),
    Column("body", Text, nullable=False),
    Column("data", JSON, nullable=False),
    Column("sent", String, nullable=False, default=""),
)
