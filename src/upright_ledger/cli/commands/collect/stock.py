"""upright stock"""

from __future__ import annotations

from pathlib import Path
from typing import Any

import click

from upright_ledger.app.collect.stock import stock
from upright_ledger.cli.opening import open_ledger
from upright_ledger.cli.options.reading import (
    column_option,
    encoding_option,
    read_options,
    sheet_option,
    show_columns,
)
from upright_ledger.cli.options.shared import files_argument, json_option
from upright_ledger.cli.terminal import output
from upright_ledger.errors import UsageError


@click.command("stock")
@files_argument
@column_option
@sheet_option
@click.option(
    "--publish-as",
    default="",
    metavar="URL",
    help="The production origin of pages listed under a staging host.",
)
@click.option(
    "--planned",
    is_flag=True,
    help="The pages are still to be published; stock them again when they are.",
)
@click.option(
    "--going",
    is_flag=True,
    help="The pages are still there and will be taken down: answers may lead away from them, and "
    "none to them.",
)
@click.option(
    "--in-place-of",
    default="",
    metavar="LIST",
    help="Let an earlier list count no longer, and propose what was renamed.",
)
@encoding_option
@json_option
@click.pass_obj
def command(
    folder: Path,
    paths: tuple[Path, ...],
    columns: tuple[str, ...],
    workbook_sheet: str,
    publish_as: str,
    planned: bool,
    going: bool,
    in_place_of: str,
    encoding: str,
    as_json: bool,
) -> None:
    """Take stock of the new site's pages: address, status and title, from CSV files, URL lists and
    sitemaps.

    What a later file says of a page overrules what an earlier one said. --in-place-of old-pages.csv
    takes a list that was stocked under that name out, and compares both: a page that has another
    address now, known by its item number, text or title, becomes a proposal for its old address,
    and one that vanished an open entry. Exit code 1 while one of these has no answer.
    """
    options: dict[str, Any] = {
        "options": read_options(columns, encoding, workbook_sheet),
        "publish_as": publish_as,
        "planned": planned,
        "going": going,
    }
    if planned and going:
        raise UsageError("--planned and --going contradict each other", "give one of them")
    ledger, again = open_ledger(folder), None
    if in_place_of:
        if len(paths) > 1:
            raise UsageError("--in-place-of goes with one list", "stock the others by themselves")
        from upright_ledger.app.collect.restock import restock

        again = restock(ledger, paths[0], in_place_of, **options)
        results, pages = [again.stocked], again.pages
    else:
        results, pages = stock(ledger, list(paths), **options)
    waiting = again is not None and bool(again.proposed.open)
    code = 1 if waiting or any(r.clashes for r in results) else 0
    if as_json:
        told = again.as_dict() if again else {}
        output.json_out(
            told
            | {
                "sources": [
                    {
                        "name": r.name,
                        "kind": r.kind,
                        "lines": r.lines,
                        "accepted": r.accepted,
                        "set_aside": r.off_site,
                        "rejected": len(r.rejects),
                        "known": r.known,
                        "sums": r.sums,
                        "missing": r.missing,
                        "off_site_hosts": dict(r.hosts.most_common(10)),
                        "columns": r.mapping,
                        "notes": r.notes,
                        "clashes": [c._asdict() for c in r.clashes],
                    }
                    for r in results
                ],
                "pages": pages,
            },
        )
        raise click.exceptions.Exit(code)
    for result in results:
        if result.off_site * 2 > result.lines:
            named = ", ".join(f"{host} ({n:,})" for host, n in result.hosts.most_common(3))
            output.say(
                f"{result.name}: {result.off_site:,} of {result.lines:,} rows are on no new "
                f"origin: {named}.",
                output.GRAVE,
            )
            output.say("  old pages are for upright gather; of a staging host, say --publish-as.")
    output.table(
        ("source", "kind", "lines>", "accepted>", "off site>", "rejected>"),
        [
            (
                r.name,
                "known, no change" if r.known else r.kind,
                r.lines,
                r.accepted,
                r.off_site,
                len(r.rejects),
            )
            for r in results
        ],
    )
    for result in results:
        show_columns(result.name, result.mapping, (), result.notes)
        if result.sums:
            output.say(
                f"{result.name}: {output.plural(result.sums, 'row')} of totals or without an "
                "address left out"
            )
        if result.missing:
            named = ", ".join(map(output.clean, result.missing[:3]))
            output.say(
                f"{result.name}: {output.plural(len(result.missing), 'row')} left out whose title "
                f"says that there is no page: {named}{', …' if len(result.missing) > 3 else ''}",
                output.DOUBTFUL,
            )
        for clash in result.clashes[:8]:
            output.say(
                f"{result.name}: {clash.url} {clash.why}: {clash.first}, and {clash.second}",
                output.GRAVE,
            )
        if len(result.clashes) > 8:
            output.say(
                f"{result.name}: {len(result.clashes) - 8:,} more such addresses; --json lists all"
            )
        for reject in result.rejects[:5]:
            output.say(
                f"{result.name} line {reject.line:,}: {reject.reason}: {reject.text[:100]}",
                output.DOUBTFUL,
            )
    output.say(f"The stock holds {output.plural(pages, 'page')}.")
    if again is not None:
        from upright_ledger.cli.screens.renamed import show_renamed

        show_renamed(again.renamed, again.proposed, open_ledger(folder).settings.sites.new)
    if waiting:
        output.next_step("answer what vanished or was renamed", "upright review")
    else:
        output.next_step("propose destinations", "upright match")
    raise click.exceptions.Exit(code)
