"""The crawl of a survey, in a process of its own, which loads no more than it needs."""

from __future__ import annotations

from upright_ledger.app.collect.surveys.page_reader import page_reader
from upright_ledger.app.worker_process import Few, Put, WorkerProcess, is_ending
from upright_ledger.core.crawl.observation import Observation
from upright_ledger.web.http.crawler import CrawlPlan, crawl

_PATIENCE = 0.1  # seconds
_AT_ONCE = 50  # pages

Surveying = WorkerProcess[list[tuple[Observation, bytes]]]
"""What was seen of addresses, and what their pages say, packed."""


def start_surveying() -> Surveying:
    """The process that crawls, to be started before all else."""
    return Surveying(_crawl, parent=True)


def _crawl(
    put: Put,
    plan: CrawlPlan,
    before: list[Observation],
) -> None:
    """Crawl, handing over what was seen a few pages at a time."""
    few = Few[tuple[Observation, bytes]](put, _AT_ONCE, _PATIENCE)

    def done(seen: Observation, facts: bytes) -> None:
        few.found.append((seen, facts))

    with page_reader() as reader:
        crawl(plan, reader, done, before=before, meanwhile=few.hand_over, ending=is_ending)
    put(few.found)
