"""How the files of a ledger are read: its hosts, and addresses that tables name as failing."""

from __future__ import annotations

from dataclasses import replace
from urllib.parse import parse_qs

from upright_ledger.core.inventory import noise
from upright_ledger.core.inventory.evidence import BAD_REDIRECT, Asker, Figure, status_class
from upright_ledger.core.inventory.normalisation import FoldingPolicy
from upright_ledger.core.inventory.packed import pack_days
from upright_ledger.core.inventory.units import ASKED, VISITS
from upright_ledger.core.url.address import NotAnAddressError, parse_address
from upright_ledger.core.url.origins import Sites
from upright_ledger.errors import UsageError
from upright_ledger.formats.records import Aside, Item, ReadOptions, Record


def as_failing(item: Item, parameter: str) -> Item:
    """What a list of errors says of an address, as failing requests. parameter: the one of the
    address that holds the failing address.
    """
    if not isinstance(item, Record) or item.sent:
        return item
    url = item.url
    if parameter:
        values = parse_qs(url.partition("?")[2].partition("#")[0]).get(parameter)
        if not values:
            return Aside(item.line, noise.AsideClass.PROSE, url, item.lines)
        url = values[0]
    kind = item.failure or _class_of_failure(item.status)
    told = [
        f._replace(status_class=kind, agent=Asker.PEOPLE) for f in item.figures if f.unit in ASKED
    ]
    rest = [f for f in item.figures if f.unit not in ASKED]
    if item.day:
        told = [f if f.days else f._replace(days=pack_days({item.day: f.amount})) for f in told]
    return replace(
        item, url=url, figures=[*(told or [Figure(VISITS, 0.0, kind, Asker.PEOPLE)]), *rest]
    )


def _class_of_failure(status: int) -> str:
    """The class of a status that a list of errors gives; whatever it says else, its rows fail."""
    found = status_class(status)
    return found if found in {"410", "5xx"} else BAD_REDIRECT if found == "3xx" else "404"


ALL_HOSTS = "*"
"""Named in place of a host where the rules of a server's file are for all old sites."""


def base_origin(sites: Sites, host: str) -> str:
    """The origin in which bare paths are read: the named host's, or the first old origin."""
    if host in {"", ALL_HOSTS}:
        return sites.old[0].origins[0]
    try:
        address = parse_address(host if "://" in host else f"http://{host}")
    except NotAnAddressError as error:
        raise UsageError(f"{host!r} is no host: {error}") from None
    if not sites.site_of(address):
        raise UsageError(
            f"{host} belongs to no old site of this ledger",
            f"these do: {', '.join(sorted(sites.site_of_authority))}",
        )
    return address.origin


def options_for(options: ReadOptions, sites: Sites, policy: FoldingPolicy) -> ReadOptions:
    """What a reader should know of the ledger besides what the user says."""
    return replace(options, hosts=frozenset(sites.site_of_authority), noise=policy.noise_names)
