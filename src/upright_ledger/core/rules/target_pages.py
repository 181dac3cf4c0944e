"""The pages to which rules may lead: what is known of each, and which one is at an address."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import NamedTuple

from upright_ledger.core.url.address import Address
from upright_ledger.core.url.origins import Sites
from upright_ledger.core.url.request_target import canonical_path


class StockPage(NamedTuple):
    """What is known of a destination: its status (0: not asked yet), where it redirects to, and
    whether it is still to be published.
    """

    status: int
    redirects_to: str = ""
    planned: bool = False


class Pages:
    """The pages of the new site by their address, whatever the scheme; a query counts only where
    the stock says so.
    """

    def __init__(self, stock: Mapping[str, StockPage], sites: Sites) -> None:
        """stock: page key → page."""
        self._sites = sites
        self._found = {
            key.partition("://")[2]: page for key, page in stock.items() if key.startswith("http:")
        }
        self._found |= {
            key.partition("://")[2]: page for key, page in stock.items() if key.startswith("https:")
        }

    def at(self, address: Address) -> StockPage | None:
        """The page at an address, or None."""
        if not self._found or not self._sites.is_new(address):
            return None
        path = f"{address.authority}{canonical_path(address.path)}"
        return (
            self._found.get(f"{path}?{address.query}") if address.query else None
        ) or self._found.get(path)

    def named(self, names: Sequence[str]) -> list[StockPage | None]:
        """As `at`, for hosts of the new site with paths in their canonical form ("host/path"), and
        perhaps a query.
        """
        if not self._found:
            return [None] * len(names)
        get = self._found.get
        return [
            get(name) or (get(name.partition("?")[0]) if "?" in name else None) for name in names
        ]
