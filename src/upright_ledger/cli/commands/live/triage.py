"""upright triage"""

from __future__ import annotations

import os
import sys
from pathlib import Path

import click

from upright_ledger.app.book import Book
from upright_ledger.app.collect.gather import gather
from upright_ledger.app.decide.entries import Filters
from upright_ledger.app.decide.match import match
from upright_ledger.app.live.triage import Failing, Triaged, triage
from upright_ledger.app.live.triage_export import write_triage
from upright_ledger.app.live.watch import watch
from upright_ledger.app.prove.replay import replay
from upright_ledger.app.prove.tracing import start_tracing
from upright_ledger.cli.opening import open_ledger
from upright_ledger.cli.options.http import LOGIN, POLITE_RATE, read_place
from upright_ledger.cli.options.shared import FILE, force_option, json_option, read_options, reading_options
from upright_ledger.cli.terminal import output
from upright_ledger.core.monitoring.changes import MENDED, body_of
from upright_ledger.core.monitoring.deploy_days import to_the_minute
from upright_ledger.core.monitoring.failure_account import NEW, RECURRING
from upright_ledger.errors import UsageError
from upright_ledger.ledger.store import Ledger
from upright_ledger.web.http.client import RequestOptions, is_local

SHOWN = 12


@click.command("triage")
@click.argument("paths", nargs=-1)
@reading_options
@click.option(
    "--parameter", default="", metavar="NAME", help="In lists of errors: the parameter that holds the failing address."
)
@click.option(
    "--new",
    "only_new",
    is_flag=True,
    help="For cron: read what is new in growing and rotated logs, and say only what changed.",
)
@click.option(
    "--message",
    type=FILE,
    metavar="FILE.json",
    help="With --new: write what changed there, too.",
)
@click.option(
    "--replay", "sample", type=click.IntRange(0), default=None, metavar="NUMBER",
    help="With --new: ask for so many entries whose answer is live, too; 0 for all.",
)  # fmt: skip
@click.option("--at", default="", metavar="URL", help="With --replay: ask there in place of the hosts themselves.")
@click.option("--review", is_flag=True, help="Afterwards go through the failing entries that are open, one by one.")
@click.option(
    "--out",
    type=FILE,
    metavar="FILE",
    help="Keep one row a failing entry, as .csv or .xlsx.",
)
@click.option(
    "--figures",
    type=click.Path(path_type=Path, file_okay=False),
    metavar="DIR",
    help="Draw what failed day by day, as PNG and SVG.",
)
@click.option("--all", "all_rows", is_flag=True, help="List everything.")
@force_option
@json_option
@click.pass_obj
def command(
    folder: Path,
    paths: tuple[str, ...],
    kind: str,
    columns: tuple[str, ...],
    encoding: str,
    host: str,
    parameter: str,
    only_new: bool,
    message: Path | None,
    sample: int | None,
    at: str,
    review: bool,
    out: Path | None,
    figures: Path | None,
    all_rows: bool,
    as_json: bool,
) -> None:
    """Say what fails now, grouped and attributed, and what became of what was answered.

    \b
    upright triage access.log access.log.1.gz
    upright triage not-found.csv --parameter page
    upright triage --new /var/log/nginx/access.log

    Logs are gathered first, each line once; tables are taken as lists of addresses that fail. Without files it looks at all that was gathered.
    Requests of before the time at which an answer went live (upright handover --live) do not count against it. Exit code 1 when something fails that is
    not answered, or fails again.
    """
    ledger = open_ledger(folder)
    if (message is not None or sample is not None) and not only_new:
        raise UsageError("--message and --replay go with --new", "--out keeps every failing entry")
    if only_new:
        _watch(ledger, paths, host, message, sample, at, as_json=as_json)
        return
    if paths:
        with output.progress_words("reading") as progress:
            gather(
                ledger, list(paths), kind=kind, options=read_options(columns, encoding), host=host, progress=progress,
                failing=True, parameter=parameter,
            )  # fmt: skip
    book = Book(ledger)
    result = triage(book)
    if paths and book.stock and any(r.account.state == NEW and r.proposal is None for r in result.rows):
        match(ledger, threshold=1.01, answering=False)
        result = triage(Book(ledger))
    if out is not None:
        write_triage(result, out)
    if figures is not None:
        from upright_ledger.app.live.charts import draw

        draw(result, figures)
    if as_json:
        output.json_out(result.as_dict())
    else:
        _show(result, [o for site in book.sites.old for o in site.origins], all_rows=all_rows)
        if out is not None:
            output.say(f"Every failing entry is in {out}.")
        if figures is not None:
            output.say(f"The figures are in {figures}.")
        _next(result)
    if review:
        _review(folder, frozenset(r.entry.id for r in result.rows if r.account.state == NEW))
    raise click.exceptions.Exit(1 if result.faults else 0)


def _watch(
    ledger: Ledger,
    paths: tuple[str, ...],
    host: str,
    message: Path | None,
    sample: int | None,
    at: str,
    *,
    as_json: bool,
) -> None:
    """One look for cron: quiet where nothing changed."""
    if not paths:
        raise UsageError("--new needs the logs to follow", "such as upright triage --new /var/log/nginx/access.log")
    if sample is None:
        found = watch(ledger, paths, host=host, file=message)
    else:
        place = read_place(at) if at else None
        manner = RequestOptions(
            rate=0.0 if place is not None and is_local(place.host) else POLITE_RATE,
            netrc=True,
            user=os.environ.get(LOGIN, ""),
        )
        with start_tracing(manner) as tracing:
            found = watch(
                ledger, paths, host=host, file=message, sample=sample,
                ask=lambda book, wanted: replay(book, wanted, place, manner, tracing),
            )  # fmt: skip
    if as_json:
        output.json_out(found.as_dict())
    elif not found.is_quiet:
        for line in (
            body_of(
                found.news, f"{sum(n.bytes for n in found.read):,} new bytes in {len(found.read):,} logs."
            ).splitlines()
            if found.news
            else ()
        ):
            output.say(line)
        if found.sent:
            output.say(f"Sent: {', '.join(found.sent)}.")
    for log in found.read:
        if log.lost:
            click.echo(f"upright: {log.name}: {log.lost}.", err=True)
    for error in found.failed:
        output.error_sentence(error)
    failing = any(n.kind != MENDED for n in found.news)
    raise click.exceptions.Exit(3 if found.failed else 1 if failing else 0)


def _review(folder: Path, waiting: frozenset[int]) -> None:
    from upright_ledger.app.decide.review_queue import Queue
    from upright_ledger.cli.screens.review import Screen

    if not (sys.stdin.isatty() and sys.stdout.isatty()):
        raise UsageError("--review needs a terminal", "upright review --out sheet.xlsx writes a sheet instead")
    queue = Queue(open_ledger(folder), Filters(numbers=waiting))
    if queue.waiting:
        Screen(queue).run()
    output.say(f"{output.plural(queue.answered, 'entry was', 'entries were')} answered.")


def _show(result: Triaged, known: list[str], *, all_rows: bool) -> None:
    _show_summary(result)
    if not result.rows:
        output.say("Nothing fails in what was gathered.")
    if result.states:
        output.say()
        output.table(
            ("state", "entries>", "lost requests>", "what it means"),
            [
                (state, n, sum(r.account.lost for r in result.rows if r.account.state == state), _MEANS[state])
                for state, n in result.states.items()
            ],
            [output.GRAVE if s == RECURRING else output.DOUBTFUL if s == NEW else "" for s in result.states],
        )
    _show_again([r for r in result.rows if r.account.state == RECURRING], known, all_rows=all_rows)
    if result.decisions:
        _show_decisions(result, known, all_rows=all_rows)
    if result.origins:
        output.say()
        output.table(
            ("they come from", "requests>", "entries>"),
            [(origin, requests, entries) for origin, requests, entries in result.origins],
        )
    if result.own_pages:
        pages = result.own_pages if all_rows else result.own_pages[:5]
        output.say()
        output.table(
            ("requests>", "link to mend"),
            [(n, [f"on  {output.path(page, known)}", f"to  {output.path(url, known)}"]) for page, url, n in pages],
        )
        _more(len(result.own_pages), len(pages))
    if result.noise:
        output.say()
        output.table(
            ("set aside as noise", "addresses>", "by people>", "by bots>", "why"),
            [(kind, n, people, bots, _WHY.get(kind, "")) for kind, n, people, bots in result.noise],
        )
        output.say("upright entries --aside CLASS lists a class; upright fold --take-back CLASS makes entries of it.")


def _show_again(again: list[Failing], known: list[str], *, all_rows: bool) -> None:
    """What fails after its fix, cause by cause."""
    causes: dict[str, list[Failing]] = {}
    for row in again:
        causes.setdefault(row.why, []).append(row)
    if not causes:
        return
    output.say()
    rows = sorted(causes.items(), key=lambda item: -sum(r.account.since for r in item[1]))
    output.table(
        ("fails again>", "entries>", "the likely reason, and where"),
        [
            (
                sum(r.account.since for r in found),
                len(found),
                [why, *(f"  {output.path(r.entry.legacy_url, known)}" for r in (found if all_rows else found[:3]))],
            )
            for why, found in rows
        ],
    )


_MEANS = {
    RECURRING: "fails although a live build has its answer",
    NEW: "nobody has answered it",
    "answered": "has an answer that is not live yet",
    "deployed": "its answer is live, and nobody asked since",
    "proven": "asked since it went live, and answered rightly",
}
_WHY = {
    "probe": "scanners ask for it on every site",
    "random": "letters drawn by chance, as scanners try them",
    "bots only": "asked for by declared bots alone",
    "page asset": "images that pages show, and what browsers ask for by themselves",
    "furniture": "style sheets, scripts, fonts and icons",
    "off-site": "a host that is no old site of this ledger",
    "unanswerable": "no rule can answer it safely",
}


def _show_summary(result: Triaged) -> None:
    if not result.days:
        return
    whole = sum(n for classes in result.days.values() for n in classes.values())
    failed = sum(classes.get("404", 0.0) + classes.get("410", 0.0) for classes in result.days.values())
    broken = sum(classes.get("5xx", 0.0) for classes in result.days.values())
    days = list(result.days)
    share = 100 * failed / whole if whole else 0.0
    output.say(
        f"{days[0]} to {days[-1]}: {whole:,.0f} requests by people, {failed:,.0f} of them not found ({share:.1f} %), {broken:,.0f} server errors."
    )
    if result.strays:
        count = sum(result.strays.values())
        output.say(
            f"Left out of these days, as a wrong clock wrote them: {count:,.0f} requests dated {', '.join(list(result.strays)[:3])}."
        )
    trend = _trend(result)
    if trend:
        output.say(trend)
    if result.live:
        output.say(
            "Live: " + ", ".join(f"{server} since {to_the_minute(time)}" for time, server in result.live[-3:]) + "."
        )


def _trend(result: Triaged) -> str:
    """The share of the last seven days beside that of the seven before."""
    days = list(result.days.items())
    if len(days) < 14:
        return ""
    shares = []
    for part in (days[-14:-7], days[-7:]):
        whole = sum(sum(classes.values()) for _, classes in part)
        shares.append(100 * sum(c.get("404", 0.0) for _, c in part) / whole if whole else 0.0)
    return f"Last seven days {shares[1]:.1f} %, the seven before {shares[0]:.1f} %."


def _show_decisions(result: Triaged, known: list[str], *, all_rows: bool) -> None:
    output.say()
    if result.enough:
        output.say(
            f"These {result.enough:,} answers cover 90 % of what is lost:"
            if result.enough > 1
            else "This answer covers 90 % of what is lost:"
        )
    rows = result.decisions if all_rows else result.decisions[: min(SHOWN, max(result.enough, 3))]
    output.table(
        ("lost>", "value>", "entries>", "to decide, and what is proposed"),
        [
            (
                d.lost,
                d.value,
                len(d.entries),
                [
                    output.path(d.name, known),
                    *([f"to  {d.proposal}  ({d.reason or 'proposed'}, {d.confidence:.2f})"] if d.proposal else []),
                ],
            )
            for d in rows
        ],
    )
    _more(len(result.decisions), len(rows))


def _more(whole: int, shown: int) -> None:
    if shown < whole:
        output.say(f"… and {whole - shown:,} more; --all lists them")


def _next(result: Triaged) -> None:
    if any(r.account.state == NEW and r.account.lost for r in result.rows):
        output.next_step("answer what is lost", "upright triage --review, or upright decide OLD --to NEW")
    elif any(r.account.state == "answered" for r in result.rows):
        output.next_step("build the rules again, and see what changed", "upright build --for nginx --out rules/")
    elif _unmarked(result.rows):
        output.next_step("say which build is live, so that later failures count", "upright handover --live")
    else:
        output.next_step("see where you are", "upright")


def _unmarked(rows: list[Failing]) -> bool:
    return any(r.fix.answered and not r.fix.live for r in rows)
