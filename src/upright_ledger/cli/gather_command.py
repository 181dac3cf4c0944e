"""upright gather"""

from __future__ import annotations

import re
from collections import Counter
from pathlib import Path

import click

from upright_ledger.app.gather import SHOWN_REJECTS, Gathered, gather
from upright_ledger.cli import show
from upright_ledger.cli.common import json_option, paths_argument, read_options, reading_options
from upright_ledger.errors import UsageError
from upright_ledger.ledger.store import open_ledger


@click.command("gather")
@paths_argument
@reading_options
@click.option(
    "--period", default="", metavar="FROM..TO", help="The days an export covers, as in 2026-01-01..2026-03-31."
)
@json_option
@click.pass_obj
def command(
    folder: Path,
    paths: tuple[Path, ...],
    kind: str,
    columns: tuple[str, ...],
    encoding: str,
    host: str,
    period: str,
    as_json: bool,
) -> None:
    """Gather old URLs from files of any kind into the ledger.

    Text lists, CSV exports, sitemaps and access logs are recognised by their content. Each file becomes a
    source; spellings of one page are folded into one entry and keep their evidence. Gathering the same file
    again changes nothing.
    """
    options = read_options(columns, encoding)
    results, entries = gather(
        open_ledger(folder), list(paths), kind=kind, options=options, host=host, period=_period(period)
    )
    if as_json:
        show.json_out({"sources": [_as_dict(r) for r in results], "entries": entries})
        return
    show.table(
        ("source", "kind", "lines>", "accepted>", "set aside>", "rejected>", "new entries>"),
        [
            (
                r.name,
                "known, no change" if r.known else r.kind,
                r.lines,
                r.accepted,
                r.set_aside,
                r.rejected,
                r.new_entries,
            )
            for r in results
        ],
    )
    show.say()
    for result in results:
        _details(result)
    show.say()
    show.say(f"The ledger holds {show.plural(entries, 'entry', 'entries')}.")
    show.next_step("take stock of the new pages, or gather more", "upright stock new-pages.csv")


def _details(result: Gathered) -> None:
    if result.known:
        show.say(f"{result.name} was gathered before; nothing changed.")
        return
    if result.aside:
        show.say(f"{result.name}: set aside {_counts(result.aside)}")
    if result.mended:
        show.say(f"{result.name}: folded {_counts(result.mended)}")
    for reject in result.rejects[:SHOWN_REJECTS]:
        show.say(f"{result.name} line {reject.line:,}: {reject.reason}: {reject.text[:100]}", show.DOUBTFUL)
    if len(result.rejects) > SHOWN_REJECTS:
        show.say(f"{result.name}: {len(result.rejects) - SHOWN_REJECTS:,} more rejected lines")
    if result.rejects_file:
        show.say(f"{result.name}: all rejected lines are in {result.rejects_file}")


def _counts(counts: Counter[str]) -> str:
    return ", ".join(f"{n:,} {kind}" for kind, n in sorted(counts.items(), key=lambda item: (-item[1], item[0])))


def _as_dict(result: Gathered) -> dict[str, object]:
    return {
        "name": result.name,
        "kind": result.kind,
        "lines": result.lines,
        "accepted": result.accepted,
        "set_aside": result.set_aside,
        "rejected": result.rejected,
        "new_entries": result.new_entries,
        "known": result.known,
        "set_aside_by_class": dict(result.aside),
        "folded": dict(result.mended),
        "rejects_file": result.rejects_file,
        "rejects": [{"line": r.line, "reason": r.reason, "text": r.text[:200]} for r in result.rejects[:SHOWN_REJECTS]],
    }


def _period(text: str) -> tuple[str, str]:
    if not text:
        return "", ""
    match = re.fullmatch(r"(\d{4}-\d{2}-\d{2})\.\.(\d{4}-\d{2}-\d{2})", text)
    if match is None or match[1] > match[2]:
        raise UsageError(f"--period {text} is no period", "write it as in 2026-01-01..2026-03-31")
    return match[1], match[2]
