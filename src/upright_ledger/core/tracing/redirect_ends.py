"""Where redirects of a rule set end, by what is known of the pages."""

from __future__ import annotations

from upright_ledger.core.rules.ruleset import RuleSet
from upright_ledger.core.rules.target_pages import Pages, StockPage
from upright_ledger.core.tracing.verdicts import is_language_home
from upright_ledger.core.url.address import address_of, split_text
from upright_ledger.core.url.origins import Sites

_MOST_KEPT = 1 << 17
NO_END = -1
"""In the place of a status: a redirect may lead on, fail, or end at a front page."""


class RedirectEnds:
    """A rule set, with what is known of the pages to which it leads."""

    def __init__(self, rules: RuleSet, sites: Sites, pages: Pages) -> None:
        self.rules = rules
        self.sites = sites
        self.pages = pages
        self._known: dict[str, int] = {}

    def of(self, location: str) -> int:
        """The status of the page at a location, 0 where nothing is known of it; NO_END where it may
        lead on, fails, or is a front page.

        It lies on no old host, so that a redirect to it changes more than a slash.
        """
        known = self._known.get(location)
        if known is None:
            known = self._look_at(location)
            if len(self._known) < _MOST_KEPT:
                self._known[location] = known
        return known

    def _look_at(self, location: str) -> int:
        _, authority, target = split_text(location)
        if (
            authority in self.rules.site_of
            or authority not in self.sites.new_authorities
            or "#" in target
            or target == "/"
            or target[:2] == "/?"
            or is_language_home(target.partition("?")[0])
        ):
            return NO_END
        return status_at(self.pages.at(address_of(location)))


def status_at(page: StockPage | None) -> int:
    """The status of a page where a redirect ends, 0 where nothing is known of it; NO_END where it
    leads on or fails.
    """
    status = (page.status or 200) if page is not None else 0
    return status if status < 300 else NO_END
