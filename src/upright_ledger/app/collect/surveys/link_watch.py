"""Watching links: what is new among the links to mend since the last survey of a site, and which
addresses tell it.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field
from pathlib import Path

from upright_ledger.app.messages import keep_message
from upright_ledger.core.crawl.audits.link_news import LinkNews, asked_again, link_news
from upright_ledger.core.crawl.audits.site_index import (
    ExpectedSite,
    LinkToMend,
    SurveyedSite,
    is_dead,
)
from upright_ledger.core.crawl.observation import Observation
from upright_ledger.core.monitoring.changes import LINKED, UNLINKED, Item, News, NewsKind
from upright_ledger.ledger.db.connection import Connection
from upright_ledger.ledger.store import Ledger
from upright_ledger.ledger.tables.runs.crawl_blocks import load_seen
from upright_ledger.settings.model import Settings

_NAMED = 3  # pages of one address, in a message


@dataclass
class LinkWatch:
    """Tells what changed since an earlier survey (None: there was none), within the transaction
    that ends the new one. file: where the message is written, too. news: what changed.
    """

    ledger: Ledger
    file: Path | None = None
    news: list[News] = field(default_factory=list)
    looked_at: str = ""
    shown: str = "upright survey --again last --mends FILE.csv"

    def close(self, connection: Connection, before: int | None, site: SurveyedSite) -> None:
        """Compare the links to mend with those of a survey by its number, and keep the message."""
        earlier = SurveyedSite()
        for seen in load_seen(connection, before) if before is not None else ():
            earlier.add(seen)
        links = link_news(
            mends_of(earlier, self.ledger.settings),
            mends_of(site, self.ledger.settings),
            lambda link: _is_looked_at(link, site),
        )
        self.news = [_as_news(n) for n in links]
        self.looked_at = f"{len(site.lines) + len(site.external):,} addresses looked at."
        if self.news:
            read, shown = self.looked_at, self.shown
            keep_message(connection, self.ledger, self.news, read, shown, self.file)


def _is_looked_at(link: LinkToMend, site: SurveyedSite) -> bool:
    """Whether a survey shows that a link of an earlier one is none any more: its address answers,
    or its page does, or is gone.
    """
    target = site.lines.get(link.target) or site.external.get(link.target)
    if target is not None and not is_dead(target):
        return True
    page = site.lines.get(link.source)
    return page is not None and (not is_dead(page) or page.status in _GONE)


_GONE = frozenset([404, 410])


def mends_of(site: SurveyedSite, settings: Settings) -> list[LinkToMend]:
    """The links to mend of a survey, but for those that the settings say are all right."""
    site.settle()
    return ExpectedSite("", ignored=settings.links.ignored).to_mend(site)


def without_failing(seen: Iterable[Observation], settings: Settings) -> list[Observation]:
    """What an earlier survey saw, without the addresses that are to be asked again: those that
    failed, those to which links lead that are to be mended, and the pages that hold these.
    """
    kept, site = list(seen), SurveyedSite()
    for one in kept:
        site.add(one)
    again = asked_again(mends_of(site, settings))
    failed = {
        url for place in (site.lines, site.external) for url, line in place.items() if is_dead(line)
    }
    return [one for one in kept if one.url not in again and one.url not in failed]


def _as_news(news: LinkNews) -> News:
    first = news.links[0]
    if news.mended:
        item = Item(0, news.target, UNLINKED, 0.0, f"before: {_pages(news)}")
        return News(NewsKind.UNLINKED, item)
    answers = f"answers {first.status}" if first.status else "does not answer"
    item = Item(0, news.target, LINKED, 0.0, f"{answers}; {_pages(news)}", "", first.final)
    return News(NewsKind.LINKED, item)


def _pages(news: LinkNews) -> str:
    named = [
        f"{link.source}{f' (“{link.text}”)' if link.text else ''}" for link in news.links[:_NAMED]
    ]
    more = news.pages - len(named)
    beyond = f", and on {more:,} more {'page' if more == 1 else 'pages'}" if more > 0 else ""
    return f"on {', '.join(named)}{beyond}"
