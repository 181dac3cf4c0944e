"""Surveying: a crawl that is kept, goes on after a stop, and feeds gather or stock."""

from __future__ import annotations

import csv
import time
from collections import Counter
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field

from upright_ledger.app.collect.surveys.crawling import Surveying
from upright_ledger.app.collect.surveys.link_watch import LinkWatch, without_failing
from upright_ledger.app.collect.surveys.page_reader import unpacked
from upright_ledger.app.collect.surveys.survey_request import NEW, OLD, SurveyRequest
from upright_ledger.core.crawl.audits.site_index import SurveyedSite
from upright_ledger.core.crawl.frontier import NotAsked
from upright_ledger.core.crawl.observation import OUTCOMES, CrawlOutcome, Observation
from upright_ledger.core.inventory.noise import NO_SUCH_PAGE
from upright_ledger.core.tracing.missing_titles import says_it_is_none
from upright_ledger.core.tracing.run_kind import RunKind
from upright_ledger.core.url.address import parse_address, split_text
from upright_ledger.errors import InputError, UprightError, UsageError
from upright_ledger.formats.files.leftovers import temporary_folder
from upright_ledger.formats.records import ReadOptions
from upright_ledger.ledger.store import Ledger
from upright_ledger.ledger.tables.runs.crawl_blocks import add_seen, load_seen
from upright_ledger.ledger.tables.runs.runs import (
    begin_run,
    find_run,
    finish_run,
    hold,
    last_run,
    name_run,
    new_owner,
    open_run,
    take_over,
)
from upright_ledger.ledger.tables.sources import source_of_survey
from upright_ledger.ledger.tables.stock import find_stocked
from upright_ledger.web.http.interrupts import interrupts
from upright_ledger.web.http.options import RequestOptions

COMMIT_SECONDS = 0.25
HEARD_SECONDS = 20.0
"""After so long it says that it is still at the run, though nothing was seen."""
_PATIENCE = 0.1  # seconds

Progress = Callable[[int, int, Counter[str]], None]


@dataclass
class Surveyed:
    """A survey that was kept. side: OLD, NEW or empty; fed: entries or pages that it added to the
    ledger; counts: addresses by outcome; site: what the audits keep of them.
    """

    run: int
    side: str
    name: str = ""
    at: str = ""
    counts: Counter[str] = field(default_factory=Counter)
    fed: int = 0
    seconds: float = 0.0
    stopped: bool = False
    site: SurveyedSite = field(default_factory=SurveyedSite)


def survey(
    ledger: Ledger,
    request: SurveyRequest,
    manner: RequestOptions,
    surveying: Surveying,
    progress: Progress | None = None,
    watch: LinkWatch | None = None,
) -> Surveyed:
    """Crawl, keep what was seen, and feed the side of the ledger it is of. Ctrl-C keeps what is
    done (`stopped`). watch: tells what changed since the last survey there.
    """
    plan, side, name = request.plan(ledger, manner), request.side, request.name
    if request.since:
        with ledger.reading() as connection:
            if find_run(connection, request.since, RunKind.SURVEY) is None:
                raise UsageError(f"there is no survey {request.since!r}", "upright runs lists them")
    publishing = plan.publishing
    at = (
        publishing.public
        if publishing is not None
        else " ".join(dict.fromkeys(a.origin for a in plan.start.addresses))
    )
    owner = new_owner()
    run, last, before = _begin(ledger, at, owner, request)
    result = Surveyed(run, side, name, at, Counter(s.outcome for s in before))
    for seen in before:
        result.site.add(seen)
    began = saved = time.monotonic()
    waiting: list[Observation] = []
    unread = ""
    error: UprightError | None = None
    surveying.begin([(plan, before)])
    with interrupts() as interrupted:
        while not surveying.ended:
            if interrupted() and not result.stopped:
                result.stopped = True
                surveying.stop()
            try:
                found = surveying.next(_PATIENCE) or ()
            except UprightError as raised:
                found, error = (), error or raised
                surveying.stop()
            for plain, facts in found:
                seen = plain._replace(facts=unpacked(facts)) if facts else plain
                seen = publishing.seen(seen) if publishing is not None else seen
                waiting.append(seen)
                result.counts[seen.outcome] += 1
                result.site.add(seen)
                unread = seen.error if seen.reason == NotAsked.UNREAD else unread
            if progress is not None:
                progress(result.counts.total(), 0, result.counts)
            if time.monotonic() - saved >= (COMMIT_SECONDS if waiting else HEARD_SECONDS):
                _save(ledger, run, owner, waiting)
                waiting, saved = [], time.monotonic()
        _save(ledger, run, owner, waiting)
    result.seconds = time.monotonic() - began
    if error is not None and result.counts:
        raise InputError(
            f"{result.counts.total():,} addresses are done and kept: {error}",
            "`upright survey … --resume`, with the same addresses and options, goes on where it "
            "stopped",
        )
    if error is not None:
        raise error
    if result.stopped and not request.alone:
        return result  # with a list of pages what was not asked is asked the next time
    if unread and all(line.reason == NotAsked.UNREAD for line in result.site.lines.values()):
        raise InputError(
            f"nothing could be asked for at {at}, since its robots.txt could not be read: {unread}",
            "check the address and that the server runs"
            + ("" if request.alone else ", or say --own-site where you may go everywhere"),
        )
    with ledger.writing() as connection:
        finish_run(connection, run, {o: result.counts[o] for o in OUTCOMES if result.counts[o]})
        if name:
            name_run(connection, run, name)
        if watch is not None:
            watch.close(connection, last, result.site)
    if side:
        result.fed = _feed(ledger, run, request, _missing_pages(result.site))
    return result


def _save(ledger: Ledger, run: int, owner: str, seen: Sequence[Observation]) -> None:
    with ledger.writing() as connection:
        hold(connection, run, owner)
        add_seen(connection, run, seen)


def _begin(
    ledger: Ledger, at: str, owner: str, request: SurveyRequest
) -> tuple[int, int | None, list[Observation]]:
    """The number of the survey, that of the last one there, and what was seen already."""
    with ledger.writing() as connection:
        earlier = last_run(connection, RunKind.SURVEY, at)
        last = earlier.id if earlier is not None else None
        if request.resume:
            stopped = open_run(connection, RunKind.SURVEY, at)
            if stopped is None:
                raise UsageError(f"no survey of {at} was stopped", "start one without --resume")
            take_over(connection, stopped, owner)
            return stopped.id, last, list(load_seen(connection, stopped.id))
        before: list[Observation] = []
        if request.failing:
            found = find_run(connection, request.failing, RunKind.SURVEY)
            if found is None or found.at != at:
                raise UsageError(
                    f"there is no survey {request.failing!r} of {at}", "upright runs lists them"
                )
            before = without_failing(load_seen(connection, found.id), ledger.settings)
        run = begin_run(connection, RunKind.SURVEY, "", at, owner=owner)
        add_seen(connection, run, before)
        return run, last, before


def _feed(ledger: Ledger, run: int, request: SurveyRequest, missing: frozenset[str]) -> int:
    """Gather what answered, moved or failed as old URLs, or stock what answered and moved as
    pages. missing: digests of texts that say that there is no page.
    """
    side = request.side
    wanted = (
        (CrawlOutcome.ANSWERED, CrawlOutcome.MOVED, CrawlOutcome.FAILING, CrawlOutcome.REFUSED)
        if side == OLD
        else (CrawlOutcome.ANSWERED, CrawlOutcome.MOVED)
    )
    with temporary_folder() as held:
        file = held / source_of_survey(run)
        with ledger.reading() as connection, file.open("w", encoding="utf-8", newline="") as out:
            writer = csv.writer(out)
            writer.writerow(
                (
                    "url",
                    "status",
                    "title",
                    "h1",
                    "description",
                    "language",
                    "canonical",
                    "indexable",
                    "redirects_to",
                )
            )
            rows = 0
            for seen in load_seen(connection, run):
                facts = seen.facts
                is_page = (
                    seen.status != 200
                    or seen.content_type.partition(";")[0].strip().lower() in _PAGES
                )
                if side == NEW and _is_soft(seen, missing):
                    continue  # a page that says that nothing is there is nothing to lead to
                if seen.outcome in wanted and is_page and _feeds(ledger, seen.url, side):
                    rows += 1
                    writer.writerow(
                        (
                            seen.url, seen.status, facts.title, facts.heading, facts.description,
                            facts.language, facts.canonical,
                            "no" if seen.noindex else "yes", seen.location,
                        )
                    )  # fmt: skip
        if not rows:
            return 0
        if side == OLD:
            from upright_ledger.app.collect.gather import gather  # with all formats of logs

            return sum(
                s.new_entries
                for s in gather(ledger, [str(file)], ReadOptions(kind="table")).sources
            )
        from upright_ledger.app.collect.stock import stock

        with ledger.reading() as connection:
            before = find_run(connection, request.since, RunKind.SURVEY) if request.since else None
            replaced = find_stocked(connection, source_of_survey(before.id)) if before else 0
        return sum(s.accepted for s in stock(ledger, [file], replaced=replaced)[0])


def _missing_pages(site: SurveyedSite) -> frozenset[str]:
    """Digests of the texts that the site shows, with a status of success, where no page can be."""
    return frozenset(
        line.digest
        for url, line in site.probes.items()
        if line.status == _FOUND and line.digest and split_text(url)[2] == NO_SUCH_PAGE
    )


def _is_soft(seen: Observation, missing: frozenset[str]) -> bool:
    """Whether a page with a status of success says that it is none."""
    if seen.status != _FOUND:
        return False
    return seen.facts.digest in missing or says_it_is_none(seen.facts.title or seen.facts.heading)


_FOUND = 200
_PAGES = frozenset(["text/html", "application/xhtml+xml", "application/pdf", ""])


def _feeds(ledger: Ledger, url: str, side: str) -> bool:
    address = parse_address(url)
    sites = ledger.settings.sites
    return bool(sites.site_of(address)) if side == OLD else sites.is_new(address)
