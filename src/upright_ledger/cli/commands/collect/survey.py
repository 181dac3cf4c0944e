"""upright survey"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from pathlib import Path
from typing import Any

import click
from click.core import ParameterSource

from upright_ledger.app.collect.moved_pages import propose_renamings, write_pairs
from upright_ledger.app.collect.surveys.audit import FAMILY, SECTION, audited
from upright_ledger.app.collect.surveys.crawling import Surveying, start_surveying
from upright_ledger.app.collect.surveys.rewrite_links import mend_files, moved_table
from upright_ledger.app.collect.surveys.survey import hosts_of, known_addresses, survey
from upright_ledger.app.collect.surveys.survey_export import (
    write_mends,
    write_replacements,
    write_survey,
)
from upright_ledger.cli.opening import open_ledger
from upright_ledger.cli.options.http import asking_options, manner_of, say_who_gets_the_login
from upright_ledger.cli.options.shared import FILE, force_option, json_option
from upright_ledger.cli.screens.renamed import show_renamed
from upright_ledger.cli.screens.survey import show_mended, show_rows, show_survey
from upright_ledger.cli.terminal import output
from upright_ledger.core.crawl.frontier import Limits
from upright_ledger.core.crawl.observation import CrawlOutcome
from upright_ledger.core.severity import Severity
from upright_ledger.core.url.address import Address, NotAnAddressError, parse_address
from upright_ledger.errors import UsageError
from upright_ledger.ledger.store import Ledger
from upright_ledger.settings.model import SurveySettings


@click.command("survey")
@click.argument("starts", nargs=-1, metavar="URL…")
@click.option(
    "--as",
    "side",
    type=click.Choice(["old", "new"]),
    default=None,
    help="Feed what is found to gather (old) or stock (new).",
)
@click.option(
    "--entries",
    "from_ledger",
    is_flag=True,
    help="Ask for what the ledger knows of that side, too.",
)
@click.option(
    "--own-site", is_flag=True, help="Go everywhere: robots.txt and nofollow are no bounds."
)
@click.option(
    "--staging",
    is_flag=True,
    help="The site is not public yet: that it is closed to search engines is one note.",
)
@click.option("--external", is_flag=True, help="Ask for the status of links to other sites, too.")
@click.option(
    "--host", "hosts", multiple=True, metavar="HOST", help="Another host that may be asked."
)
@click.option(
    "--sitemap",
    "sitemaps",
    multiple=True,
    metavar="URL",
    help="A sitemap besides those in the usual places.",
)
@click.option("--within", multiple=True, metavar="PATTERN", help="Only paths like /journal/*.")
@click.option("--without", multiple=True, metavar="PATTERN", help="No paths like /search*.")
@click.option(
    "--ignore", multiple=True, metavar="NAME", help="A parameter that makes no other page."
)
@click.option(
    "--depth", type=click.IntRange(0), default=None, help="Links from a start.  [default: 100]"
)
@click.option(
    "--most", type=click.IntRange(1), default=None, help="Addresses at most.  [default: 500,000]"
)
@asking_options
@click.option("--name", default="", metavar="NAME", help="Call this survey so, for comparing.")
@click.option("--resume", is_flag=True, help="Go on with the last survey there, which was stopped.")
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
    help="Compare with an earlier survey; pages that were renamed become proposals.",
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
    "--out",
    type=FILE,
    metavar="FILE",
    help="Keep all of it as .xlsx, or one row an address as .csv.",
)
@click.option(
    "--mends", type=FILE, metavar="FILE", help="Keep the links to mend, as .csv or .xlsx."
)
@click.option(
    "--replacements",
    type=FILE,
    metavar="FILE.csv",
    help="Keep what to search and replace in the content.",
)
@click.option(
    "--pairs",
    type=FILE,
    metavar="FILE.csv",
    help="Keep renamings without a redirect, for upright decide --from.",
)
@click.option(
    "--in",
    "exports",
    multiple=True,
    type=click.Path(path_type=Path, exists=True, dir_okay=False),
    metavar="FILE",
    help="Put the final addresses into a copy of exported text; with --into.",
)
@click.option(
    "--into",
    type=click.Path(path_type=Path, file_okay=False),
    metavar="DIR",
    help="Where those copies, and a diff, go.",
)
@click.option("--all", "all_rows", is_flag=True, help="List every address of every fault.")
@force_option
@json_option
@click.pass_context
def command(
    context: click.Context,
    /,
    starts: tuple[str, ...],
    side: str | None,
    from_ledger: bool,
    own_site: bool,
    staging: bool,
    external: bool,
    hosts: tuple[str, ...],
    sitemaps: tuple[str, ...],
    within: tuple[str, ...],
    without: tuple[str, ...],
    ignore: tuple[str, ...],
    depth: int | None,
    most: int | None,
    name: str,
    resume: bool,
    shown: str,
    since: str,
    by: str,
    listed: str,
    part: str,
    out: Path | None,
    mends: Path | None,
    replacements: Path | None,
    pairs: Path | None,
    exports: tuple[Path, ...],
    into: Path | None,
    all_rows: bool,
    as_json: bool,
    **how: Any,
) -> None:
    """Crawl a site from start addresses and its sitemaps, and audit what a relaunch breaks.

    \b
    upright survey http://www.quillhaven.example/ --as old --entries
    upright survey https://www.quillhaven.example/ --as new --staging \\
      --connect www.quillhaven.example=192.0.2.7
    upright survey --again last --list moved --part /journal/

    It keeps to the hosts of the starts and of the side it is of, and obeys robots.txt unless
    --own-site is said. What stands in [survey] of upright.toml counts where no option says
    otherwise. Ctrl-C keeps what is done. Exit code 1 when an audit finds an error.
    """
    if bool(exports) != bool(into):
        raise UsageError("--in and --into go together", "such as --in export.sql --into mended/")
    if pairs and not since:
        raise UsageError(
            "--pairs goes with --since", "such as --since before-launch --pairs pairs.csv"
        )
    if not shown and not starts:
        raise UsageError(
            "no address was given to start from",
            "such as upright survey https://www.quillhaven.example/",
        )
    if shown:
        ledger, asked, site, fed = open_ledger(context.obj), shown, None, ""
    else:
        options = {
            "hosts": hosts, "within": within, "without": without, "ignore": ignore, "depth": depth,
            "most": most, "own_site": own_site,
            "external": external, **how,
        }  # fmt: skip
        with start_surveying() as surveying:
            ledger = open_ledger(context.obj)
            wanted = _wanted(context, ledger.settings.survey, options)
            asked, site, fed = _crawl(
                ledger,
                starts,
                wanted,
                sitemaps,
                side,
                surveying,
                from_ledger=from_ledger,
                name=name,
                resume=resume,
                as_json=as_json,
            )
    result = audited(
        ledger, asked, side=side or "new", staging=staging, site=site, since=since, by=by
    )
    proposed = (
        propose_renamings(ledger, result.renamed.renamings, result.name or str(result.run))
        if result.renamed
        else None
    )
    if out is not None:
        write_survey(result, out)
    if mends is not None:
        write_mends(result, mends)
    if replacements is not None:
        write_replacements(result, replacements)
    if pairs is not None and result.renamed is not None and proposed is not None:
        write_pairs(pairs, result.renamed, proposed)
    mended = mend_files(exports, moved_table(result.site), into) if into is not None else []
    if as_json:
        told: dict[str, Any] = {}
        if mended:
            told["mended"] = [
                {"file": str(m.file), "changes": m.changes, "left": m.left} for m in mended
            ]
        if listed:
            told["rows"] = [list(row) for row in result.parts(listed, part)]
        if proposed is not None:
            told["proposed"] = proposed.as_dict()
        output.json_out(result.as_dict() | told)
    elif mended and into is not None:
        show_mended(mended, into)
    elif listed:
        show_rows(result, listed, part, all_rows=all_rows)
    else:
        if fed:
            output.say(fed)
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
        for path, what in (
            (out, "All of it"), (mends, "Every link to mend"),
            (replacements, "What to search and replace"), (pairs, "Every pair"),
        ):  # fmt: skip
            if path is not None:
                output.say(f"{what} is in {path}.")
        _next(result.run, mends=bool(result.mends and mends is None), pairs=pairs)
    raise click.exceptions.Exit(
        1 if any(f.severity == Severity.ERROR for f in result.faults) else 0
    )


def _next(run: int, *, mends: bool, pairs: Path | None) -> None:
    if pairs is not None:
        output.next_step("answer what was renamed", f"upright decide --from {pairs}")
    elif mends:
        output.next_step(
            "hand over the links to mend", f"upright survey --again {run} --mends links.csv"
        )
    else:
        output.next_step("see where you are", "upright")


def _wanted(
    context: click.Context, settings: SurveySettings, options: Mapping[str, Any]
) -> dict[str, Any]:
    """The options, and where none was given what the settings say."""
    found = dict(options)
    for key in SurveySettings.__struct_fields__:
        value = getattr(settings, key)
        given = context.get_parameter_source(key) not in {ParameterSource.DEFAULT, None}
        if not given and value not in {None, ()}:
            found[key] = value
    return found


def _crawl(
    ledger: Ledger,
    starts: tuple[str, ...],
    wanted: Mapping[str, Any],
    sitemaps: tuple[str, ...],
    side: str | None,
    surveying: Surveying,
    *,
    from_ledger: bool,
    name: str,
    resume: bool,
    as_json: bool,
) -> tuple[str, Any, str]:
    """Run a survey; its number, what is kept of it for the audits, and what it did in words."""
    from upright_ledger.core.crawl.audits.server_setup import probes
    from upright_ledger.web.http.crawler import PAGE_BYTES, Start
    from upright_ledger.web.http.tracer import Target

    begin = tuple(map(_address, starts))
    agent = wanted["agent"] or "upright-ledger (survey)"
    manner = manner_of(
        {**wanted, "agent": agent}, [a.host for a in begin] if not wanted["connect"] else [], begin
    )
    say_who_gets_the_login(manner)
    usual = Limits(frozenset())
    limits = Limits(
        hosts_of(ledger, side or "", begin) | {_address(h).authority for h in wanted["hosts"]},
        wanted["most"] or usual.most,
        usual.depth if wanted["depth"] is None else wanted["depth"], wanted["within"],
        wanted["without"],
        frozenset({n.lower() for n in wanted["ignore"]} | ledger.settings.policy.noise_parameters),
    )  # fmt: skip
    where = Start(
        begin,
        tuple(map(_address, sitemaps)),
        known_addresses(ledger, side or "new") if from_ledger else (),
        tuple(_address(p) for a in dict.fromkeys(b.origin for b in begin) for p in probes(a)),
    )
    with output.progress_counts("surveying") as progress:
        kept = survey(
            ledger, where, limits, Target(limits.hosts, None, ledger.settings.policy.index_set),
            replace(manner, body=PAGE_BYTES), surveying, side=side or "",
            own_site=wanted["own_site"],
            external=wanted["external"], name=name, resume=resume, progress=progress,
        )  # fmt: skip
    if kept.stopped:
        if as_json:
            output.json_out({"stopped": {"done": kept.counts.total(), "run": kept.run}})
            raise click.exceptions.Exit(130)
        output.say(f"Stopped: {kept.counts.total():,} addresses are done and kept.")
        output.next_step(
            "go on where it stopped",
            "upright survey … --resume, with the same addresses and options",
        )
        raise click.exceptions.Exit(130)
    asked = kept.counts.total() - kept.counts[CrawlOutcome.NOT_ASKED]
    fed = {
        "old": f" {output.plural(kept.fed, 'new entry', 'new entries')} gathered.",
        "new": f" {output.plural(kept.fed, 'page')} stocked.",
    }
    told = (
        f"{output.plural(asked, 'address', 'addresses')} asked in {kept.seconds:.0f} "
        f"seconds.{fed.get(side or '', '')}"
    )
    return str(kept.run), kept.site, told


def _address(text: str) -> Address:
    try:
        return parse_address(text)
    except NotAnAddressError as error:
        raise UsageError(
            f"{text} cannot be used: {error}", "such as https://www.quillhaven.example/"
        ) from None
