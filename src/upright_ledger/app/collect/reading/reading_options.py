"""How the files of a ledger are read: what a reader should know of its hosts."""

from __future__ import annotations

from dataclasses import replace

from upright_ledger.core.inventory.normalisation import FoldingPolicy
from upright_ledger.core.url.address import NotAnAddressError, parse_address
from upright_ledger.core.url.origins import Sites
from upright_ledger.errors import UsageError
from upright_ledger.formats.records import ReadOptions

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
