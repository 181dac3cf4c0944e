"""upright entries"""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import click

from upright_ledger.app.decide import entries as task
from upright_ledger.cli.opening import open_ledger
from upright_ledger.cli.options.output_files import FILE, force_option
from upright_ledger.cli.options.shared import choice_of, json_option
from upright_ledger.cli.terminal import output
from upright_ledger.core.inventory.answer import ANSWERS
from upright_ledger.core.inventory.units import PER_PERIOD
from upright_ledger.ledger.lines.listing import SORTS, Filters
from upright_ledger.ledger.store import Ledger
from upright_ledger.ledger.tables.answers import BY
from upright_ledger.ledger.tables.one_entry import EvidenceRow

SHOWN = 20
SHOWN_PROPOSALS = 3
SHOWN_SPELLINGS = 12


@click.command("entries")
@click.argument("pattern", default="")
@click.option("--site", default="", help="Of one old site.")
@click.option("--section", default=None, help="Of one section; '' for those outside any.")
@click.option("--family", default="", help="Of one family, by its template.")
@click.option(
    "--source", default="", metavar="NAME", help="Named by a source; * stands for anything."
)
@click.option("--answer", default="", type=choice_of(["", *ANSWERS]), help="With this answer.")
@click.option(
    "--by",
    default="",
    type=choice_of(["", *BY]),
    help="Answered by match, a person, an import, ...",
)
@click.option(
    "--below",
    type=click.FloatRange(0, 1),
    help="Answered with less confidence than this, such as 0.97.",
)
@click.option(
    "--status",
    default="",
    metavar="CLASS",
    help="That logs saw answered so: 2xx, 3xx, 404, 410, 5xx.",
)
@click.option(
    "--sort",
    default="value",
    type=click.Choice(SORTS),
    show_default=True,
    help="The largest first.",
)
@click.option("--limit", default=SHOWN, show_default=True, help="How many to show; 0 for all.")
@click.option("--families", is_flag=True, help="Families with their counts instead.")
@click.option("--sections", is_flag=True, help="Sections with their counts instead.")
@click.option(
    "--aside",
    default=None,
    metavar="CLASS",
    help="What was set aside, of a class; 'all' for the classes.",
)
@click.option(
    "--weak",
    is_flag=True,
    help="Open and kept entries that nobody needs, with the strongest page of their subject; --csv "
    "writes them for upright decide --from.",
)
@click.option("--csv", "csv_file", type=FILE, help="Write all that fit as CSV.")
@force_option
@json_option
@click.pass_obj
def command(
    folder: Path,
    pattern: str,
    site: str,
    section: str | None,
    family: str,
    source: str,
    answer: str,
    by: str,
    below: float | None,
    status: str,
    sort: str,
    limit: int,
    families: bool,
    sections: bool,
    aside: str | None,
    weak: bool,
    csv_file: Path | None,
    as_json: bool,
) -> None:
    """List entries with their evidence, and where each came from.

    PATTERN is a part of the address, or holds * for anything; a full address or a path shows that
    one entry in full: its spellings, and what each source says of it. Hits are requests by people;
    value is visits per 30 days (docs/value.md).
    """
    ledger = open_ledger(folder)
    if aside is not None:
        _aside(ledger, "" if aside == "all" else aside, limit, as_json=as_json)
        return
    if weak:
        _weak(ledger, csv_file, limit, as_json=as_json)
        return
    if pattern.startswith(("/", "http://", "https://")) and "*" not in pattern:
        _details(task.look_up(ledger, pattern), as_json=as_json)
        return
    filters = Filters(
        pattern, site, section, family or None, source, answer, status, by=by, below=below
    )
    if families or sections:
        _groups(ledger, filters, "family" if families else "section", limit, as_json=as_json)
        return
    wanted = None if csv_file is not None else limit or None
    listing = task.list_entries(ledger, filters, sort, wanted)
    if csv_file is not None:
        task.write_entries(csv_file, listing.lines)
        listing.lines = listing.lines[: limit or None]
    if as_json:
        output.json_out(
            {
                "entries": [x.as_dict() for x in listing.lines],
                "matching": listing.matching,
                "total": listing.total,
            }
        )
        return
    _list(ledger, listing, sort)
    if csv_file is not None:
        output.say(f"{output.plural(listing.matching, 'entry', 'entries')} written to {csv_file}")


_BESIDE = 56
"""Columns of the terminal that the address, the day and the answer take beside the figures."""

# In the order in which they give way on a narrow terminal, the last first.
_FIGURES: tuple[tuple[str, Callable[[task.EntryLine], float]], ...] = (
    ("value>", lambda x: round(x.entry.evidence.value)),
    ("hits>", lambda x: x.entry.evidence.hits),
    ("bots>", lambda x: x.entry.evidence.bot_requests),
    ("links>", lambda x: x.entry.evidence.links),
    ("sources>", lambda x: len(x.sources)),
    ("visits>", lambda x: x.entry.evidence.visits),
    ("clicks>", lambda x: x.entry.evidence.clicks),
    ("shown>", lambda x: x.entry.evidence.impressions),
    ("variants>", lambda x: len(x.entry.variants)),
)


def _list(ledger: Ledger, listing: task.Listing, sort: str) -> None:
    lines = listing.lines
    if not lines:
        output.say(f"None of the {listing.total:,} entries fits.")
        return
    origins, new = ledger.settings.sites.old[0].origins[:1], ledger.settings.sites.new[:1]
    told = output.that_fit(
        [(name, figure) for name, figure in _FIGURES if any(figure(x) for x in lines)], _BESIDE
    )
    columns = ("entry", *(name for name, _ in told), "last seen|", "answer|")
    output.table(
        columns,
        [
            (
                [
                    output.path(x.entry.legacy_url, origins),
                    *(
                        [f"  to {output.path(goal, new)}"]
                        if (goal := x.entry.answer.destination)
                        else []
                    ),
                ],
                *(figure(x) for _, figure in told),
                x.entry.last_seen,
                x.entry.answer.kind,
            )
            for x in lines
        ],
    )
    output.say()
    output.say(
        f"{len(lines):,} of {output.plural(listing.matching, 'entry', 'entries')} that fit, by "
        f"{sort};"
        f" the ledger holds {listing.total:,}."
    )
    output.next_step(
        "see one in full, with all its sources",
        f"upright entries {output.path(lines[0].entry.legacy_url, origins)}",
    )


def _groups(ledger: Ledger, filters: Filters, what: str, limit: int, *, as_json: bool) -> None:
    groups, whole = task.list_groups(ledger, filters, what, None if as_json else limit or None)
    if as_json:
        keys = ("name", "site", "entries", "hits", "value", "examples")
        output.json_out({"groups": [{k: getattr(g, k) for k in keys} for g in groups]})
        return
    origins = ledger.settings.sites.old[0].origins[:1]
    output.table(
        ("template or section", "entries>", "hits>", "value>", "such as"),
        [
            (
                g.name or "(none)",
                g.entries,
                g.hits,
                round(g.value),
                [output.path(e, origins) for e in g.examples[:2]],
            )
            for g in groups
        ],
    )
    if len(groups) < whole:
        output.say(f"… and {whole - len(groups):,} more (--limit 0 shows all)")


def _details(found: task.Details, *, as_json: bool) -> None:
    if as_json:
        output.json_out(
            found.line.as_dict()
            | {
                "spellings": found.spellings,
                "titles": list(found.line.entry.titles),
                "evidence": [row._asdict() for row in found.evidence],
                "referrers": [{"address": a, "amount": n} for a, n in found.referrers],
                "until": found.until,
                "proposals": [
                    {
                        "destination": p.destination,
                        "confidence": p.confidence,
                        "reasons": list(p.reasons),
                    }
                    for p in found.proposals
                ],
            }
        )
        return
    e = found.line.entry
    output.say(e.legacy_url)
    for title in e.titles[:3]:
        output.say(f"  title: {title}")
    answer = f"{e.answer.kind}" + (
        f" {e.answer.status} to {e.answer.destination}" if e.answer.destination else ""
    )
    by = f"{e.by}{f' ({e.author})' if e.author else ''}"
    how = "" if e.confidence is None else f", confidence {e.confidence:.3f}"
    if e.by:
        answer += f", by {by}{how}"
    output.say(f"  answer: {answer}; value {output.number(e.evidence.value)} visits per 30 days")
    if e.reasons:
        output.say(f"  because: {e.reasons}")
    if e.runner_up:
        output.say(f"  next best: {e.runner_up}")
    if found.until:
        output.say(f"  to be looked at again on {found.until}")
    for p in found.proposals[:SHOWN_PROPOSALS]:
        if p.destination != e.runner_up:
            sure = "for want of a better one" if p.is_fallback else f"confidence {p.confidence:.3f}"
            output.say(f"  proposed: {p.destination}, {sure}: {'; '.join(p.reasons)}")
    if found.line.family:
        output.say(f"  family: {found.line.family}")
    if found.line.section:
        output.say(f"  section: {found.line.section}")
    output.say()
    output.table(
        ("source", "says", "amount>", "per 30 days>", "first|", "last|"),
        [(s.source, _what(s), s.amount, _rate(s), s.first_day, s.last_day) for s in found.evidence],
    )
    output.say()
    output.table(("spellings", ""), [(s, "") for s in found.spellings[:SHOWN_SPELLINGS]])
    if len(found.spellings) > SHOWN_SPELLINGS:
        output.say(f"… and {len(found.spellings) - SHOWN_SPELLINGS:,} more (--json shows all)")
    named = [(a or "(others)", n) for a, n in found.referrers[:8]]
    if named:
        output.say()
        output.table(("linked from or led by", "times>"), named)


def _what(said: EvidenceRow) -> str:
    """The unit of a figure, who asked, and how the site answered: "hits by people, 404"."""
    text = f"{said.unit} by {said.agent}" if said.agent else said.unit
    return f"{text}, {said.status_class}" if said.status_class else text


def _rate(said: EvidenceRow) -> object:
    """A figure per 30 days; a stock, such as links, has none."""
    return said.per_30_days if said.unit in PER_PERIOD else ""


def _aside(ledger: Ledger, kind: str, limit: int, *, as_json: bool) -> None:
    urls = task.set_aside(ledger, kind)
    if as_json:
        rows = [
            {
                "class": u.aside,
                "url": u.spelling,
                "hits": u.hits,
                "bots": u.bots,
                "listed": u.listed,
            }
            for u in urls
        ]
        output.json_out({"set_aside": rows})
        return
    if not kind:
        by_class: dict[str, list[float]] = {}
        for u in urls:
            figures = by_class.setdefault(u.aside, [0, 0.0, 0.0, 0.0])
            for at, n in enumerate((1, u.hits, u.bots, u.listed)):
                figures[at] += n
        output.table(
            ("class", "addresses>", "hits>", "bots>", "listed>"),
            [(k, *v) for k, v in sorted(by_class.items())],
        )
        output.next_step("look at the addresses of one class", "upright entries --aside furniture")
        return
    rows_shown = [(u.spelling, u.hits, u.bots, u.listed) for u in urls[: limit or None]]
    output.table(("set aside", "hits>", "bots>", "listed>"), rows_shown)
    output.say()
    output.say(
        f"{len(rows_shown):,} of {output.plural(len(urls), 'address', 'addresses')} of the class "
        f"{kind}."
    )
    output.next_step(
        "make entries of them, or of a path such as '/downloads/*'",
        f"upright fold --take-back '{kind}'",
    )


def _weak(ledger: Ledger, csv_file: Path | None, limit: int, *, as_json: bool) -> None:
    """Pages that nobody needs. Matching is loaded for them alone: the other questions do without
    it, and it takes longer than they do.
    """
    from upright_ledger.app.decide.weak_entries import weak_entries
    from upright_ledger.app.move_state import MoveState
    from upright_ledger.cli.screens.weak_entries import show_weak

    show_weak(weak_entries(MoveState(ledger)), ledger, csv_file, limit, as_json=as_json)
