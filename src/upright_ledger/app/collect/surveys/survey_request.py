"""What a survey is asked for, and where it goes for that."""

from __future__ import annotations

from collections.abc import Collection, Mapping
from dataclasses import dataclass, replace
from typing import Any

from upright_ledger.app.move_state import MoveState
from upright_ledger.app.request_list import own_requests
from upright_ledger.core.crawl.audits.server_setup import probes
from upright_ledger.core.crawl.frontier import Limits
from upright_ledger.core.crawl.publishing import Publishing
from upright_ledger.core.url.address import Address, NotAnAddressError, address_of, parse_address
from upright_ledger.core.url.origins import Sites
from upright_ledger.errors import UsageError
from upright_ledger.ledger.store import Ledger
from upright_ledger.settings.model import SurveySettings
from upright_ledger.web.http.crawler import PAGE_BYTES, CrawlPlan, Start
from upright_ledger.web.http.options import RequestOptions
from upright_ledger.web.http.tracer import Target

OLD, NEW = "old", "new"


@dataclass(frozen=True)
class SurveyRequest:
    """A survey from some addresses on. side: OLD, NEW or empty, which the ledger is fed with; its
    hosts may be asked, those of the starts, and hosts. from_ledger: what the ledger knows of that
    side is asked for, too. sitemaps: besides those in the usual places. within, without: path
    patterns that addresses must, and must not, fit. ignore: parameters that make no other page.
    depth: links from a start; most: addresses; None: as usual. own_site: robots.txt and nofollow
    are no bounds. external: the status of links to other sites is asked for. name: of the survey.
    resume: go on with the last one there, which was stopped. publish_as: the origin at which the
    site is public, where the starts are of a staging server. since: an earlier survey, whose pages
    leave the stock for those of this one. failing: an earlier survey, of which only what
    `link_watch.without_failing` leaves out is asked again. alone: the starts are asked, and nothing
    that they lead to.
    """

    starts: tuple[str, ...]
    side: str = ""
    from_ledger: bool = False
    sitemaps: tuple[str, ...] = ()
    hosts: tuple[str, ...] = ()
    within: tuple[str, ...] = ()
    without: tuple[str, ...] = ()
    ignore: tuple[str, ...] = ()
    depth: int | None = None
    most: int | None = None
    own_site: bool = False
    external: bool = False
    name: str = ""
    resume: bool = False
    publish_as: str = ""
    since: str = ""
    failing: str = ""
    alone: bool = False

    @property
    def addresses(self) -> tuple[Address, ...]:
        """The starts. Raises UsageError."""
        return tuple(map(read_address, self.starts))

    def plan(self, ledger: Ledger, manner: RequestOptions) -> CrawlPlan:
        """Where the crawl goes, and how. Raises UsageError for what is no address."""
        settings, begin, usual = ledger.settings, self.addresses, Limits(frozenset())
        publishing = self._publishing(settings.sites)
        self._refuse_other_side(settings.sites, publishing)
        sides = {OLD: settings.sites.site_of_authority.keys(), NEW: settings.sites.new_authorities}
        if publishing is not None:
            sides = {}  # none of the public hosts is asked
        hosts = {a.authority for a in (*begin, *map(read_address, self.hosts))}
        limits = Limits(
            frozenset(hosts | set(sides.get(self.side, ()))),
            self.most or usual.most,
            usual.depth if self.depth is None else self.depth,
            self.within,
            self.without,
            frozenset(n.lower() for n in self.ignore) | settings.policy.noise_parameters,
        )
        origins = dict.fromkeys(b.origin for b in begin)
        start = Start(
            begin,
            tuple(map(read_address, self.sitemaps)),
            _known_addresses(ledger, self.side or NEW) if self.from_ledger else (),
            ()
            if self.alone
            else tuple(read_address(probe) for origin in origins for probe in probes(origin)),
            self.alone,
        )
        place = Target(limits.hosts, None, settings.policy.index_set)
        manner = replace(manner, body=PAGE_BYTES)
        own_site = self.own_site or publishing is not None
        return CrawlPlan(start, limits, place, manner, own_site, self.external, publishing)

    def _publishing(self, sites: Sites) -> Publishing | None:
        if not self.publish_as:
            return None
        public, places = read_address(self.publish_as), {a.origin for a in self.addresses}
        if not sites.is_new(public) and not sites.site_of(public):
            known = ", ".join([*sites.new, *(o for site in sites.old for o in site.origins)])
            raise UsageError(f"{public.origin} is no origin of this ledger", f"these are: {known}")
        if len(places) > 1:
            raise UsageError(
                f"--publish-as is of one staging server, not of {' and '.join(sorted(places))}",
                "survey each of them by itself",
            )
        return Publishing(places.pop(), public.origin)

    def _refuse_other_side(self, sites: Sites, publishing: Publishing | None) -> None:
        """Refuse to feed a side of the ledger with pages that are none of its."""
        if not self.side:
            return
        places = [read_address(publishing.public)] if publishing is not None else self.addresses
        is_of_side = sites.is_new if self.side == NEW else sites.site_of
        if any(map(is_of_side, places)):
            return
        own = sites.new if self.side == NEW else [o for s in sites.old for o in s.origins]
        raise UsageError(
            f"--as {self.side} would keep nothing: {places[0].origin} is none of the {self.side} "
            f"origins, which are {', '.join(own)}",
            f"of a staging server, say where it will be public: --publish-as {own[0]}",
        )


def with_settings(
    options: Mapping[str, Any], given: Collection[str], settings: SurveySettings
) -> dict[str, Any]:
    """Options, and where none was given what the settings say. given: names of those that were."""
    found = dict(options)
    for key in SurveySettings.__struct_fields__:
        value = getattr(settings, key)
        if key not in given and value not in {None, ()}:
            found[key] = value
    return found


def read_address(text: str) -> Address:
    """An address that somebody gave. Raises UsageError."""
    try:
        return parse_address(text)
    except NotAnAddressError as error:
        raise UsageError(
            f"{text} cannot be used: {error}", "such as https://www.quillhaven.example/"
        ) from None


def _known_addresses(ledger: Ledger, side: str) -> tuple[Address, ...]:
    """What the ledger knows of a side: the addresses of its entries, the most valuable first, or
    the pages in stock.
    """
    move = MoveState(ledger)
    if side == OLD:
        return tuple(address_of(url) for url in own_requests(move).urls)
    return tuple(parse_address(page.url) for page in move.stock.values())
