"""upright decide"""

from __future__ import annotations

from datetime import datetime
from pathlib import Path
from shlex import quote
from typing import TYPE_CHECKING

import click

from upright_ledger.app.decide.decide import Decided, decide_entries, decide_one
from upright_ledger.cli.opening import open_ledger
from upright_ledger.cli.options.reading import pair_options, show_columns
from upright_ledger.cli.options.shared import choice_of, json_option
from upright_ledger.cli.screens.second_looks import show_doubts, show_second_looks
from upright_ledger.cli.terminal import output
from upright_ledger.core.inventory.answer import LINK_MENDED, STATUSES, AnswerKind, Decision, usual
from upright_ledger.core.url.query import QueryPolicy
from upright_ledger.errors import UsageError
from upright_ledger.ledger.clock import today
from upright_ledger.ledger.lines.listing import Filters

if TYPE_CHECKING:
    from upright_ledger.formats.records import ReadOptions

SHOWN = 8


@click.command("decide")
@click.argument("old", required=False)
@click.option(
    "--to",
    "new",
    default="",
    metavar="NEW",
    help="Where it goes: a full address, or a path on the new site.",
)
@click.option(
    "--status",
    type=click.Choice([str(s) for s in STATUSES if s != 410]),
    default="301",
    show_default=True,
    help="With --to.",
)
@click.option("--gone", is_flag=True, help="It has no successor: 410.")
@click.option("--keep", is_flag=True, help="Its address lives on: no rule.")
@click.option("--wanted", is_flag=True, help="A page has to be written first: no rule yet.")
@click.option("--ignore", is_flag=True, help="It is noise: no rule.")
@click.option(
    "--link-mended",
    is_flag=True,
    help="A link of the own site was wrong, and is mended: no rule; said if it fails again.",
)
@click.option(
    "--from",
    "sheet",
    type=click.Path(path_type=Path),
    metavar="FILE",
    help=(
        "A sheet of pairs with the columns old, new, status; with an answer beside it, a list of "
        "old URLs that all get it."
    ),
)
@click.option("--section", metavar="NAME", help="All entries of a section, instead of OLD.")
@click.option(
    "--family", default="", metavar="TEMPLATE", help="All entries of a family, instead of OLD."
)
@click.option(
    "--query",
    type=choice_of(QueryPolicy),
    default=str(QueryPolicy.CARRY_TRACKING),
    show_default=True,
    help="What happens to the query: campaign parameters go on, nothing, or all of it.",
)
@click.option(
    "--over",
    is_flag=True,
    help=(
        "With --section, --family or a list: entries, too, that a person answered one by one; "
        "else these keep that answer."
    ),
)
@click.option(
    "--as-given",
    is_flag=True,
    help="Keep destinations that are no pages in stock; else they are not posted.",
)
@click.option(
    "--until",
    type=click.DateTime(["%Y-%m-%d"]),
    metavar="DAY",
    help="The day (YYYY-MM-DD) on which to look at the answer again: it is named then.",
)
@click.option("--dry-run", is_flag=True, help="With --from: only say what would come of it.")
@click.option("--reason", default="", help="Why, for the journal.")
@pair_options
@json_option
@click.pass_obj
def command(
    folder: Path,
    old: str | None,
    new: str,
    status: str,
    gone: bool,
    keep: bool,
    wanted: bool,
    ignore: bool,
    link_mended: bool,
    sheet: Path | None,
    section: str | None,
    family: str,
    query: str,
    over: bool,
    as_given: bool,
    until: datetime | None,
    dry_run: bool,
    reason: str,
    reading: ReadOptions | None,
    as_json: bool,
) -> None:
    """Answer one entry, or many at once, as one undoable step.

    \b
    upright decide /visit/hours.html --to /visit/opening-hours/
    upright decide --section tickets --gone
    upright decide --family '/printroom/{slug}.htm' --to /shop/posters/
    upright decide '/journal/{year|digits}/{+rest}' --to '/stories/{rest}'
    upright decide --from pairs.csv
    upright decide --from pruned.txt --to /stories/

    With {captures} OLD is a template: it answers every address that fits and has no answer of its
    own. {name} is one segment of a path or a part of it, {name|digits}, {name|word} and
    {name|a,b,c} are narrower, {+rest} is all that follows, and {?item} at the end is the value of a
    parameter. What NEW takes up is made of letters, digits and ._~-; the rest may hold anything.

    A sheet may have commas or semicolons; either side may be a full address or a path alone. Its
    status may be a number, or the word gone, keep, wanted or ignore; empty means 301. Rows whose
    destination is no page in stock are left out and named, with the page that may be meant, and so
    are rows of which match is sure that they mean another page, which --dry-run tells before. A
    sheet may name successors by item numbers alone.
    """
    chosen = sum([bool(new), gone, keep, wanted, ignore, link_mended])
    if link_mended and (not old or "{" in old):
        raise UsageError("--link-mended is of one address", "name it")
    whole = section is not None or bool(family)
    if bool(old) + (sheet is not None) + whole != 1:
        raise UsageError(
            "it is not said what is to be answered",
            "give one of: an old address, --from FILE, or --section and --family",
        )
    if chosen > 1 or (not chosen and sheet is None):
        raise UsageError(
            "one answer is needed", "give one of: --to NEW, --gone, --keep, --wanted, --ignore"
        )
    answer = usual(
        AnswerKind.GONE
        if gone
        else AnswerKind.KEEP
        if keep
        else AnswerKind.WANTED
        if wanted
        else AnswerKind.IGNORE
    )
    if new:
        answer = Decision(STATUSES[int(status)], int(status), new)
    if dry_run and sheet is None:
        raise UsageError("--dry-run is for a sheet", "give --from FILE with it")
    day = _day(until)
    if day and "{" in (old or ""):
        raise UsageError("a template has no day of its own", "leave out --until")
    ledger = open_ledger(folder)
    if sheet is not None:
        from upright_ledger.app.decide.sheets.decide_list import Mode, decide_from, decide_listed

        mode = Mode(over or not chosen, as_given, dry_run, day)
        if chosen:
            encoding = reading.encoding if reading else ""
            result = decide_listed(ledger, sheet, answer, encoding, reason, mode)
        else:
            result = decide_from(ledger, sheet, reading, reason, mode)
        name = sheet.name
    elif whole:
        chosen_ones = Filters(section=section, family=family or None)
        result = decide_entries(
            ledger, chosen_ones, answer, reason, over=over, as_given=as_given, until=day
        )
        name = " ".join(t for t in (section, family) if t)
    elif "{" in (old or ""):
        from upright_ledger.app.decide.decide_template import decide_template

        result, name = decide_template(
            ledger, old or "", answer, QueryPolicy(query), reason, as_given=as_given
        )
    else:
        result, name = decide_one(
            ledger,
            old or "",
            answer,
            QueryPolicy(query),
            reason,
            as_given=as_given,
            until=day,
            where=LINK_MENDED if link_mended else "",
        )
    _show(result, name, dry_run=dry_run, as_json=as_json)
    doubtful = result.refused or result.contested or result.astray or (dry_run and result.doubts)
    raise click.exceptions.Exit(1 if doubtful else 0)


def _day(until: datetime | None) -> str:
    day = f"{until:%Y-%m-%d}" if until is not None else ""
    if day and day <= today():
        raise UsageError(f"{day} is not to come", "give the day on which to look at it again")
    return day


def _show(result: Decided, name: str, *, dry_run: bool, as_json: bool) -> None:
    if as_json:
        output.json_out(
            {
                "posted": result.posted,
                "unchanged": result.unchanged,
                "replaced": result.replaced,
                "contested": result.contested,
                "made": result.made,
                "fitting": result.fitting,
                "left_open": result.open,
                "mended": result.mended,
                "columns": result.mapping,
                "unused_columns": result.unused,
                "notes": result.notes,
                "left": result.left,
                "astray": result.astray,
                **result.looks.as_dict(),
                "doubts": [d._asdict() for d in result.doubts],
                "refused": [
                    {"row": line, "old": text, "reason": why} for line, text, why in result.refused
                ],
            },
        )
        return
    show_columns(name, result.mapping, result.unused, result.notes)
    verb, made = (
        ("would be posted", "would be added") if dry_run else ("posted", "are in the ledger now")
    )
    output.say(f"{name}: {output.plural(result.posted, 'answer')} {verb}.")
    for count, text in (
        (result.unchanged, "stood already"),
        (result.replaced, "took the place of another answer"),
        (result.fitting, "open entries fit this template"),
        (len(result.open), "entries of its part of the site stay open:"),
        (result.made, f"for entries that were never gathered; they {made}"),
        (result.mended, "lacked a leading slash; it was put there"),
        (
            result.contested,
            "contradict an earlier row for the same entry; upright check names them",
        ),
        (len(result.left), "answers given one by one stay; --over changes them, too"),
        (
            result.astray,
            "rows left out: their destination is no page in stock; --as-given keeps it",
        ),
        (len(result.refused), "rows cannot be used"),
    ):
        if count:
            output.say(f"  {count:>7,}  {text}")
    named = result.left or result.open
    for address in named[:SHOWN]:
        output.say(f"           {output.clean(address)}")
    if len(named) > SHOWN:
        output.say(f"           and {len(named) - SHOWN:,} more; --json lists all")
    show_second_looks(result.looks)
    show_doubts(result.doubts)
    for line, text, why in result.refused[:SHOWN]:
        output.say(f"  row {line:,}: {why}" + (f": {text[:100]}" if text else ""), output.DOUBTFUL)
    if len(result.refused) > SHOWN:
        output.say(f"  and {len(result.refused) - SHOWN:,} more; --json lists all")
    if dry_run:
        output.next_step("post them", f"upright decide --from {name}")
    elif result.own:
        page, goal = result.own
        answer = f"--to {quote(goal)}" if goal else "--gone"
        output.next_step(
            "answer the page of that part, too", f"upright decide {quote(page)} {answer}"
        )
    else:
        output.next_step("look for faults", "upright check")
