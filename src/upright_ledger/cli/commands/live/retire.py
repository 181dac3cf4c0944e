"""upright retire"""

from __future__ import annotations

from pathlib import Path

import click

from upright_ledger.app.live.retire import Retiring, retire
from upright_ledger.app.move_state import MoveState
from upright_ledger.cli.opening import open_ledger
from upright_ledger.cli.options.output_files import FILE, force_option
from upright_ledger.cli.options.shared import json_option
from upright_ledger.cli.terminal import output
from upright_ledger.core.inventory.advice import NO_LINK_DATA
from upright_ledger.formats.tables.export import CSV, write_table
from upright_ledger.formats.tables.workbooks import Sheet

SHOWN = 15
COLUMNS = (
    "legacy_url",
    "status",
    "destination",
    "people",
    "bots",
    "last",
    "links",
    "clicks",
    "impressions",
    "live",
    "since",
    "kept",
    "examples",
)


@click.command("retire")
@click.option(
    "--unused-for",
    "days",
    type=click.IntRange(30),
    default=365,
    show_default=True,
    metavar="DAYS",
    help="How long nobody may have asked.",
)
@click.option(
    "--accept", is_flag=True, help="Retire what is proposed, as one step that undo takes back."
)
@click.option(
    "--out", type=FILE, metavar="FILE", help="Keep the use of every rule: .csv, .xlsx or .jsonl."
)
@click.option(
    "--use",
    "by_use",
    is_flag=True,
    help="List how each rule and template is used since it is live.",
)
@click.option("--all", "all_rows", is_flag=True, help="List everything.")
@force_option
@json_option
@click.pass_obj
def command(
    folder: Path,
    days: int,
    accept: bool,
    out: Path | None,
    by_use: bool,
    all_rows: bool,
    as_json: bool,
) -> None:
    """Say which rules nobody uses any more, by the logs that were gathered.

    A rule is proposed only where it is live for as long, no person asked for it in that time,
    nobody links to it, no search engine shows it, and the logs cover the time. What is retired has
    no rule in the next build; the journal keeps what it was.
    """
    result = retire(MoveState(open_ledger(folder)), days, accept=accept)
    if out is not None:
        rows = (
            [*(r.as_dict()[name] for name in COLUMNS[:-1]), " ".join(r.examples)]
            for r in result.rules
        )
        write_table(out, Sheet("rules", COLUMNS, rows, ("legacy_url",)), otherwise=CSV)
    if as_json:
        output.json_out(result.as_dict())
        return
    if by_use:
        _show_use(result, all_rows=all_rows)
    else:
        _show(result, days, all_rows=all_rows)
    if out is not None:
        output.say(f"The use of every rule is in {out}.")
    if result.retired:
        output.next_step("build the rules without them", "upright build --for nginx --out rules/")
    elif result.proposed:
        output.next_step("retire them", f"upright retire --unused-for {days} --accept")
    else:
        output.next_step("see where you are", "upright")


def _show_use(result: Retiring, *, all_rows: bool) -> None:
    rules = result.by_use
    if not rules:
        output.say("No rule is live yet: upright handover FOLDER --live says since when one is.")
        return
    shown = rules if all_rows else rules[:SHOWN]
    output.table(
        ("people>", "last asked|", "live since|", "rule or template, and what was asked for"),
        [
            (
                r.use.since,
                r.use.last or "never",
                r.use.live,
                [
                    r.legacy_url,
                    f"to  {r.destination}" if r.destination else f"{r.status}",
                    *(f"  {url}" for url in r.examples if r.template),
                ],
            )
            for r in shown
        ],
    )
    if len(shown) < len(rules):
        output.say(f"… and {len(rules) - len(shown):,} more; --all lists them")
    unused = sum(1 for r in rules if not r.use.since)
    output.say(
        f"People asked for {len(rules) - unused:,} of {output.plural(len(rules), 'rule')} since "
        "they are live."
    )


def _show(result: Retiring, days: int, *, all_rows: bool) -> None:
    output.say(
        f"{output.plural(len(result.rules), 'rule')}, {result.first} to {result.last}; logs cover "
        f"{100 * result.covered:.0f} % of these {days:,} days."
    )
    output.say()
    rows = [
        ("may be retired", len(result.proposed)),
        *((why, n) for why, n in result.kept.most_common()),
    ]
    output.table(("rules", "number>"), rows)
    if not result.links_known:
        output.say(f"{NO_LINK_DATA[0].upper()}{NO_LINK_DATA[1:]}.", output.DOUBTFUL)
    if result.proposed:
        shown = result.proposed if all_rows else result.proposed[:SHOWN]
        output.say()
        output.table(
            ("last asked|", "by bots>", "live since|", "rule"),
            [
                (
                    r.use.last or "never",
                    r.use.bots,
                    r.use.live,
                    [
                        r.legacy_url,
                        *([f"to  {r.destination}"] if r.destination else []),
                    ],
                )
                for r in shown
            ],
        )
        if len(shown) < len(result.proposed):
            output.say(f"… and {len(result.proposed) - len(shown):,} more; --all lists them")
        bots = sum(r.use.bots for r in result.proposed)
        output.say(
            f"What it would cost: {bots * 30 / days:,.0f} requests by bots in 30 days would be "
            "answered 404, and none by people, as far as the logs tell."
        )
    if result.retired:
        output.say(
            f"{output.plural(result.retired, 'rule')} retired, as one step that `upright undo` "
            "takes back."
        )
