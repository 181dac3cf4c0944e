"""upright survey"""

from __future__ import annotations

from dataclasses import fields
from pathlib import Path
from typing import Any, NamedTuple

import click
from click.core import ParameterSource

from upright_ledger.app.collect.moved_pages import propose_renamings
from upright_ledger.app.collect.surveys.audit import FAMILY, SECTION, audited
from upright_ledger.app.collect.surveys.crawling import Surveying, start_surveying
from upright_ledger.app.collect.surveys.link_watch import LinkWatch
from upright_ledger.app.collect.surveys.rewrite_links import MendedContent
from upright_ledger.app.collect.surveys.survey import Surveyed, survey
from upright_ledger.app.collect.surveys.survey_request import NEW, OLD, SurveyRequest, with_settings
from upright_ledger.app.messages import as_data, deliver
from upright_ledger.cli.opening import open_ledger
from upright_ledger.cli.options.http import ASKING_OPTIONS, manner_of, say_who_gets_the_login
from upright_ledger.cli.options.output_files import FILE, force_option
from upright_ledger.cli.options.shared import bundle, json_option
from upright_ledger.cli.options.survey_files import SurveyFiles, file_options
from upright_ledger.cli.screens.messages import say_failed, say_news, say_sent
from upright_ledger.cli.screens.renamed import show_renamed
from upright_ledger.cli.screens.survey import show_mended, show_rows, show_survey
from upright_ledger.cli.terminal import output
from upright_ledger.core.crawl.observation import CrawlOutcome
from upright_ledger.core.monitoring.changes import NewsKind
from upright_ledger.core.severity import Severity
from upright_ledger.errors import UsageError
from upright_ledger.ledger.store import Ledger


class Asked(NamedTuple):
    """The options of a crawl, and the names of those that were given."""

    values: dict[str, Any]
    given: frozenset[str]


def _asked(**values: Any) -> Asked:
    source = click.get_current_context().get_parameter_source
    told = {n for n in values if source(n) not in {ParameterSource.DEFAULT, None}}
    return Asked(values, frozenset(told))


_crawl_options = bundle(
    "crawl",
    _asked,
    click.option(
        "--as",
        "side",
        type=click.Choice(["old", "new"]),
        default=None,
        help="Feed what is found to gather (old) or stock (new).",
    ),
    click.option(
        "--publish-as",
        default="",
        metavar="ORIGIN",
        help="The starts are of a staging server; here the site is, or will be, public.",
    ),
    click.option(
        "--entries",
        "from_ledger",
        is_flag=True,
        help="Ask for what the ledger knows of that side, too.",
    ),
    click.option(
        "--own-site", is_flag=True, help="Go everywhere: robots.txt and nofollow are no bounds."
    ),
    click.option(
        "--external", is_flag=True, help="Ask for the status of links to other sites, too."
    ),
    click.option(
        "--host", "hosts", multiple=True, metavar="HOST", help="Another host that may be asked."
    ),
    click.option(
        "--sitemap",
        "sitemaps",
        multiple=True,
        metavar="URL",
        help="A sitemap besides those in the usual places.",
    ),
    click.option("--within", multiple=True, metavar="PATTERN", help="Only paths like /journal/*."),
    click.option("--without", multiple=True, metavar="PATTERN", help="No paths like /search*."),
    click.option(
        "--ignore", multiple=True, metavar="NAME", help="A parameter that makes no other page."
    ),
    click.option(
        "--depth", type=click.IntRange(0), default=None, help="Links from a start.  [default: 100]"
    ),
    click.option(
        "--most",
        type=click.IntRange(1),
        default=None,
        help="Addresses at most.  [default: 500,000]",
    ),
    *ASKING_OPTIONS,
    click.option("--name", default="", metavar="NAME", help="Call this survey so, for comparing."),
    click.option(
        "--resume", is_flag=True, help="Go on with the last survey there, which was stopped."
    ),
    click.option(
        "--failing",
        default="",
        metavar="RUN",
        help="Ask again only what tells whether its links were mended: where they lead, and the "
        "pages that hold them.",
    ),
)


@click.command("survey")
@click.argument("starts", nargs=-1, metavar="URL…")
@_crawl_options
@click.option(
    "--staging",
    is_flag=True,
    help="The site is not public yet: that it is closed to search engines is one note.",
)
@click.option(
    "--again",
    "shown",
    default="",
    metavar="RUN",
    help="Ask nothing: show the audits of a survey again.",
)
@click.option(
    "--since",
    default="",
    metavar="RUN",
    help="Compare with an earlier survey: pages that were renamed become proposals, those that "
    "vanished open entries; with --as new they leave the stock.",
)
@click.option(
    "--by", type=click.Choice([SECTION, FAMILY]), default=SECTION, help="The parts of the site."
)
@click.option(
    "--list",
    "listed",
    default="",
    metavar="WHAT",
    help="List the rows of an outcome or a fault, such as moved.",
)
@click.option("--part", default="", metavar="NAME", help="With --list: of one part alone.")
@click.option(
    "--new",
    "only_new",
    is_flag=True,
    help="For cron: say only which links to mend are new or gone since the last survey there, and "
    "send it by the channels of [notify].",
)
@click.option(
    "--message", type=FILE, metavar="FILE.json", help="With --new: write what changed there, too."
)
@file_options
@click.option("--all", "all_rows", is_flag=True, help="List every address of every fault.")
@force_option
@json_option
@click.pass_obj
def command(
    folder: Path,
    starts: tuple[str, ...],
    crawl: Asked,
    staging: bool,
    shown: str,
    since: str,
    by: str,
    listed: str,
    part: str,
    only_new: bool,
    message: Path | None,
    files: SurveyFiles,
    all_rows: bool,
    as_json: bool,
) -> None:
    """Crawl a site from start addresses and its sitemaps, and audit what a relaunch breaks.

    \b
    upright survey http://www.quillhaven.example/ --as old --entries
    upright survey https://www.quillhaven.example/ --as new --staging \\
      --connect www.quillhaven.example=192.0.2.7
    upright survey https://staging.quillhaven.example/ --as new \\
      --publish-as https://quillhaven.example
    upright survey --again last --list moved --part /journal/
    upright survey --in content.sql --into mended/

    It keeps to the hosts of the starts and of the side it is of, and obeys robots.txt unless
    --own-site is said. A staging server is asked alone, robots.txt or not, and all that it shows
    is taken for what will be public. What stands in [survey] of upright.toml counts where no option
    says otherwise. Ctrl-C keeps what is done. Exit code 1 when an audit finds an error.
    """
    if files.pairs and not since:
        raise UsageError(
            "--pairs goes with --since", "such as --since before-launch --pairs pairs.csv"
        )
    if (shown and only_new) or (message is not None and not only_new):
        raise UsageError(
            "--new goes with addresses to start from, and --message with --new",
            "such as upright survey https://www.quillhaven.example/ --new",
        )
    if crawl.values["failing"] and crawl.values["resume"]:
        raise UsageError("--failing begins a survey, and --resume goes on with one", "give one")
    if files.exports and not shown and not starts:
        _mend_content(files.mend(open_ledger(folder)), files, as_json=as_json)
    if not shown and not starts:
        raise UsageError(
            "no address was given to start from",
            "such as upright survey https://www.quillhaven.example/",
        )
    kept, watch = None, None
    if shown:
        ledger = open_ledger(folder)
    else:
        with start_surveying() as surveying:
            ledger = open_ledger(folder)
            watch = LinkWatch(ledger, message) if only_new else None
            kept = _survey(ledger, starts, crawl, surveying, since, watch, as_json=as_json)
    result = audited(
        ledger,
        str(kept.run) if kept else shown,
        side=crawl.values["side"] or NEW,
        staging=staging or bool(crawl.values["publish_as"]),
        site=kept.site if kept else None,
        since=since,
        by=by,
    )
    proposed = (
        propose_renamings(ledger, result.renamed, result.name or str(result.run))
        if result.renamed
        else None
    )
    unsafe = files.write(result, proposed)
    if watch is not None:
        _say_new(ledger, watch, result.run, as_json=as_json)
    mended = files.mend(ledger, result) if files.exports else None
    if as_json:
        told: dict[str, Any] = mended.as_dict() if mended is not None else {}
        if listed:
            told["rows"] = [list(row) for row in result.parts(listed, part)]
        if proposed is not None:
            told["proposed"] = proposed.as_dict()
        output.json_out(result.as_dict() | told)
    elif mended is not None and files.into is not None:
        show_mended(mended, files.into)
    elif listed:
        show_rows(result, listed, part, all_rows=all_rows)
    else:
        if kept is not None:
            output.say(_done(kept))
        if result.renamed is not None and proposed is not None:
            show_renamed(
                result.renamed,
                proposed,
                result.at.split()[:1],
                all_rows=all_rows,
                pairs="--pairs FILE.csv",
            )
        show_survey(result, all_rows=all_rows)
    if not as_json and not listed:
        files.say(unsafe)
        _next(result.run, mends=bool(result.mends and files.mends is None), pairs=files.pairs)
    waiting = proposed is not None and bool(proposed.open)
    raise click.exceptions.Exit(
        1 if waiting or any(f.severity == Severity.ERROR for f in result.faults) else 0
    )


def _say_new(ledger: Ledger, watch: LinkWatch, run: int, *, as_json: bool) -> None:
    """Say and send what is new among the links to mend, and end: quiet where nothing is."""
    delivered = deliver(ledger, watch.file)
    if as_json:
        output.json_out({"run": run, "news": as_data(watch.news), **delivered.as_dict()})
    else:
        say_news(watch.news, watch.looked_at, watch.shown)
        say_sent(delivered)
    linked = any(n.kind == NewsKind.LINKED for n in watch.news)
    raise click.exceptions.Exit(say_failed(delivered) or int(linked))


def _mend_content(mended: MendedContent, files: SurveyFiles, *, as_json: bool) -> None:
    """Say what was put right in exported text, and end. Exit code 1 where dead links are left."""
    if as_json:
        output.json_out(mended.as_dict())
    else:
        show_mended(mended, files.into or Path())
        output.next_step("answer what leads nowhere, then do it again", "upright review")
    raise click.exceptions.Exit(1 if mended.named else 0)


def _next(run: int, *, mends: bool, pairs: Path | None) -> None:
    if pairs is not None:
        output.next_step("answer what was renamed", f"upright decide --from {pairs}")
    elif mends:
        output.next_step(
            "hand over the links to mend", f"upright survey --again {run} --mends links.csv"
        )
    else:
        output.next_step("see where you are", "upright")


def _survey(
    ledger: Ledger,
    starts: tuple[str, ...],
    crawl: Asked,
    surveying: Surveying,
    since: str,
    watch: LinkWatch | None,
    *,
    as_json: bool,
) -> Surveyed:
    """Run a survey to its end."""
    wanted = with_settings(crawl.values, crawl.given, ledger.settings.survey)
    own = {f.name for f in fields(SurveyRequest)} & wanted.keys()
    request = SurveyRequest(
        starts, since=since, **{name: wanted[name] for name in own if wanted[name] is not None}
    )
    begin = request.addresses
    wanted["agent"] = wanted["agent"] or "upright-ledger (survey)"
    hosts = [a.host for a in begin] if not wanted["connect"] else []
    manner = manner_of(wanted, hosts, begin)
    say_who_gets_the_login(manner)
    with output.progress_counts("surveying") as progress:
        kept = survey(ledger, request, manner, surveying, progress, watch)
    if not kept.stopped:
        return kept
    if as_json:
        output.json_out({"stopped": {"done": kept.counts.total(), "run": kept.run}})
    else:
        output.say(f"Stopped: {kept.counts.total():,} addresses are done and kept.")
        output.next_step(
            "go on where it stopped",
            "upright survey … --resume, with the same addresses and options",
        )
    raise click.exceptions.Exit(130)


def _done(kept: Surveyed) -> str:
    """What a survey did, in words."""
    asked = kept.counts.total() - kept.counts[CrawlOutcome.NOT_ASKED]
    fed = {
        OLD: f" {output.plural(kept.fed, 'new entry', 'new entries')} gathered.",
        NEW: f" {output.plural(kept.fed, 'page')} stocked.",
    }
    return (
        f"{output.plural(asked, 'address', 'addresses')} asked in {kept.seconds:.0f} "
        f"seconds.{fed.get(kept.side, '')}"
    )
